"""Recordings by address: links that break off, feeds, storages; against servers on loopback."""

import json
import os
import subprocess
import sys
import zipfile
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cli.ferry import Ferry
from cli.shelf import Shelf
from cli.test_watch import wait_for
from conftest import Command
from mantisreed.errors import InputError
from mantisreed.sources.feeds import entries_of
from mantisreed.sources.finding import find_recordings
from mantisreed.sources.recordings import Selection
from mantisreed.sources.storage import write_stored
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.server import bound_socket, serving
from mantisreed.standin.store import ObjectStore

FEED = """<?xml version="1.0"?><rss version="2.0"><channel><title>Marsh notes</title><link>http://marsh.example/</link>
<language>en-gb</language>
<item><title>Morning: round</title><guid>a1</guid><pubDate>Tue, 03 Nov 2026 07:00:00 GMT</pubDate>
<enclosure url="/one/sound.flac" type="audio/flac" length="1"/></item>
<item><title>Evening round</title><guid>a2</guid><pubDate>Wed, 04 Nov 2026 19:00:00 GMT</pubDate>
<enclosure url="/two/sound.flac" type="audio/flac" length="1"/></item>
<item><title>No sound</title><guid>a3</guid></item></channel></rss>"""

ATOM = """<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom" xml:lang="de"><title>Salzwiese</title>
<id>f</id>
<updated>2026-11-05T10:00:00Z</updated><entry><title>Netz drei</title><id>urn:x:1</id>
<updated>2026-11-05T10:00:00Z</updated><link rel="enclosure" type="audio/flac" href="http://marsh.example/n.flac"/>
</entry></feed>"""  # noqa: E501


@pytest.fixture
def sound(english: list[Phrase], tmp_path: Path) -> bytes:
    file = tmp_path / "made.flac"
    compose(english, seed=5, duration=10).write(file)
    content = file.read_bytes()
    file.unlink()
    return content


def test_a_link_that_breaks_off_is_taken_up_again_and_has_the_name_that_its_host_gives(
    mantisreed: Command, ferry: Ferry, shelf: Shelf, sound: bytes, tmp_path: Path
) -> None:
    shelf.pages["/x"] = sound, "audio/flac"
    shelf.headers["/x"] = {
        "Content-Disposition": "attachment; filename*=UTF-8''Night%20w%C3%A4tch.flac"
    }
    shelf.breaks = len(sound) // 3 + 1
    with ferry.sailing(tmp_path):
        result = mantisreed("run", f"{shelf.url}/x")
        assert result.returncode == 0, result.stderr
        said = json.loads((tmp_path / "transcripts" / "Night wätch.transcript.json").read_text())
        assert said["recording"]["name"] == "Night wätch.flac"
    # What was received is not asked for again; how much that is, is up to the network.
    first, *others = [wanted or "" for _, wanted in shelf.asked]
    begins = [int(wanted.removeprefix("bytes=").removesuffix("-")) for wanted in others]
    assert not first and len(begins) >= 2
    assert begins == sorted(set(begins)) and 0 < begins[0] <= shelf.breaks


@pytest.mark.parametrize("name", ["../../up.flac", "C:\\\\up.flac", "..", "/etc/up.flac"])
def test_a_name_that_a_host_gives_leads_nowhere_else(
    mantisreed: Command, ferry: Ferry, shelf: Shelf, sound: bytes, tmp_path: Path, name: str
) -> None:
    shelf.pages["/kept.flac"] = sound, "audio/flac"
    shelf.headers["/kept.flac"] = {"Content-Disposition": f'attachment; filename="{name}"'}
    with ferry.sailing(tmp_path):
        assert mantisreed("run", f"{shelf.url}/kept.flac", "--to", "txt").returncode == 0
    (written,) = (tmp_path / "transcripts").iterdir()
    assert written.name in ("up.txt", "kept.txt")


