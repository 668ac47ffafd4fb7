"""Install the wheel as a user would, on each Python that can be had, and see that it works.

    python tools/smoke_pythons.py [PYTHON ...]

For each Python of the supported versions that is on this machine (on PATH, of pyenv or of uv), and
in turn: builds the source distribution and of it the wheel, once, installs it into a new virtual
environment with whatever versions the index resolves today, and runs `mantisreed demo`, one `run`
and one `serve`. Without arguments, Pythons are looked for. Exit code 1 when one of them fails; what
it printed is shown.
"""

import argparse
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Mapping
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OLDEST, NEWEST = 11, 14  # minor versions of Python 3 that are looked for


class SmokeError(Exception):
    """Something did not work; the message is what it printed."""


def pythons() -> dict[str, Path]:
    """The interpreters of supported versions, by `3.N`, the first that is found of each."""
    found: dict[str, Path] = {}
    for minor in range(OLDEST, NEWEST + 1):
        version = f"3.{minor}"
        for path in candidates(version):
            if version_of(path) == version:
                found[version] = path
                break
    return found


def candidates(version: str) -> list[Path]:
    paths = [Path(sys.executable)]
    if (on_path := shutil.which(f"python{version}")) is not None:
        paths.append(Path(on_path))
    versions = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv")) / "versions"
    paths += sorted(versions.glob(f"{version}.*/bin/python"))
    if shutil.which("uv") is not None:
        told = subprocess.run(["uv", "python", "find", version], capture_output=True, text=True)
        if told.returncode == 0:
            paths.append(Path(told.stdout.strip()))
    return paths


def version_of(python: Path) -> str | None:
    """`3.N`; None where it does not start, as a shim of a version that is not there."""
    program = "import sys; print('%d.%d' % sys.version_info[:2])"
    told = subprocess.run([python, "-c", program], capture_output=True, text=True)
    return told.stdout.strip() if told.returncode == 0 else None


def called(*command: str | Path, folder: Path, environment: Mapping[str, str] | None = None) -> str:
    """What a command prints.

    Raises:
        SmokeError: its exit code is not 0.
    """
    result = subprocess.run(
        command,
        cwd=folder,
        env={**os.environ, **(environment or {})},
        capture_output=True,
        text=True,
        timeout=600,
    )
    if result.returncode != 0:
        shown = " ".join(map(str, command))
        raise SmokeError(f"{shown}: exit code {result.returncode}\n{result.stdout}{result.stderr}")
    return result.stdout


def built_wheel(folder: Path) -> Path:
    """The wheel, built of the source distribution: what that lacks, the wheel would lack."""
    pip = (sys.executable, "-m", "pip")
    builder = folder / "builder"
    called(*pip, "install", "--quiet", "--target", builder, "hatchling", folder=folder)
    environment = {"PYTHONPATH": str(builder)}
    build = (sys.executable, "-m", "hatchling", "build", "-t", "sdist", "-d", folder)
    called(*build, folder=ROOT, environment=environment)
    (source,) = folder.glob("mantisreed-*.tar.gz")
    called(*pip, "wheel", "--quiet", "--no-deps", "-w", folder, source, folder=folder)
    (wheel,) = folder.glob("mantisreed-*.whl")
    return wheel


def check(python: Path, wheel: Path, folder: Path) -> str:
    """Install and use the wheel; gives the version of the decoder's library, which broke once.

    Raises:
        SmokeError: something does not work.
    """
    called(python, "-m", "venv", "venv", folder=folder)
    own = folder / "venv" / "bin"
    # Compiling all of every package takes longer than installing it, and a part of it is used.
    called(own / "python", "-m", "pip", "install", "--quiet", "--no-compile", wheel, folder=folder)
    environment = {"XDG_CONFIG_HOME": str(folder / "config"), "MANTISREED_TRUST": str(folder)}
    program = own / "mantisreed"
    called(program, "demo", folder=folder, environment=environment)
    demo = folder / "mantisreed-demo"
    recording = next(demo.glob("recordings/*.wav"), None) or next(demo.rglob("*.wav"))
    with standin(program, folder, environment):
        run = (program, "run", recording, "--engine", "brook", "--to", "txt,json", "--into", "out")
        called(*run, folder=folder, environment=environment)
        if not list((folder / "out").glob("*.txt")):
            raise SmokeError("run wrote no text")
        serve(program, recording, folder, environment)
    version = "import av; print(av.__version__)"
    return called(own / "python", "-c", version, folder=folder).strip()


class standin:  # noqa: N801 - reads as a function where it is used
    """The stand-in engines, with their cards in the folder's settings, as long as the context
    lasts.
    """

    def __init__(self, program: Path, folder: Path, environment: Mapping[str, str]) -> None:
        command = [str(program), "standin", "--cards", "mantisreed.toml"]
        self._process = subprocess.Popen(
            command,
            cwd=folder,
            env={**os.environ, **environment},
            stdout=subprocess.PIPE,
            text=True,
        )
        self._settings = folder / "mantisreed.toml"

    def __enter__(self) -> None:
        deadline = time.monotonic() + 60
        while not self._settings.exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        time.sleep(0.5)

    def __exit__(self, *_: object) -> None:
        self._process.terminate()
        self._process.wait(30)


def serve(program: Path, recording: Path, folder: Path, environment: Mapping[str, str]) -> None:
    """Send a recording to the service and wait for its text.

    Raises:
        SmokeError: none comes back.
    """
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    command = [str(program), "serve", "--listen", f"127.0.0.1:{port}", "--engine", "brook"]
    process = subprocess.Popen(
        command, cwd=folder, env={**os.environ, **environment}, stdout=subprocess.PIPE, text=True
    )
    try:
        assert process.stdout is not None
        process.stdout.readline()
        request = urllib.request.Request(
            f"http://127.0.0.1:{port}/jobs?name=note.wav&wait=60s",
            data=recording.read_bytes(),
            headers={"Content-Type": "audio/wav", "Accept": "text/plain"},
        )
        with urllib.request.urlopen(request, timeout=90) as answer:
            text = answer.read().decode()
        if not re.search(r"\w+ \w+", text):
            raise SmokeError(f"the service gave no text: {text!r}")
    finally:
        process.terminate()
        process.wait(60)


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("pythons", nargs="*", type=Path, metavar="PYTHON")
    given = parser.parse_args().pythons
    chosen = {version_of(path) or str(path): path for path in given} if given else pythons()
    has_failed = False
    with tempfile.TemporaryDirectory() as place:
        wheel = built_wheel(Path(place))
        for version, python in chosen.items():
            folder = Path(place) / version
            folder.mkdir()
            began = time.monotonic()
            try:
                decoder = check(python, wheel, folder)
                print(
                    f"Python {version}: works with PyAV {decoder}, {time.monotonic() - began:.0f} "
                    "s",
                    flush=True,
                )
            except (SmokeError, OSError, subprocess.SubprocessError) as error:
                has_failed = True
                print(f"Python {version}: FAILED\n{error}", flush=True)
    return 1 if has_failed else 0


if __name__ == "__main__":
    sys.exit(main())
