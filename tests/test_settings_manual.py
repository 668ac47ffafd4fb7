"""The manual of settings names every key, and its example works."""

import re
from pathlib import Path

import pytest

from mantisreed.destinations.actions import Copy, Mail, Program, Rows, Webhook
from mantisreed.destinations.rules import FollowUp
from mantisreed.errors import SettingsError
from mantisreed.services.card import TextLimits, TextPrice, TextRateLimit, TextReply
from mantisreed.settings import Callbacks, LedgerPlace, Settings
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.workspace import open_workspace

MANUAL = (Path(__file__).parent.parent / "docs" / "settings.md").read_text(encoding="utf-8")


def test_every_key_is_in_the_manual() -> None:
    named = set(re.findall(r"`([a-z_]+)`", MANUAL))
    for table in (Settings, LayoutRules, Callbacks, LedgerPlace):
        assert set(table.__struct_fields__) <= named


def test_every_key_of_flows_is_in_their_manual() -> None:
    docs = Path(__file__).parent.parent / "docs"
    page = "".join((docs / name).read_text() for name in ("flows.md", "text-services.md"))
    named = set(re.findall(r"`([a-z_]+)`", page))
    for table in (
        FollowUp,
        Mail,
        Webhook,
        Copy,
        Rows,
        Program,
        TextLimits,
        TextPrice,
        TextRateLimit,
        TextReply,
    ):
        assert set(table.__struct_fields__) - {"name"} <= named, table


def test_the_example_works_and_a_slip_in_it_is_refused(tmp_path: Path) -> None:
    found = re.search(r"## An example\n\n```toml\n(.*?)```", MANUAL, re.DOTALL)
    assert found is not None
    file = tmp_path / "mantisreed.toml"
    file.write_text(found[1])
    (tmp_path / "corrections.txt").write_text("terne -> tern\n")
    workspace = open_workspace(file)
    assert workspace.layout().max_cps == 14 and workspace.layout().line_length == 30
    assert (
        workspace.wording().glossary == (("terne", "tern"),)
        and workspace.engine(None).name == "marsh"
    )
    for right, wrong in (
        ("replace =", "replaces ="),
        ("max_cps = 14", "max_cps = 0"),
        ('"srt"', "3"),
    ):
        file.write_text(found[1].replace(right, wrong))
        with pytest.raises(SettingsError):
            open_workspace(file)