@pytest.mark.parametrize(
    ("content", "kind", "told"),
    [
        (b"<!DOCTYPE html><p>hello", "application/octet-stream", "web page"),
        (b'{"error": "gone"}', "application/json", "web page or a text"),
        (FEED.encode(), "text/xml", "feed+"),
    ],
)
def test_what_is_no_recording_is_told_before_it_is_decoded(
    mantisreed: Command,
    ferry: Ferry,
    shelf: Shelf,
    tmp_path: Path,
    content: bytes,
    kind: str,
    told: str,
) -> None:
    shelf.pages["/x"] = content, kind
    with ferry.sailing(tmp_path):
        result = mantisreed("run", f"{shelf.url}/x")
        assert result.returncode == 1 and told in result.stderr and "Traceback" not in result.stderr


def test_a_feed_is_transcribed_once_with_its_titles_and_offers_its_transcripts(
    mantisreed: Command,
    ferry: Ferry,
    shelf: Shelf,
    sound: bytes,
    english: list[Phrase],
    tmp_path: Path,
) -> None:
    shelf.pages |= {
        "/feed.xml": (FEED.encode(), "text/xml"),
        "/two/sound.flac": (sound, "audio/flac"),
    }
    with ferry.sailing(tmp_path):
        first = mantisreed("run", f"{shelf.url}/feed.xml", "--newest", "1", "--to", "vtt,json")
        assert first.returncode == 0, first.stderr
        (document,) = (tmp_path / "transcripts").glob("*.json")
        said = json.loads(document.read_text())
        assert (
            said["recording"]["about"]["title"] == "Evening round" and said["language"] == "en-GB"
        )
        compose(english, seed=6, duration=10).write(tmp_path / "other.flac")
        shelf.pages["/one/sound.flac"] = (tmp_path / "other.flac").read_bytes(), "audio/flac"
        shelf.asked.clear()
        command = (
            "run",
            f"feed+{shelf.url}/feed.xml",
            "--to",
            "vtt",
            "--publish-at",
            "https://marsh.example/t/",
        )
        again = mantisreed(*command)
        assert again.returncode == 0 and "transcribed before" in again.stderr
        assert [path for path, _ in shelf.asked] == ["/feed.xml", "/one/sound.flac"]
        tags = (tmp_path / "transcripts" / "transcript-tags.xml").read_text()
        assert tags.count("<podcast:transcript ") == 2 and "<guid>a2</guid>" in tags
        assert (
            'url="https://marsh.example/t/Morning%20%20round.vtt" type="text/vtt" language="en-GB"'
            in tags
        )


def test_entries_are_chosen_by_number_and_by_day() -> None:
    def titles(**chosen: object) -> list[str]:
        selection = Selection(**chosen)  # type: ignore[arg-type]
        return [
            dict(one.about)["title"]
            for one in entries_of(FEED.encode(), "http://h/f", selection, where="f")
        ]

    assert titles() == ["Evening round", "Morning: round"]
    assert (
        titles(newest=1)
        == titles(since=datetime(2026, 11, 4, tzinfo=UTC).timestamp())
        == ["Evening round"]
    )
    with pytest.raises(InputError, match="no entry of this feed is so new"):
        titles(since=datetime(2026, 12, 1, tzinfo=UTC).timestamp())
    (entry,) = entries_of(ATOM.encode(), None, Selection(), where="f")
    assert entry.link == "http://marsh.example/n.flac" and entry.facts.presumed_language == "de"


@given(
    st.binary(max_size=200)
    | st.text(max_size=200).map(lambda text: f"<rss><channel>{text}".encode())
)
def test_whatever_is_no_feed_is_told(content: bytes) -> None:
    with pytest.raises(InputError):
        entries_of(content, "http://h/f", Selection(), where="f")


@pytest.mark.parametrize("link", ["file:///etc/passwd", "ftp://h/a.mp3", "javascript:1"])
def test_a_feed_leads_to_the_web_only(link: str) -> None:
    content = FEED.replace("/one/sound.flac", link).encode()
    assert [one.problem for one in entries_of(content, "http://h/f", Selection(), where="f")].count(
        None
    ) == 1


