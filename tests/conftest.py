"""What several tests need: the bundled bank, an ear, a running stand-in, and the built command."""

import io
import logging
import os
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from hypothesis import settings as hypothesis_settings
from starlette.routing import Mount

import advice
import forked_starts
from decoding import keep_workers
from mantisreed import secrets
from mantisreed.cli.main import main
from mantisreed.standin import server
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.ear import Ear
from mantisreed.standin.engines import brook
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.trust import TRUST_VARIABLE

KEY = "a-key-for-tests"

# Machines that run tests stall now and then; time is the benchmarks' business. Where a change is
# judged, it is judged by the same examples each time.
hypothesis_settings.register_profile(
    "steady",
    deadline=None,
    derandomize="CI" in os.environ,
    max_examples=int(os.environ.get("EXAMPLES", "100")),
)
hypothesis_settings.load_profile("steady")

_LONGEST = (
    "test_benchmarks.py",
    "cli/test_kills.py",
    "test_attacks.py",
    "working/test_workers.py",
    "cli/test_recovery.py",
    "exports/test_hostile_files.py",
    "working/test_served.py",
    "cli/test_full_disk.py",
    "cli/test_pictures.py",
    "cli/test_collecting.py",
    "serving/test_service.py",
    "review/test_review_page.py",
    "cli/test_follow_ups.py",
    "jobs/test_ledger.py",
    "cli/test_watch.py",
    "cli/test_promises.py",
    "working/test_storage.py",
    "working/test_seen.py",
    "learning/test_replies_of_strangers.py",
    "test_house.py",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The files that take longest come first: at the end nobody waits for one of them alone."""

    def rank(item: pytest.Item) -> int:
        path = item.path.as_posix()
        return next(
            (number for number, name in enumerate(_LONGEST) if path.endswith(name)), len(_LONGEST)
        )

    items.sort(key=rank)


forked_starts.use()

Command = Callable[..., subprocess.CompletedProcess[str]]
Standin = Callable[..., AbstractContextManager[subprocess.Popen[str]]]


@pytest.fixture(autouse=True)
def no_shared_cards(
    tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The settings of whoever runs the tests have no part in them, and those that tests write are
    trusted.
    """
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.getbasetemp() / "no-settings"))
    monkeypatch.setenv(TRUST_VARIABLE, str(tmp_path_factory.getbasetemp()))


@pytest.fixture(autouse=True)
def no_secrets_of_other_tests() -> None:
    """What one test has for a secret is none in the next."""
    secrets.forget_all()


@pytest.fixture(scope="session")
def bank() -> tuple[Phrase, ...]:
    return load_bank()


@pytest.fixture(scope="session")
def english(bank: tuple[Phrase, ...]) -> list[Phrase]:
    return [phrase for phrase in bank if phrase.language == "en"]


@pytest.fixture(scope="session")
def ear(bank: tuple[Phrase, ...]) -> Ear:
    return Ear(bank)


def free_port() -> int:
    """A port on loopback that nobody listens on."""
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port: int = probe.getsockname()[1]
    return port


@dataclass
class Note:
    """A short composed recording on disk, with its truth."""

    path: Path
    composition: Composition


@pytest.fixture(scope="session")
def note(english: list[Phrase], tmp_path_factory: pytest.TempPathFactory) -> Note:
    composition = compose(english, seed=5, duration=15)
    path = tmp_path_factory.mktemp("recordings") / "note.wav"
    composition.write(path)
    return Note(path, composition)


@pytest.fixture(scope="session")
def listener(bank: tuple[Phrase, ...], ear: Ear) -> Listener:
    return Listener(bank, ear)


@pytest.fixture(scope="session")
def address(listener: Listener) -> Iterator[str]:
    """Where all stand-ins listen; under `/small` is a brook that takes less than its card says."""
    application = server.standins(listener, KEY)
    application.router.routes.append(
        Mount("/small", routes=brook.routes(listener, KEY, most_bytes=600_000))
    )
    with server.bound_socket(0) as waiting, server.serving(application, waiting) as found:
        yield found


@pytest.fixture
def settings(address: str, listener: Listener, tmp_path: Path) -> Path:
    """A workspace's settings file with the cards of the running stand-ins; brook is the engine to
    use.
    """
    file = tmp_path / "mantisreed.toml"
    server.write_cards(file, address, KEY, listener)
    file.write_text(f'[settings]\nengine = "brook"\nmax_attempts = 1\n\n{file.read_text()}')
    return file


