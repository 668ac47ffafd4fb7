"""A folder from elsewhere does nothing with what is its user's, until the user says so."""

import json
import os
import pty
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command, Note
from mantisreed.trust import TRUST_VARIABLE, Use, digest_of, uses_of
from mantisreed.workspace import open_workspace

ENGINE = """
[engine.stranger]
url = "{url}"
every.bearer = "{{key}}"
accepts.formats = ["flac"]
send.raw = "{{audio}}"
reply.text = "says"
[engine.stranger.secrets]
key = "env:STRANGER_WANTS"
"""
PROGRAM = """
[engine.stranger]
command.run = ["sh", "-c", "touch {mark}; echo x", "{{audio_file}}"]
reply.format = "text"
accepts.formats = ["wav"]
"""
OBJECT = """
[engine.stranger]
python.object = "marker:engine"
reply.format = "text"
accepts.formats = ["wav"]
"""
LEDGER = (
    '[ledger]\nurl = "postgresql://me@stranger.invalid/ledger"\npassword = "env:STRANGER_WANTS"\n'
)
HARMLESS = '[engine.stranger]\nurl = "{url}"\naccepts.formats = ["flac"]\n'
HARMLESS += 'send.raw = "{{audio}}"\nreply.text = "says"\n'


@pytest.fixture(autouse=True)
def nothing_is_trusted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv(TRUST_VARIABLE)
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "of the user"))
    monkeypatch.setenv("STRANGER_WANTS", "the-key-to-the-hut")


@dataclass
class Folder:
    """A folder that came from elsewhere, with a recording in it."""

    path: Path
    mantisreed: Command
    url: str
    marks: list[Path] = field(default_factory=list)

    def settings(self, toml: str, **more: object) -> None:
        """Put such a settings file into the folder."""
        (self.path / "mantisreed.toml").write_text(
            toml.format(url=self.url, **more) if "{" in toml else toml
        )

    def run(self, *arguments: str) -> "subprocess.CompletedProcess[str]":
        return self.mantisreed(*(arguments or ("run", "note.wav")))


@pytest.fixture
def folder(tmp_path: Path, note: Note, mantisreed: Command) -> Folder:
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    return Folder(tmp_path, mantisreed, "http://127.0.0.1:9/")


@contextmanager
def served(ferry: Ferry, folder: Folder) -> Iterator[str]:
    """The engine that counts, at this address."""
    with ferry.sailing(folder.path):
        found = re.search(r"http://127.0.0.1:\d+", (folder.path / "mantisreed.toml").read_text())
        assert found is not None
        yield found[0]


HABITS = (
    ("run", "note.wav"),
    ("submit", "note.wav"),
    ("engines", "try", "stranger"),
    ("run", "note.wav", "--engine", "stranger", "--to", "txt"),
)


@pytest.mark.parametrize("command", HABITS, ids=" ".join)
def test_a_key_goes_nowhere_out_of_habit(
    folder: Folder, command: tuple[str, ...], ferry: Ferry
) -> None:
    with served(ferry, folder) as url:
        folder.url = url
        folder.settings(ENGINE)
        refused = folder.run(*command)
    assert refused.returncode == 2
    assert f"send env:STRANGER_WANTS to {url} (engine stranger)" in refused.stderr
    assert "mantisreed trust" in refused.stderr
    assert not ferry.asked
    assert not (folder.path / ".mantisreed").exists()


@pytest.mark.parametrize("command", HABITS, ids=" ".join)
def test_no_program_starts_out_of_habit_nor_by_naming_the_file(
    folder: Folder, command: tuple[str, ...]
) -> None:
    mark = folder.path / "was-here"
    folder.settings(PROGRAM, mark=mark)
    for more in ((), ("--config", "mantisreed.toml")):
        refused = folder.run(*command, *more)
        assert refused.returncode == 2
        assert f"start sh -c touch {mark}" in refused.stderr
    assert not mark.exists()
    assert folder.run("run", "note.wav", "--trust").returncode == 0
    assert mark.exists()


@pytest.mark.parametrize("command", HABITS, ids=" ".join)
def test_no_object_is_loaded_out_of_habit(folder: Folder, command: tuple[str, ...]) -> None:
    mark = folder.path / "was-here"
    (folder.path / "marker.py").write_text(f"open({str(mark)!r}, 'w')\n")
    folder.settings(OBJECT)
    assert "load marker:engine" in folder.run(*command).stderr
    assert not mark.exists()


@pytest.mark.parametrize(
    "command", ["jobs", "costs", "collect", "retry", "cancel x", "forget x --yes", "export x"]
)
def test_no_database_is_spoken_to_out_of_habit(folder: Folder, command: str) -> None:
    folder.settings(LEDGER + HARMLESS)
    refused = folder.run(*command.split())
    assert refused.returncode == 2
    assert (
        "keep the ledger at postgresql://stranger.invalid/ledger with env:STRANGER_WANTS"
        in refused.stderr
    )


