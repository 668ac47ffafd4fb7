"""Options are declared once, and each row of the table changes what a run wants."""

from pathlib import Path
from typing import Any

import pytest

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.options import API_OPTIONS, OPTIONS
from mantisreed.pipeline.options_given import run_options
from mantisreed.serving.routes.description import SUBMISSION
from mantisreed.settings import Settings
from mantisreed.workspace import Workspace, open_workspace

_VALUES: dict[str, Any] = {
    "channels": "apart",
    "gap": "200ms",
    "line_length": 30,
    "lines": 1,
    "layout": "phone",
    "longest": "5s",
    "longest_pause": "3s",
    "overlap": "5s",
    "piece_length": "10min",
    "redact_kinds": "phone",
    "rows": "words",
    "shortest": "2s",
    "since": "2026-11-03",
    "sounds": "drop",
    "speakers": "name",
    "strong_words": "mask",
    "to": "srt",
    "translate_to": "de",
    "words": "inner",
}
_BY_KIND: dict[str, Any] = {
    "text": "marsh",
    "texts": ["marsh"],
    "flag": True,
    "count": 2,
    "number": 25.0,
    "money": 2.5,
    "duration": "90s",
}
_WITH_TRANSLATION = {"translate_with": "plover", "translate_to": "de"}


@pytest.fixture
def workspace(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Workspace:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "list.txt").write_text("marsh -> fen\n")
    file = tmp_path / "mantisreed.toml"
    file.write_text('[settings]\nlanguage = "en"\n')
    return open_workspace(file, is_trusted=True)


@pytest.mark.parametrize("option", OPTIONS, ids=lambda option: option.name)
def test_every_option_of_the_table_has_an_effect(option: Any, workspace: Workspace) -> None:
    value = _VALUES.get(option.name, _BY_KIND.get(option.kind))
    if option.metavar == "FILE":
        value = "list.txt"
    needs: dict[str, Any] = {}
    if option.name in ("bilingual", "back_translate_with"):
        needs = _WITH_TRANSLATION
    if option.name == "translate_with":
        needs = {"translate_to": "de"}
    if option.name == "strong_words_file":
        needs = {"strong_words": "mask"}
    assert run_options(workspace, {**needs, option.name: value}) != run_options(workspace, needs)


def test_options_have_names_and_flags_of_their_own() -> None:
    assert len({option.name for option in OPTIONS}) == len(OPTIONS)
    assert len({option.flag for option in OPTIONS}) == len(OPTIONS)


def test_the_description_of_the_api_has_the_options_of_the_table() -> None:
    content = SUBMISSION["requestBody"]["content"]
    for form in ("multipart/form-data", "application/json"):
        assert API_OPTIONS.keys() <= content[form]["schema"]["properties"].keys()
    in_query = {one["name"]: one for one in SUBMISSION["parameters"]}
    assert API_OPTIONS.keys() <= in_query.keys()
    assert all(in_query[name]["description"] for name in API_OPTIONS)


def test_what_the_settings_are_said_to_decide_is_a_key_of_theirs() -> None:
    said = {option.name for option in OPTIONS if "settings" in (option.default or "")}
    assert said and said <= set(Settings.__struct_fields__)


def test_the_help_names_all_formats_that_are_made_without_being_asked_for() -> None:
    (to,) = (option for option in OPTIONS if option.name == "to")
    named = set(to.help.partition(": ")[2].split(", "))
    assert set(Settings().to) <= named <= set(OUTPUT_FORMATS)


def test_no_option_of_the_api_names_a_file_of_this_machine() -> None:
    assert all(option.metavar not in ("FILE", "DIR", "REGEX") for option in API_OPTIONS.values())
