"""What exchanges bring besides words, and what goes wrong in them, through the built command."""

import functools
import http.server
import json
import re
import shutil
import threading
from pathlib import Path

import numpy as np
import pytest

from audio.making import write_sound
from conftest import KEY, Command, Note, Standin, free_port
from mantisreed.standin.bank import BUNDLED
from mantisreed.transcript.document import Transcript, from_json


def transcribed(mantisreed: Command, note: Note, *options: str | Path) -> Transcript:
    result = mantisreed("run", note.path, "--to", "json", "--overwrite", *options)
    assert result.returncode == 0, result.stderr
    return from_json((note.path.parent / "transcripts" / "note.transcript.json").read_bytes())


@pytest.fixture
def mine(settings: Path, note: Note) -> Note:
    """The note, copied into the workspace; there the program hears by the note's phrases only, to
    start sooner.
    """
    small = settings.with_name("small-bank")
    small.mkdir()
    for spoken in note.composition.truth:
        for file in BUNDLED.joinpath(spoken.phrase.name).parent.glob(
            f"{Path(spoken.phrase.name).name}.*"
        ):
            shutil.copy(file, small)
    settings.write_text(
        settings.read_text().replace('engines.wren"', f'engines.wren", "--bank", "{small}"')
    )
    path = settings.with_name("note.wav")
    path.write_bytes(note.path.read_bytes())
    return Note(path, note.composition)


def test_the_link_is_served_by_us_or_is_the_sources_own(
    mantisreed: Command, mine: Note, settings: Path, address: str, tmp_path: Path
) -> None:
    refused = mantisreed("run", mine.path, "--engine", "plover")
    assert refused.returncode == 2 and "set [recording_urls] public" in refused.stderr

    port = free_port()
    settings.write_text(
        f'[recording_urls]\npublic = "http://127.0.0.1:{port}"\nlisten = '
        f'"127.0.0.1:{port}"\n\n{settings.read_text()}'
    )
    served = transcribed(mantisreed, mine, "--engine", "plover")
    assert [word.text for word in served.words] == [word.text for word in mine.composition.words]

    handler = functools.partial(http.server.SimpleHTTPRequestHandler, directory=mine.path.parent)
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler) as files:
        threading.Thread(target=files.serve_forever, daemon=True).start()
        link = f"http://127.0.0.1:{files.server_port}/note.wav"
        for engine in ("plover", "brook"):
            result = mantisreed(
                "run",
                link,
                "--engine",
                engine,
                "--json",
                "--to",
                "txt",
                "--overwrite",
                "--into",
                engine,
            )
            assert result.returncode == 0, result.stderr
            (described,) = json.loads(result.stdout)["recordings"]
            assert described["recording"] == link and described["words"] == len(
                mine.composition.words
            )
        gone = mantisreed("run", link.replace("note", "gone"), "-q")
        files.shutdown()
    assert gone.returncode == 1 and "cannot be fetched (HTTP 404)" in gone.stderr
    assert not list((tmp_path / ".mantisreed" / "fetched").iterdir())


def test_other_readings_and_speakers_are_kept(mantisreed: Command, mine: Note) -> None:
    first = transcribed(mantisreed, mine, "--engine", "heron").passages[0]
    assert first.alternatives[0] == first.text.lower().rstrip(".!?")
    dived = transcribed(mantisreed, mine, "--engine", "dipper")
    voices = list(dict.fromkeys(spoken.phrase.voice for spoken in mine.composition.truth))
    assert dived.speakers == tuple(str(number + 1) for number in range(len(voices)))


def test_an_engine_answers_in_another_language_where_its_card_says_how(
    mantisreed: Command, mine: Note
) -> None:
    rendered = transcribed(mantisreed, mine, "--engine", "brook", "--translate-to", "de")
    assert rendered.language == "de" and len(rendered.passages) == len(mine.composition.truth)
    assert rendered.passages[0].text != mine.composition.truth[0].phrase.text
    assert rendered.passages[0].start == pytest.approx(
        mine.composition.truth[0].words[0].start, abs=0.02
    )
    refused = mantisreed("run", mine.path, "--engine", "heron", "--translate-to", "de")
    assert refused.returncode == 2 and "engine heron declares no translating" in refused.stderr


@pytest.mark.parametrize("engine", ["bittern", "bittern:lines"])
def test_text_is_shown_while_it_comes_to_whoever_wants_to_see_more(
    mantisreed: Command, settings: Path, mine: Note, engine: str
) -> None:
    wordy = mantisreed("run", mine.path, "--engine", engine, "-v")
    said = " ".join(word.text for word in mine.composition.words)
    heard = re.findall(r": hearing \((.*)\)", wordy.stderr)
    assert heard and all(said.startswith(text) for text in heard), wordy.stderr
    again = mantisreed("run", mine.path, "--engine", engine, "--afresh", "--overwrite")
    assert again.returncode == 0 and "hearing" not in again.stderr