@pytest.mark.parametrize("into", ["../elsewhere", "{outside}", "link/in"])
def test_nothing_is_written_outside_out_of_habit(
    folder: Folder, into: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    outside = tmp_path_factory.mktemp("outside")
    (folder.path / "link").symlink_to(outside)
    into = into.format(outside=outside)
    folder.settings(f'[settings]\ninto = "{into}"\n' + HARMLESS)
    refused = folder.run()
    assert refused.returncode == 2
    assert f"write to {(folder.path / into).resolve()}" in refused.stderr
    assert not list(outside.iterdir())


def test_a_hidden_folder_that_leads_elsewhere_is_no_place_to_write(
    folder: Folder, tmp_path_factory: pytest.TempPathFactory
) -> None:
    outside = tmp_path_factory.mktemp("outside")
    (folder.path / ".mantisreed").symlink_to(outside)
    folder.settings(HARMLESS)
    for command in (("run", "note.wav"), ("jobs",)):
        assert f"write to {outside}, where .mantisreed leads" in folder.run(*command).stderr
    assert not list(outside.iterdir())


def test_a_ledger_from_elsewhere_chooses_no_folder(
    folder: Folder, ferry: Ferry, tmp_path_factory: pytest.TempPathFactory
) -> None:
    outside = tmp_path_factory.mktemp("outside")
    with served(ferry, folder) as url:
        folder.url = url
        folder.settings(HARMLESS)
        into = ("--into", str(outside), "--to", "txt", "--trust")
        assert folder.run("run", "note.wav", *into).returncode == 0
    (outside / "note.txt").unlink()
    job = json.loads(folder.run("jobs", "--json").stdout)["jobs"][0]["id"]
    shutil.copytree(folder.path / ".mantisreed", folder.path / "copied")
    shutil.rmtree(folder.path / ".mantisreed")
    (folder.path / "copied").rename(folder.path / ".mantisreed")
    refused = folder.run("export", job[:8], "--to", "txt", "--config", "mantisreed.toml")
    assert refused.returncode == 2 and "not made by you here" in refused.stderr
    assert not list(outside.iterdir())


def test_a_card_of_the_users_own_is_not_turned_to_another_host(
    folder: Folder, tmp_path: Path
) -> None:
    shared = tmp_path / "of the user" / "mantisreed" / "mantisreed.toml"
    shared.parent.mkdir(parents=True)
    shared.write_text(ENGINE.format(url="https://speech.marsh.example/"))
    folder.settings('[settings]\nengine = "stranger"\n')
    open_workspace(folder.path / "mantisreed.toml").require_trust_in("stranger")
    folder.settings('[engine.stranger]\nurl = "https://stranger.invalid/"\n')
    refused = folder.run()
    assert "send env:STRANGER_WANTS to https://stranger.invalid (engine stranger)" in refused.stderr


def test_trust_is_remembered_for_exactly_this(folder: Folder, ferry: Ferry) -> None:
    with served(ferry, folder) as url:
        folder.url = url
        folder.settings(ENGINE)
        told = folder.run("trust")
        assert told.returncode == 0
        assert f"  send env:STRANGER_WANTS to {url} (engine stranger)" in told.stdout
        assert folder.run().returncode == 0
        assert str(folder.path / "mantisreed.toml") in folder.run("trust", "--list").stdout
        folder.settings(
            ENGINE + "\n[settings]\nlayout = 'phone'\n[engine.stranger.price]\nper_minute = 1\n"
        )
        assert folder.run().returncode == 0, "what is used has not changed"
        folder.settings(ENGINE.replace("STRANGER_WANTS", "HOME"))
        assert folder.run().returncode == 2
        folder.settings(ENGINE)
        assert json.loads(folder.run("trust", "--revoke", "--json").stdout)["trusted"] is False
        assert folder.run().returncode == 2


def test_naming_the_file_is_trust_in_its_keys_and_addresses(folder: Folder, ferry: Ferry) -> None:
    with served(ferry, folder) as url:
        folder.url = url
        folder.settings(ENGINE)
        assert folder.run("run", "note.wav", "--config", "mantisreed.toml").returncode == 0
    assert ferry.asked


def test_automation_names_folders(folder: Folder, monkeypatch: pytest.MonkeyPatch) -> None:
    folder.settings(PROGRAM, mark=folder.path / "was-here")
    monkeypatch.setenv(TRUST_VARIABLE, os.pathsep.join(["/nowhere", str(folder.path)]))
    assert folder.run().returncode == 0
    monkeypatch.setenv(TRUST_VARIABLE, str(folder.path / "note.wav"))
    assert folder.run().returncode == 2


@pytest.mark.skipif(sys.platform == "win32", reason="there are no pseudo-terminals")
@pytest.mark.parametrize("answer", ["y\n", "\n"])
def test_somebody_at_a_terminal_is_asked_once(folder: Folder, answer: str) -> None:
    mark = folder.path / "was-here"
    folder.settings(PROGRAM, mark=mark)
    parent, child = pty.openpty()
    os.write(parent, answer.encode())
    command = [sys.executable, "-m", "mantisreed", "run", "note.wav"]
    ended = subprocess.run(
        command, cwd=folder.path, stdin=child, stderr=child, stdout=subprocess.PIPE, timeout=60
    )
    said = os.read(parent, 1 << 16).decode()
    os.close(child)
    os.close(parent)
    assert "Trust them with this from now on?" in said
    assert (ended.returncode == 0) == mark.exists() == (answer == "y\n")
    assert (folder.run("run", "note.wav", "--afresh").returncode == 0) == mark.exists()


def test_the_users_own_key_beside_a_stand_in_needs_no_trust_of_its_own(
    folder: Folder, ferry: Ferry
) -> None:
    (folder.path / "key").write_text("made-up-key")
    with served(ferry, folder) as url:
        folder.url = url
        folder.settings(ENGINE.replace("env:STRANGER_WANTS", "file:key"))
        told = folder.run().stderr
        assert "send recordings to" in told and "send file:key" not in told
        assert folder.run("trust").returncode == 0 and folder.run().returncode == 0
        folder.settings(ENGINE.replace("env:STRANGER_WANTS", f"file:{os.devnull}"))
        assert folder.run().returncode == 2


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ('url = "https://a.example/"', 'url = "https://b.example/"'),
        ('url = "https://a.example/"', 'url = "https://a.example:8443/"'),
        ('url = "https://a.example/"', 'url = "http://a.example/"'),
        (
            'url = "https://{h}/"\nvalues.h = "a.example"',
            'url = "https://{h}/"\nvalues.h = "b.example"',
        ),
        ('url = "{h}"\nvalues.h = "a.example"', 'url = "{h}"\nvalues.h = "b.example"'),
        (
            'url = "https://a.example"\nsend.path = "/v1"',
            'url = "https://a.example"\nsend.path = ".b.example/v1"',
        ),
        (
            'url = "https://a.example"\nsend.path = "@b/"',
            'url = "https://a.example"\nsend.path = "@c/"',
        ),
        ('url = "https://a.example/"', 'url = "https://a.example/"\nsend.keys = true'),
        ('url = "https://a.example/"', 'url = "https://a.example/"\nsend.follow_redirects = true'),
        (
            'url = "https://a.example/"',
            'url = "https://a.example/"\nprofile.x.url = "https://b.example/"',
        ),
        (
            'url = "https://a.example/"',
            'url = "https://a.example/"\nsend.url = "https://b.example/"',
        ),
    ],
)
def test_whatever_turns_a_key_elsewhere_is_another_use(
    tmp_path: Path, before: str, after: str
) -> None:
    import tomllib

    def digest(toml: str) -> str:
        table = tomllib.loads(toml) | {"secrets": {"key": "env:K"}}
        return digest_of(uses_of(tmp_path / "mantisreed.toml", {}, {"stranger": table}))

    assert digest(before) != digest(after)


