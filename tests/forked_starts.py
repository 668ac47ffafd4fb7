"""Starts of the command that do not import it anew.

Tests start the command in hundreds of processes, and most of what each of them computes is loading
libraries. Here a process that has loaded them is forked for each start instead. What comes out is a
process as `subprocess` would have made it, with a folder, an environment and streams of its own,
and a child of the process that asked: it can be waited for and killed like any other.

    python -m forked_starts DESCRIPTOR

is that process; `use()` puts it to work for everything that this process starts from then on. What
it cannot do, such as other options of the interpreter, is started as usual.
"""

import atexit
import ctypes
import gc
import importlib
import io
import json
import os
import pkgutil
import random
import runpy
import signal
import socket
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NoReturn

_SUBREAPER = 36  # PR_SET_CHILD_SUBREAPER: orphans below this process become its children
_HIGHEST = 4096  # above all descriptors that a start inherits
_MODULES = ("mantisreed", "mantisreed.audio.worker")
_SCRIPTS = ("tools", "benchmarks")
_MEASURED = ("startup.py",)  # it is about what a start costs
_ROOT = Path(__file__).parents[1]
# They change an interpreter before it has run a line.
_FOR_INTERPRETERS = ("PYTHON", "LC_", "LANG", "LD_")
_DECODING = ("run", "serve", "work", "watch", "submit", "retry", "live", "compare", "inspect")

Popen = subprocess.Popen


class ForkedPopen(Popen):  # type: ignore[type-arg]
    """`Popen`, whose process is forked where it can be."""

    def _execute_child(self, args: Any, *given: Any) -> None:
        """As `Popen` calls it in Python 3.11 and later."""
        (executable, preexec_fn, close_fds, pass_fds, cwd, env, _, _, shell) = given[:9]
        pipes = given[9:15]
        gid, gids, uid, umask, starts_session, group = given[16:22]
        is_plain = not (executable or preexec_fn or pass_fds or shell) and close_fds
        is_ours = gid is None and gids is None and uid is None and umask == -1 and group == -1
        wanted = _wanted(args, env) if is_plain and is_ours else None
        if wanted is None or _asking is None:
            super()._execute_child(args, *given)  # type: ignore[misc]
            return
        folder = Path.cwd() if cwd is None else Path(os.fsdecode(cwd))
        if not folder.is_dir():
            raise FileNotFoundError(2, "No such file or directory", str(folder))
        told = {
            "wanted": wanted,
            "cwd": str(folder),
            "env": {os.fsdecode(k): os.fsdecode(v) for k, v in (env or os.environ).items()},
            "session": bool(starts_session),
        }
        p2cread, _, _, c2pwrite, _, errwrite = pipes
        streams = [p2cread, c2pwrite, errwrite]
        self.pid = _asking(told, [own if at == -1 else at for own, at in enumerate(streams)])
        self._child_created = True
        self._close_pipe_fds(*pipes)  # type: ignore[attr-defined]


def _wanted(args: Any, env: Any) -> list[str] | None:
    """What is started: a module or a script, and its arguments; None for anything else."""
    if isinstance(args, str | bytes | os.PathLike) or _needs_an_interpreter(env):
        return None
    given = [os.fsdecode(one) for one in args]
    if given[0] == str(Path(sys.executable).with_name("mantisreed")):
        return ["mantisreed", *given[1:]]
    if given[0] != sys.executable or len(given) < 2:
        return None
    return _wanted_of_interpreter(given)


def _needs_an_interpreter(env: Any) -> bool:
    """Whether an environment differs from that of this process in what a new interpreter reads."""
    if env is None:
        return False
    given = {os.fsdecode(name): os.fsdecode(value) for name, value in env.items()}
    names = (name for name in {*os.environ, *given} if name.startswith(_FOR_INTERPRETERS))
    return any(os.environ.get(name) != given.get(name) for name in names)


def _wanted_of_interpreter(given: Sequence[str]) -> list[str] | None:
    """The same of what an interpreter is given."""
    options = [one for one in given[1:3] if one == "-P"]
    module = list(given[1 + len(options) :])
    if module[0] == "-m" and module[1] in _MODULES:
        return module[1:]
    script = Path(module[0])
    is_script = script.suffix == ".py" and script.is_absolute() and not options
    is_script = is_script and script.name not in _MEASURED
    if is_script and script.parent in [_ROOT / name for name in _SCRIPTS]:
        return module
    return None


_asking: Callable[[dict[str, Any], list[int]], int] | None = None


def use() -> None:
    """Start what can be from a process of our own, which is made at the first start.

    It needs Linux, which gives orphans to whoever asked for them; elsewhere all is as usual.
    """
    if not hasattr(os, "memfd_create"):
        return

    def ask(told: dict[str, Any], streams: list[int]) -> int:
        with lock:
            if _asking is ask:
                _start()
        assert _asking is not None
        return _asking(told, streams)

    global _asking
    lock, _asking = threading.Lock(), ask
    subprocess.Popen = ForkedPopen  # type: ignore[misc]


def _start() -> None:
    """Start the process that is forked, and ask it from now on."""
    ours, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    command = [sys.executable, "-m", "forked_starts", str(its.fileno())]
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parent)}
    # One thread, which can be forked.
    environment["OPENBLAS_NUM_THREADS"] = "1"
    process = Popen(command, pass_fds=[its.fileno()], env=environment)
    its.close()
    _ask_by(ours)

    def end() -> None:
        ours.close()
        process.wait()

    atexit.register(end)


