"""The state beside the settings belongs to whoever has made it: what somebody else has put there is
not used, nothing is reached through a link, and only what this program has named is removed.
"""

import json
import shutil
from contextlib import closing
from pathlib import Path

import pytest

from cli.ferry import Ferry
from conftest import Command
from mantisreed.errors import InputError
from mantisreed.folders import forget, read, remove
from mantisreed.jobs.ledger import Ledger
from mantisreed.pipeline.transcribe import transcribe
from mantisreed.state import is_known, make_folder
from mantisreed.trust import TRUST_VARIABLE
from mantisreed.workspace import open_workspace
from serving.running import serving

NAMED = ("--config", "mantisreed.toml")
"""Trust in what the settings use, by naming them; not in any state."""

COMMANDS = (
    ("run", "recordings"),
    ("submit", "recordings"),
    ("jobs",),
    ("retry",),
    ("collect",),
    ("costs",),
    ("cancel", "abcdef"),
    ("forget", "--yes", "abcdef"),
    ("export", "abcdef", "--to", "srt"),
    ("tokens", "list"),
)


@pytest.fixture(autouse=True)
def nothing_is_trusted(
    tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv(TRUST_VARIABLE)
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.mktemp("of the user")))


@pytest.fixture
def by_another(
    mantisreed: Command,
    ferry: Ferry,
    recordings: Path,
    tmp_path: Path,
    tmp_path_factory: pytest.TempPathFactory,
    monkeypatch: pytest.MonkeyPatch,
) -> Path:
    """The state of a folder in which somebody else has run something."""
    with monkeypatch.context() as patch, ferry.sailing(tmp_path):
        patch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.mktemp("of somebody else")))
        assert mantisreed("run", "recordings", *NAMED).returncode == 0
    ferry.forget()
    return tmp_path / ".mantisreed"


def contents(folder: Path) -> dict[str, bytes]:
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not path.is_symlink()
    }


def test_state_that_somebody_else_has_made_is_not_used(
    mantisreed: Command, ferry: Ferry, by_another: Path, tmp_path: Path
) -> None:
    before = contents(by_another)
    with ferry.sailing(tmp_path):
        for command in COMMANDS:
            given = mantisreed(*command)
            assert given.returncode == 2 and "not made by you here" in given.stderr, command
            assert "`mantisreed trust`" in given.stderr
        with pytest.raises(InputError, match="not made by you here"):
            transcribe([tmp_path / "recordings"], open_workspace(tmp_path / "mantisreed.toml"))
        # What needs no state goes on.
        assert mantisreed("plan", "recordings").returncode == 0
        assert mantisreed("engines", "check").returncode == 0
    assert contents(by_another) == before and not ferry.asked