Moody = Callable[..., AbstractContextManager[str]]


@pytest.fixture
def moody(listener: Listener, tmp_path: Path) -> Moody:
    """Stand-ins of their own with such a fault profile; writes settings with their cards, and gives
    their address.
    """

    @contextmanager
    def start(
        profile: FaultProfile, engine: str = "dipper", more: str = "", tries: int = 5
    ) -> Iterator[str]:
        with (
            server.bound_socket(0) as waiting,
            server.serving(server.standins(listener, KEY, profile), waiting) as at,
        ):
            file = tmp_path / "mantisreed.toml"
            if file.exists():
                file.unlink()
            server.write_cards(file, at, KEY, listener)
            file.write_text(
                f'[settings]\nengine = "{engine}"\nmax_attempts = '
                f"{tries}\n{more}\n{file.read_text()}"
            )
            yield at

    return start


@pytest.fixture
def mantisreed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Command:
    """The command's own entry point, called in this process as the program calls it, in a temporary
    folder.

    Starting the program takes more than half a second each time; `program` does that, for what only
    a process shows.
    """

    def run(*arguments: str | bytes | Path) -> subprocess.CompletedProcess[str]:
        given = [os.fsdecode(argument) for argument in arguments]
        streams = [
            io.TextIOWrapper(io.BytesIO(), "utf-8", "surrogateescape", write_through=True)
            for _ in range(2)
        ]
        handlers = list(logging.getLogger("mantisreed").handlers)
        with monkeypatch.context() as patch:
            patch.chdir(tmp_path)
            patch.setattr(sys, "argv", ["mantisreed", *given])
            keep_workers(patch)
            patch.setattr(sys, "stdout", streams[0])
            patch.setattr(sys, "stderr", streams[1])
            if not isinstance(getattr(sys.stdin, "buffer", None), io.BytesIO):  # a test's own
                patch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO()))
            try:
                code: object = main(given)
            except SystemExit as ended:
                code = ended.code
        for handler in set(logging.getLogger("mantisreed").handlers) - set(handlers):
            logging.getLogger("mantisreed").removeHandler(handler)
            handler.close()
        printed = [_bytes_of(stream).decode("utf-8", "surrogateescape") for stream in streams]
        advice.check(given[0] if given else "", printed[1])
        return subprocess.CompletedProcess(given, code if isinstance(code, int) else 0, *printed)

    return run


def _bytes_of(stream: io.TextIOWrapper) -> bytes:
    buffer = stream.buffer
    assert isinstance(buffer, io.BytesIO)
    return buffer.getvalue()


@contextmanager
def offered(folder: Path, asked: list[str] | None = None) -> Iterator[int]:
    """The port on this machine where the files of a folder are offered; what is asked for is
    noted.
    """
    seen = [] if asked is None else asked

    class Handler(SimpleHTTPRequestHandler):
        def log_request(self, *_: object) -> None:
            seen.append(self.path)

    handler = partial(Handler, directory=str(folder))
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_address[1]
        server.shutdown()


@pytest.fixture
def program(tmp_path: Path) -> Command:
    """The built command, started as a user starts it, in a temporary folder."""

    def run(*arguments: str | bytes | Path) -> subprocess.CompletedProcess[str]:
        with forked_starts.as_usual():
            return subprocess.run(
                [sys.executable, "-m", "mantisreed", *arguments],
                cwd=tmp_path,
                capture_output=True,
                text=True,
                errors="surrogateescape",
                timeout=60,
            )

    return run


@pytest.fixture
def standin_process(tmp_path: Path) -> Standin:
    """`mantisreed standin ...` in a process of its own, from its first line until the context
    ends.
    """

    @contextmanager
    def start(*arguments: str) -> Iterator[subprocess.Popen[str]]:
        process = subprocess.Popen(
            [sys.executable, "-m", "mantisreed", *arguments],
            cwd=tmp_path,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        try:
            assert process.stdout is not None
            assert process.stdout.readline().startswith("listening on http://127.0.0.1:")
            yield process
        finally:
            process.terminate()
            process.communicate(timeout=20)

    return start
