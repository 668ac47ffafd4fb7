"""The recipes in docs/flows.md, run as they stand there; only addresses are those of stand-ins."""

import csv
import email
import io
import re
import shlex
import sqlite3
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from email.policy import default as policy
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import pytest

from conftest import Command
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.hearing import Listener
from mantisreed.standin.mailbox import MailBox, mailbox
from mantisreed.standin.server import bound_socket, new_key, serving, standins, write_cards

ROOT = Path(__file__).parent.parent.parent
FEED = """<?xml version="1.0"?><rss version="2.0"><channel><title>Marsh</title><language>en</language>{}</channel>
</rss>"""  # noqa: E501
ITEM = """<item><title>Note {n}</title><guid>n{n}</guid><pubDate>Tue, 0{n} Nov 2026 07:00:00 GMT</pubDate>
<enclosure url="/note {n}.flac" type="audio/flac" length="1"/></item>"""  # noqa: E501


def recipes() -> dict[str, tuple[str, str]]:
    """Title, settings and command of each."""
    page = (ROOT / "docs" / "flows.md").read_text()
    part = page.partition("## Recipes\n")[2].partition("\n## ")[0]
    found = {}
    for one in part.split("\n### ")[1:]:
        settings, command = (
            re.search(rf"```{kind}\n(.*?)```", one, re.DOTALL) for kind in ("toml", "sh")
        )
        assert settings and command
        found[one.partition("\n")[0]] = settings[1], command[1].strip()
    return found


@pytest.fixture
def box(
    tmp_path: Path, english: list[Phrase], listener: Listener, monkeypatch: pytest.MonkeyPatch
) -> Iterator[MailBox]:
    """Recordings, a feed and a table in the folder; engines, services and a mail box around it."""
    for number in (1, 2):
        compose(english, seed=90 + number, duration=12, pauses=(1.2, 1.6)).write(
            tmp_path / f"note {number}.flac"
        )
    (tmp_path / "inbox").mkdir()
    compose(english, seed=95, duration=12).write(tmp_path / "inbox" / "round.flac")
    (tmp_path / "inbox" / "broken.flac").write_bytes(b"no sound at all")
    (tmp_path / "notes.xml").write_text(
        FEED.format("".join(ITEM.format(n=number) for number in (1, 2)))
    )

    class Handler(SimpleHTTPRequestHandler):
        def __init__(self, *arguments: object) -> None:
            super().__init__(*arguments, directory=str(tmp_path))  # type: ignore[arg-type]

        def log_message(self, *arguments: object) -> None:
            pass

    with ExitStack() as stack:
        web = stack.enter_context(ThreadingHTTPServer(("127.0.0.1", 0), Handler))
        Thread(target=web.serve_forever, daemon=True).start()
        stack.callback(web.shutdown)
        key = new_key()
        address = stack.enter_context(serving(standins(listener, key), bound_socket(0)))
        server, box = stack.enter_context(mailbox(tmp_path / "box"))
        monkeypatch.setenv("MARSH_MAIL", "a password of the marsh")
        url = f"http://127.0.0.1:{web.server_address[1]}"
        (tmp_path / "calls.csv").write_text(
            f"source,title\nnote 1.flac,First\n{url}/note%202.flac,Second\nnone.flac,\n"
        )

        def settle(settings: str) -> None:
            own = settings.replace("smtp://mail.marsh.example:587", server)
            write_cards(tmp_path / "mantisreed.toml", address, key, listener, own)

        box.settle, box.url = settle, url  # type: ignore[attr-defined]
        yield box


def run(mantisreed: Command, box: MailBox, title: str) -> list[str]:
    """Run a recipe; gives what it printed on both streams and its exit code, as texts."""
    settings, command = recipes()[title]
    box.settle(settings)  # type: ignore[attr-defined]
    words = shlex.split(command.replace("https://marsh.example", box.url).rpartition("|")[2])  # type: ignore[attr-defined]
    assert words[0] == "mantisreed"
    result = mantisreed(*words[1:])
    assert "Traceback" not in result.stderr
    return [result.stdout, result.stderr, str(result.returncode)]


def test_a_sheet_of_links(mantisreed: Command, box: MailBox, tmp_path: Path) -> None:
    _, said, code = run(mantisreed, box, "A sheet of links")
    with (tmp_path / "calls.csv").open() as table:
        rows = list(csv.DictReader(table))
    assert [row["state"] for row in rows] == ["done", "done", "failed"], said
    assert (
        code == "1"
        and rows[0]["title"] == "First"
        and rows[1]["text"]
        and "no such file" in rows[2]["error"]
    )


def test_a_feed_with_a_digest_by_mail(mantisreed: Command, box: MailBox) -> None:
    for _ in range(2):
        _, said, code = run(mantisreed, box, "A feed, with a digest by mail")
        assert code == "0", said
    (mail,) = [email.message_from_bytes(one, policy=policy) for one in box.messages]
    body = mail.get_body()
    assert body is not None and mail["Subject"] == "New: Note 2 and 1 more"
    assert "Note 1 (2026-11-01T07:00:00Z)" in body.get_content()


def test_a_folder_and_the_tone_of_what_is_said(
    mantisreed: Command, box: MailBox, tmp_path: Path
) -> None:
    _, said, code = run(mantisreed, box, "A folder, and the tone of what is said in a table")
    with sqlite3.connect(tmp_path / "tones.sqlite") as database:
        rows = database.execute("SELECT recording, words, tone FROM tones").fetchall()
    assert code == "1" and len(rows) == 1 and rows[0][0] == "round.flac" and rows[0][2], said


def test_live_phrases_from_a_recorder(
    mantisreed: Command,
    box: MailBox,
    tmp_path: Path,
    english: list[Phrase],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    import numpy as np

    composition = compose(english, seed=9, duration=15, pauses=(1.2, 1.6))
    samples = np.concatenate(list(composition.blocks()), axis=1)[0]
    content = io.BytesIO((samples * 32767).astype("<i2").tobytes())
    monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(content))
    told, said, code = run(mantisreed, box, "Live phrases from a recorder")
    assert code == "0", said
    for spoken in composition.truth:
        assert spoken.phrase.text in told
    assert (tmp_path / "transcripts" / "evening.srt").read_text().count("-->") >= len(
        composition.truth
    )
    assert sys.stdin is not None


def test_a_nightly_batch(mantisreed: Command, box: MailBox, tmp_path: Path) -> None:
    _, said, code = run(mantisreed, box, "A nightly batch")
    assert code == "1", said
    copied = {path.name for path in (tmp_path / "public" / "en").iterdir()}
    assert copied == {"round.srt", "round.de.srt", "round.de.vtt"}
    with (tmp_path / "night.csv").open() as report:
        assert [row["state"] for row in csv.DictReader(report)] == ["failed", "done"]


def test_every_recipe_is_run_here() -> None:
    names = [
        name
        for name in globals()
        if name.startswith("test_") and name != "test_every_recipe_is_run_here"
    ]
    assert len(names) == len(recipes())