def test_each_place_of_a_secret_counts_whatever_it_is_called(tmp_path: Path) -> None:
    table = {
        "url": "http://127.0.0.1/",
        "secrets": {"key": "env:FIRST"},
        "profile": {"x": {"secrets": {"key": "file:key"}}, "y": {"secrets": {"key": "env:SECOND"}}},
    }
    said = [use.what for use in uses_of(tmp_path / "mantisreed.toml", {}, {"stranger": table})]
    assert said == [
        "send recordings to http://127.0.0.1",
        "send env:FIRST to http://127.0.0.1",
        "send env:SECOND to http://127.0.0.1",
    ]


def test_trust_does_not_depend_on_the_order_of_uses(tmp_path: Path) -> None:
    uses = (Use("secret", "a"), Use("program", "b", "engine", "exact"))
    assert digest_of(uses) == digest_of(uses[::-1])


@pytest.mark.parametrize(
    "command",
    ["engines try stranger --dry-run", "engines check", "engines list", "plan note.wav", "jobs"],
)
def test_what_sends_nothing_asks_for_nothing(folder: Folder, command: str) -> None:
    folder.url = "https://stranger.example"
    folder.settings(ENGINE)
    ended = folder.run(*command.split())
    assert ended.returncode == 0, ended.stderr
    assert "the-key-to-the-hut" not in ended.stdout


def test_a_command_that_uses_one_engine_asks_for_that_one_and_what_follows(folder: Folder) -> None:
    folder.url = "https://stranger.example"
    other = ENGINE.replace("stranger", "other").replace("{url}", "https://other.example")
    mail = '[follow_up.m.mail]\nserver = "smtp://127.0.0.1:25"\nsender = "a@b"\nto = ["c@d"]\n'
    folder.settings(ENGINE + other + mail)
    told = folder.run("run", "note.wav", "--engine", "stranger").stderr
    assert "engine stranger" in told and "smtp://127.0.0.1:25 for c@d" in told
    assert "engine other" not in told
