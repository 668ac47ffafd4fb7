"""`mantisreed engines`, and the cards of its manual."""

import io
import json
import re
import sys
import tomllib
import zipfile
from pathlib import Path

import pytest

from conftest import KEY, Command, Note, free_port
from mantisreed.standin.engines.dipper import bell
from mantisreed.transcript.document import from_json
from web import QuietHandler, listening

DOCS = Path(__file__).parents[2] / "docs"
MANUAL = "\n".join(
    (DOCS / page).read_text(encoding="utf-8")
    for page in ("engine-recipes.md", "engine-recipes-jobs.md")
)
IN_MANUAL = [
    *("brook", "brook:quick", "heron", "heron:south", "sedge", "sedge:worded"),
    *("rail", "rail:vtt", "rail:text", "dipper", "plover"),
    *("bittern", "bittern:lines", "wren", "stilt"),
]


@pytest.fixture
def manual(tmp_path: Path, address: str, note: Note) -> Path:
    """A workspace whose settings are all cards of the manual, their made-up addresses led to the
    stand-ins.
    """
    toml = "\n".join(re.findall(r"```toml\n(.*?)```", MANUAL, re.DOTALL))
    port = free_port()
    toml = toml.replace("https://files.marsh.example", f"http://127.0.0.1:{port}").replace(
        ":8440", f":{port}"
    )
    toml = re.sub(r"https://(\w+)\.marsh\.example", rf"{address}/\1", toml)
    toml = toml.replace('"python3"', f'"{sys.executable}"')
    (tmp_path / "mantisreed.toml").write_text(toml)
    for name, secret in (("marsh.key", KEY), ("marsh.bell", bell(KEY))):
        (tmp_path / name).write_text(secret)
        (tmp_path / name).chmod(0o600)
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    return tmp_path


@pytest.mark.parametrize("engine", IN_MANUAL)
def test_every_card_of_the_manual_works(
    mantisreed: Command, manual: Path, note: Note, engine: str
) -> None:
    result = mantisreed(
        "run",
        "note.wav",
        "--engine",
        engine,
        "--to",
        "json",
        "--language",
        "en",
        "--hint",
        "dunlin",
    )
    assert result.returncode == 0, result.stderr
    transcript = from_json((manual / "transcripts" / "note.transcript.json").read_bytes())
    said = note.composition.words
    assert [word.text for word in transcript.words] == [
        word.text for word in said
    ] and transcript.engine == engine
    errors = [
        abs(word.start - true.start) for word, true in zip(transcript.words, said, strict=True)
    ]
    if engine.partition(":")[0] in ("bittern", "rail"):
        assert {passage.timing for passage in transcript.passages} == {"estimated"}
        assert sum(errors) / len(errors) < 0.25 and max(errors) < 1.5
    else:
        assert {passage.timing for passage in transcript.passages} == {"engine"} and max(
            errors
        ) < 0.02


def test_the_manual_names_every_engine_that_is_tested_and_translating(
    mantisreed: Command, manual: Path
) -> None:
    listed = json.loads(mantisreed("engines", "--json").stdout)["engines"]
    assert [facts["engine"] for facts in listed] == IN_MANUAL
    assert (
        mantisreed("run", "note.wav", "--engine", "brook", "--translate-to", "de").returncode == 0
    )


def test_the_list_says_what_cards_take_and_whether_secrets_are_there(
    mantisreed: Command, settings: Path
) -> None:
    shown = mantisreed("engines")
    brook = next(line for line in shown.stdout.splitlines() if line.startswith("brook "))
    for fact in (
        "send > json",
        "16.0 MiB",
        "0.004 credits a minute",
        "120 per 60 s",
        "key is there",
    ):
        assert fact in brook
    settings.with_name("standin.key").unlink()
    assert "key is MISSING (file:standin.key)" in mantisreed("engines").stdout


def test_a_shown_card_is_whole_with_its_profile_and_without_secrets(
    mantisreed: Command, settings: Path
) -> None:
    result = mantisreed("engines", "show", "sedge:worded")
    (card,) = tomllib.loads(result.stdout)["engine"].values()
    assert card["send"]["json"]["clock"] == "worded" and card["reply"]["times"] == "iso8601"
    assert card["accepts"]["max_bytes"] == 10_000_000
    assert card["secrets"] == {"key": "file:standin.key"} and KEY not in result.stdout
    assert json.loads(mantisreed("engines", "show", "sedge:worded", "--json").stdout)["engine"]