def test_a_feed_on_the_internet_leads_to_nothing_near_this_machine(
    mantisreed: Command, ferry: Ferry, shelf: Shelf, sound: bytes, tmp_path: Path
) -> None:
    shelf.pages["/one/sound.flac"] = sound, "audio/flac"
    content = FEED.replace('url="/', f'url="{shelf.url}/').encode()
    found = entries_of(content, "http://marsh.example/feed", Selection(), where="f")
    from mantisreed.pipeline.transcribe import transcribe
    from mantisreed.workspace import open_workspace

    with ferry.sailing(tmp_path):
        outcomes = transcribe(found, open_workspace(tmp_path / "mantisreed.toml"))
    assert [outcome.state for outcome in outcomes] == ["failed"] * 2 and not shelf.asked
    assert "near this machine" in str(outcomes[0].error)


def test_recordings_come_from_an_object_store_and_from_archives(
    mantisreed: Command,
    ferry: Ferry,
    sound: bytes,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    pytest.importorskip("s3fs")
    from fsspec.config import conf

    store = ObjectStore()
    store.put("marsh/day 1/note.flac", sound)
    store.put("marsh/day 1/readme.txt", b"no sound")
    with zipfile.ZipFile(tmp_path / "kept.zip", "w") as archive:
        archive.writestr("inner/bird.flac", sound)
    with ferry.sailing(tmp_path), serving(store.application(), bound_socket(0)) as url:
        monkeypatch.setitem(
            conf, "s3", {"endpoint_url": url, "key": "marsh-key", "secret": "marsh-secret"}
        )
        for source in ("s3://marsh/", "s3://marsh/day 1/*.flac", "zip://**::kept.zip"):
            result = mantisreed("run", source, "--to", "txt")
            assert result.returncode == 0, result.stderr
        assert {path.name for path in (tmp_path / "transcripts").iterdir()} == {
            "note.txt",
            "bird.txt",
        }
        missing = mantisreed("run", "s3://nowhere/x.flac")
        assert missing.returncode == 2 and "no recording there" in missing.stderr
        write_stored("s3://marsh/out", "note.txt", b"a text")
        assert store.objects["marsh/out/note.txt"].content == b"a text"


@pytest.mark.parametrize(
    "address", ["github://x:y@z/a", "simplecache::http://h/a", "zip://a::http://h/a", "local:///x"]
)
def test_only_known_storages_are_read(address: str) -> None:
    with pytest.raises(InputError):
        find_recordings([address])


def test_a_watched_storage_is_looked_at_again_and_again_and_each_recording_is_done_once(
    ferry: Ferry, sound: bytes, english: list[Phrase], tmp_path: Path
) -> None:
    pytest.importorskip("s3fs")
    store = ObjectStore()
    store.put("marsh/in/first.flac", sound)
    compose(english, seed=8, duration=10).write(tmp_path / "other.flac")
    command = [
        sys.executable,
        "-m",
        "mantisreed",
        "watch",
        "s3://marsh/in",
        "--poll-interval",
        "0.3s",
        "--to",
        "txt",
    ]
    outputs = tmp_path / "transcripts"
    with ferry.sailing(tmp_path), serving(store.application(), bound_socket(0)) as url:
        keys = {
            "FSSPEC_S3_ENDPOINT_URL": url,
            "FSSPEC_S3_KEY": "marsh-key",
            "FSSPEC_S3_SECRET": "marsh-secret",
        }
        for idle in ("60s", "1s"):
            with subprocess.Popen(
                [*command, "--until-idle", idle], cwd=tmp_path, env={**os.environ, **keys}
            ) as watch:
                if idle == "1s":
                    assert watch.wait(30) == 0
                    break
                wait_for(lambda: (outputs / "first.txt").exists(), 30)
                store.put("marsh/in/second.flac", (tmp_path / "other.flac").read_bytes())
                wait_for(lambda: (outputs / "second.txt").exists(), 30)
                watch.terminate()
    assert sum(ferry.asked.values()) == 2