@contextmanager
def as_usual() -> Iterator[None]:
    """Start programs as a user does, for what is about the start."""
    forked, subprocess.Popen = subprocess.Popen, Popen  # type: ignore[misc]
    try:
        yield
    finally:
        subprocess.Popen = forked  # type: ignore[misc]


def _ask_by(connection: socket.socket) -> None:
    """Let everything that can be forked be started over a connection."""
    global _asking
    ctypes.CDLL(None, use_errno=True).prctl(_SUBREAPER, 1, 0, 0, 0)
    lock = threading.Lock()

    def ask(told: dict[str, Any], streams: list[int]) -> int:
        content = os.memfd_create("start")
        os.write(content, json.dumps(told).encode())
        try:
            with lock:
                socket.send_fds(connection, [b"start"], [*streams, content])
                return int(connection.recv(20))
        finally:
            os.close(content)

    _asking = ask


def _serve(connection: socket.socket) -> NoReturn:
    """Fork a process for each start that is asked for, as long as somebody is there to ask."""
    gc.collect()
    gc.freeze()
    while True:
        asked, fds, _, _ = socket.recv_fds(connection, 16, 4)
        if not asked:
            os._exit(0)
        told, tell = os.pipe()
        # Its child becomes one of whoever asked, when it has ended.
        middle = os.fork()
        if middle == 0:
            child = os.fork()
            if child:
                os.write(tell, str(child).encode())
                os._exit(0)
            _become(fds)
        os.waitpid(middle, 0)
        connection.send(os.read(told, 20))
        for descriptor in (told, tell, *fds):
            os.close(descriptor)


def _become(fds: Sequence[int]) -> NoReturn:
    """Turn this process into the one that was asked for."""
    *streams, content = fds
    told = json.loads(os.pread(content, os.fstat(content).st_size, 0))
    # First out of the way: one of them may have the number of another's place.
    moved = [os.dup(descriptor) for descriptor in streams]
    for number, descriptor in enumerate(moved):
        os.dup2(descriptor, number)
    os.closerange(3, _HIGHEST)
    os.chdir(told["cwd"])
    os.environ.clear()
    os.environ.update(told["env"])
    time.tzset()
    if told["session"]:
        os.setsid()
    signal.signal(signal.SIGINT, signal.default_int_handler)
    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGCHLD):
        signal.signal(number, signal.SIG_DFL)
    random.seed()
    _read_environment_again()
    _renew_streams()
    name, *arguments = told["wanted"]
    _end(_run(name, arguments))


def _read_environment_again() -> None:
    """What libraries had read of the environment when they were loaded."""
    config = sys.modules.get("fsspec.config")
    if config is not None:
        config.conf.clear()
        config.set_conf_files(config.conf_dir, config.conf)
        config.set_conf_env(config.conf)


def _renew_streams() -> None:
    """Streams as an interpreter makes them for the descriptors that it finds."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        is_input, is_terminal = number == 0, os.isatty(number)
        raw = io.FileIO(number, "rb" if is_input else "wb", closefd=False)
        buffered = io.BufferedReader(raw) if is_input else io.BufferedWriter(raw)
        stream = io.TextIOWrapper(
            buffered,
            "utf-8",
            "backslashreplace" if number == 2 else "strict",
            line_buffering=is_terminal or number == 2,
        )
        setattr(sys, name, stream)
        setattr(sys, f"__{name}__", stream)


def _run(name: str, arguments: list[str]) -> int:
    """Run a module or script as a program; its exit code."""
    sys.argv = [name, *arguments]
    try:
        if name == "mantisreed":
            _lend_decoder(arguments)
            return int(importlib.import_module("mantisreed.cli.main").main())
        if name.endswith(".py"):
            _be_asked()
            sys.path.insert(0, str(Path(name).parent))
            runpy.run_path(name, run_name="__main__")
        else:
            runpy.run_module(name, run_name="__main__", alter_sys=True)
    except SystemExit as ended:
        if ended.code is None or isinstance(ended.code, int):
            return ended.code or 0
        sys.stderr.write(f"{ended.code}\n")
        return 1
    except KeyboardInterrupt:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        os.kill(os.getpid(), signal.SIGINT)
    except BaseException:
        traceback.print_exc()
        return 1
    return 0


def _lend_decoder(arguments: Sequence[str]) -> None:
    """The first decoding process is forked as well, while there is a single thread."""
    if not arguments or arguments[0] not in _DECODING:
        return
    from decoding import lend_forked_worker

    lend_forked_worker()


def _be_asked() -> None:
    """Let a script fork its starts from a process that is forked from it before it has begun."""
    ours, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    if os.fork() == 0:
        ours.close()
        _serve(its)
    its.close()
    _ask_by(ours)
    subprocess.Popen = ForkedPopen  # type: ignore[misc]


def _end(code: int) -> NoReturn:
    """End as an interpreter does: threads, what was registered, streams."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except OSError:
        code = 120
    os._exit(code)


def main() -> None:
    import mantisreed

    for module in pkgutil.walk_packages(mantisreed.__path__, "mantisreed."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    _serve(socket.socket(fileno=int(sys.argv[1])))


if __name__ == "__main__":
    main()