@pytest.mark.parametrize("engine", ["brook", "heron", "sedge", "dipper", "bittern", "rail"])
def test_a_try_shows_every_step_and_no_secret(
    mantisreed: Command, settings: Path, engine: str
) -> None:
    result = mantisreed("engines", "try", engine, "--language", "en")
    assert result.returncode == 0, result.stderr
    assert "Could you read that number back to me, please?" in result.stdout
    sending = "start" if engine == "dipper" else "send"
    assert f"the request of {sending}" in result.stdout and "HTTP 20" in result.stdout
    assert re.search(r"(?m)^00:00:0\d\.\d{3} +00:00:0\d\.\d{3} .*Could$", result.stdout)
    assert KEY not in result.stdout and not re.search(r"(Bearer|Basic) [^*\s]", result.stdout)
    if engine == "dipper":
        assert '"access_token": "***"' in result.stdout and "confidence  not found" in result.stdout
    if engine in ("bittern", "rail"):
        assert "estimated from the speech map" in result.stdout


class Hesitant(QuietHandler):
    """Asks to wait at first, fails one question, and packs its reply."""

    calls: list[str]

    def do_POST(self) -> None:  # noqa: N802
        self.rfile.read(int(self.headers["Content-Length"]))
        self.calls.append("POST")
        if self.calls == ["POST"]:
            self.send_response(429)
            self.send_header("Retry-After", "1")
            self.send_header("Content-Length", "0")
            self.end_headers()
        else:
            self.send_json({"id": "j7"})

    def do_GET(self) -> None:  # noqa: N802
        self.calls.append("GET")
        if self.calls.count("GET") == 1:
            self.send(503, b"low tide")
            return
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("reply.json", json.dumps({"text": "Eleven terns."}))
        self.send(200, packed.getvalue(), "application/zip")


def test_a_try_waits_as_a_run_does_and_unpacks_what_it_shows(
    mantisreed: Command, tmp_path: Path
) -> None:
    calls: list[str] = []
    with listening(type("Handler", (Hesitant,), {"calls": calls})) as port:
        (tmp_path / "mantisreed.toml").write_text(
            f'[engine.ruff]\nurl = "http://127.0.0.1:{port}"\n'
            'steps.start = { path = "/jobs", raw = "{audio}", take.job = "id" }\n'
            'steps.ask = { path = "/jobs/{job}", interval = "1 s" }\nreply.text = "text"\n'
        )
        tried = mantisreed("engines", "try", "ruff", "--trust")
    assert tried.returncode == 0, tried.stderr
    assert calls == ["POST", "POST", "GET", "GET"]
    waits = re.findall(r"attempt (\d) of \d+ in \d s", tried.stdout)
    assert waits == ["2", "3"] and "waiting, as a run does" in tried.stdout
    assert '{"text": "Eleven terns."}' in tried.stdout.partition("unpacked")[2]


def test_a_dry_try_sends_nothing(
    mantisreed: Command, settings: Path, note: Note, address: str
) -> None:
    settings.write_text(settings.read_text().replace(address, "http://127.0.0.1:9"))
    result = mantisreed("engines", "try", "dipper", note.path, "--dry-run")
    assert result.returncode == 0, result.stderr
    assert (
        "POST http://127.0.0.1:9/dipper/pebbles" in result.stdout and "audio/flac" in result.stdout
    )
    assert (
        "GET http://127.0.0.1:9/dipper/dives/$dive" in result.stdout
        and "HTTP " not in result.stdout
    )
    wet = mantisreed("engines", "try", "dipper")
    assert wet.returncode == 1 and "cannot reach http://127.0.0.1:9" in wet.stderr
    assert "the request of token" in wet.stdout


def test_learn_prints_a_table_to_paste(mantisreed: Command, tmp_path: Path) -> None:
    chunks = [
        {"b": 0.5, "e": 1.9, "content": "Nets closed at nine."},
        {"b": 2.5, "e": 3.9, "content": "Tea is ready."},
    ]
    (tmp_path / "reply.json").write_text(json.dumps({"lang": "en", "chunks": chunks}))
    result = mantisreed("engines", "learn", "reply.json", "--length", "5 s")
    table = tomllib.loads(result.stdout)["engine"]["engine"]["reply"]
    assert table["passages"] == {"each": "chunks", "text": "content", "start": "b", "end": "e"}
    assert table["language"] == "lang" and "7 words from 0.50 to 3.90 s" in result.stderr


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["show"], "arguments are required: NAME"),
        (["show", "sedge:dry"], "no engine is called 'sedge:dry'"),
        (["try", "brook", "absent.wav"], "absent.wav: cannot be read"),
        (["try", "plover"], "engine plover wants a link to the audio"),
        (["learn"], "arguments are required: SAMPLE"),
        (["learn", "absent.json"], "absent.json: the file cannot be read"),
        (
            ["learn", "mantisreed.toml", "--length", "soon"],
            "--length: expected a number with a unit",
        ),
    ],
)
def test_wrong_use_is_told(
    mantisreed: Command, settings: Path, arguments: list[str], told: str
) -> None:
    result = mantisreed("engines", *arguments)
    assert result.returncode in (1, 2) and told in result.stderr
    assert len(result.stderr.splitlines()) <= 2