@pytest.mark.parametrize("engine", ["sedge", "dipper", "bittern", "rail", "rail:vtt", "rail:text"])
def test_no_speech_is_no_error_with_any_engine(
    mantisreed: Command, settings: Path, tmp_path: Path, engine: str
) -> None:
    write_sound(tmp_path / "still.wav", "pcm_s16le", np.zeros(40_000))
    result = mantisreed("run", "still.wav", "--engine", engine)
    assert result.returncode == 0 and "1 no speech" in result.stderr, result.stderr


@pytest.mark.parametrize(
    ("engine", "old", "new", "told"),
    [
        ("heron", 'shore = "north"', 'shore = "west"', "has no heron on the 'west' shore"),
        ("sedge", 'user = "ringer"', 'user = "cook"', "it refuses the key (HTTP 401)"),
        (
            "sedge",
            '"{sample_rate}"',
            "8000",
            "saying: the sound has to be FLAC or OPUS, of pitch 16000",
        ),
        ("sedge", 'times = "us"', 'times = "ms"', "is reply.times = 'ms' right?"),
        ("dipper", 'client = "wader"', 'client = "diver"', "(HTTP 401 at step token)"),
        (
            "dipper",
            'done = ["surfaced"]',
            'done = ["risen"]',
            "finds 'surfaced', which its card does not list",
        ),
        (
            "dipper",
            "header:Location",
            "header:Place",
            "upload.take.pebble (header:Place) finds nothing",
        ),
        (
            "dipper",
            'path = "{catch}"',
            'path = "{catch}/x"',
            "it does not know what this step asks for (HTTP 404 at step fetch)",
        ),
        ("bittern", 'text = "puff"', 'text = "huff"', "reply.text (huff) finds nothing in any of"),
        (
            "bittern",
            'format = "events"\ntext = "puff"\nend_mark = "over"',
            'format = "xml"\ntext = "puff"',
            "it is not XML",
        ),
        ("rail", 'format = "srt"', 'format = "json"\ntext = "x"', "it is not JSON"),
        ("wren", '"--write"', '"--wright"', "ended with code 2"),
        (
            "wren",
            "run = [",
            'run = ["no-such-recogniser", ',
            "cannot start no-such-recogniser (no such program)",
        ),
        ("wren", '"10 min"', '"10 ms"', "did not end within 0.01 s, so we stopped it"),
        (
            "stilt",
            'object = "stilt"',
            'object = "stylt"',
            "the object 'stylt' of engine stilt cannot be loaded",
        ),
    ],
)
def test_what_goes_wrong_is_told_in_the_engines_words(
    mantisreed: Command, settings: Path, mine: Note, engine: str, old: str, new: str, told: str
) -> None:
    text = settings.read_text()
    assert old in text
    settings.write_text(text.replace(old, new))
    result = mantisreed("run", mine.path, "--engine", engine, "-q")
    assert result.returncode in (1, 2, 3) and told in result.stderr, result.stderr
    assert len(result.stderr.splitlines()) <= 2 and KEY not in result.stderr
    if "whole reply is kept in" in result.stderr:
        kept = re.search(r"kept in (\S+)", result.stderr)
        assert kept is not None and (settings.parent / kept[1]).stat().st_size > 0


def test_a_program_gets_secrets_by_its_environment_and_its_last_words_are_kept(
    mantisreed: Command, settings: Path, mine: Note
) -> None:
    card = """
[engine.snipe]
secrets.key = "file:standin.key"
reply = { format = "text" }
command.audio = "stdin"
command.run = ["sh", "-c", 'echo "drum $1 with $DRUM" >&2; exit 3', "sh", "{format}"]
command.environment.DRUM = "{key}"
"""
    settings.write_text(settings.read_text() + card)
    result = mantisreed("run", mine.path, "--engine", "snipe", "-q")
    assert (
        result.returncode == 1
        and "sh ended with code 3, saying: drum flac with ***" in result.stderr
    )
    settings.write_text(settings.read_text().replace('"{format}"]', '"{key}"]'))
    result = mantisreed("run", mine.path, "--engine", "snipe", "-q")
    assert (
        result.returncode == 2
        and "{key} is a secret; arguments can be seen by others" in result.stderr
    )


def test_a_key_file_that_others_can_read_is_warned_about(
    mantisreed: Command, settings: Path, mine: Note
) -> None:
    settings.with_name("standin.key").chmod(0o644)
    result = mantisreed("run", mine.path)
    assert (
        result.returncode == 0
        and "others on this machine can read file:standin.key" in result.stderr
    )


def test_a_wren_hears_by_any_bank(
    standin_process: Standin, mantisreed: Command, mine: Note, tmp_path: Path
) -> None:
    bank = tmp_path / "bank"
    bank.mkdir()
    (bank / "whole.wav").write_bytes(mine.path.read_bytes())
    (bank / "whole.txt").write_text("Our own words.")
    text = (tmp_path / "mantisreed.toml").read_text().replace("small-bank", "bank")
    (tmp_path / "mantisreed.toml").write_text(text)
    transcript = transcribed(mantisreed, mine, "--engine", "wren")
    assert [word.text for word in transcript.words] == ["Our", "own", "words."]