def test_taken_as_ones_own_it_is_used_and_so_it_is_for_this_once(
    mantisreed: Command, ferry: Ferry, by_another: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        assert mantisreed("jobs", "--trust").returncode == 0
        assert mantisreed("jobs", *NAMED).returncode == 2
        assert mantisreed("trust").returncode == 0
        assert len(json.loads(mantisreed("jobs", "--json").stdout)["jobs"]) == 2


def test_what_is_moved_stays_ones_own_and_a_copy_is_a_stranger(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "recordings", *NAMED).returncode == 0
        away = tmp_path / "away"
        away.mkdir()
        (tmp_path / ".mantisreed").rename(away / ".mantisreed")
        (away / "mantisreed.toml").write_bytes((tmp_path / "mantisreed.toml").read_bytes())
        assert mantisreed("jobs", "--config", "away/mantisreed.toml").returncode == 0
        # Somebody who has had a copy of it, with its mark, gives it back.
        shutil.copytree(away / ".mantisreed", tmp_path / ".mantisreed")
        assert mantisreed("jobs", *NAMED).returncode == 2


def test_a_service_removes_and_sends_nothing_that_a_folder_from_elsewhere_names(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path
) -> None:
    precious = tmp_path / "precious"
    for name in ("one", "two", "0123456789abcdef01234567"):
        (precious / name).mkdir(parents=True)
        (precious / name / "letter.txt").write_text("kept for years")
    secret = precious / "one" / "secret.flac"
    shutil.copy(next(recordings.iterdir()), secret)
    serve = tmp_path / ".mantisreed" / "serve"
    serve.mkdir(parents=True)
    job = "0123456789abcdef01234567"
    order = {"id": job, "owner": "", "name": "secret.flac", "path": str(secret), "is_ours": True}
    with closing(Ledger(tmp_path / ".mantisreed")) as ledger:
        assert ledger.served.add(job, "", None, json.dumps(order).encode())
    (serve / "recordings").symlink_to(precious)
    before = contents(precious)
    with ferry.sailing(tmp_path):
        given = mantisreed("serve", "--listen", "127.0.0.1:0")
        assert given.returncode == 2 and "not made by you here" in given.stderr
        # Even where the user has said yes to it, links lead nowhere, and names count for nothing.
        assert mantisreed("trust").returncode == 0
        refused = mantisreed("serve", "--listen", "127.0.0.1:0")
        assert refused.returncode != 0 and "link" in refused.stderr
        (serve / "recordings").unlink()
        (serve / "recordings").mkdir()
        shutil.copytree(precious / "two", serve / "recordings" / "holiday")
        with serving(tmp_path, *NAMED) as service:
            found = service.ask("GET", f"/jobs/{job}")
            if found.status == 200:
                service.ended(job)
                service.ask("DELETE", f"/jobs/{job}")
        assert (serve / "recordings" / "holiday" / "letter.txt").exists()
    assert contents(precious) == before and not ferry.asked


@pytest.mark.parametrize(
    ("place", "command"),
    [
        *((place, "run") for place in ("alive", "outputs", "outputs/stems", "ledger.sqlite")),
        *((place, "serve") for place in ("alive", "serve", "serve/recordings", "serve/uploads")),
    ],
)
def test_nothing_in_it_is_reached_through_a_link(
    mantisreed: Command, ferry: Ferry, recordings: Path, tmp_path: Path, place: str, command: str
) -> None:
    with ferry.sailing(tmp_path):
        assert mantisreed("run", "recordings", *NAMED).returncode == 0
        with serving(tmp_path, *NAMED):
            pass
        inside, outside = tmp_path / ".mantisreed" / place, tmp_path / "outside"
        if inside.exists():
            inside.rename(outside)
        else:
            outside.mkdir()
            inside.parent.mkdir(exist_ok=True)
        inside.symlink_to(outside)
        before = contents(tmp_path / "outside") if outside.is_dir() else outside.read_bytes()
        options = ("recordings", "--afresh") if command == "run" else ("--listen", "127.0.0.1:0")
        refused = mantisreed(command, *options, *NAMED)
        assert refused.returncode != 0 and "link" in refused.stderr, refused.stderr
        after = contents(tmp_path / "outside") if outside.is_dir() else outside.read_bytes()
        assert after == before and inside.is_symlink()


def test_only_what_this_program_has_named_is_removed(tmp_path: Path) -> None:
    hidden = tmp_path / ".mantisreed"
    job = hidden / "serve" / "recordings" / "0123456789abcdef"
    make_folder(job)
    assert is_known(hidden)
    (job / "note.wav").write_bytes(b"sound")
    (job / "inner").mkdir()
    (job / "inner" / "letter.txt").write_text("not ours")
    (tmp_path / "letter.txt").write_text("not ours")
    (job / "link.wav").symlink_to(tmp_path / "letter.txt")
    assert not remove(job)  # something is left in it
    assert not (job / "note.wav").exists()
    assert (job / "inner" / "letter.txt").exists() and (job / "link.wav").is_symlink()
    for path in (tmp_path / "letter.txt", hidden, hidden / "serve", tmp_path, hidden / "mark"):
        assert not forget(path) and path.exists()
    assert remove(hidden / "serve" / "recordings" / "0123456789abcdee")  # there is none
    (hidden / "alive").mkdir()
    (hidden / "alive" / "0123456789abcdef.lock").symlink_to(tmp_path / "letter.txt")
    assert not remove(hidden / "alive" / "0123456789abcdef.lock")
    with pytest.raises(OSError, match="link"):
        (hidden / "replies").symlink_to(tmp_path)
        read(hidden / "replies" / "letter.txt")


def test_two_that_make_it_at_once_have_one(tmp_path: Path) -> None:
    from concurrent.futures import ThreadPoolExecutor

    for number in range(20):
        folder = tmp_path / str(number) / ".mantisreed" / "alive"
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda _, place=folder: make_folder(place), range(8)))
        assert is_known(folder.parent)
        assert [path.name for path in folder.parent.parent.iterdir()] == [".mantisreed"]
