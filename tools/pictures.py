"""Renew the pictures of a terminal in `docs/screenshots/`, and the texts of them.

    python tools/pictures.py [--text] [NAME ...]

`tools/pictures.toml` says what is typed. Each scene runs in a copy of the demo's folder, in a
terminal of 100 columns, beside the stand-in engines. What it shows goes to `text/NAME.txt`. A
terminal emulator shows this text, and `NAME.png` is a picture of it, cropped to its last line, with
the scene's figure below. A test compares the texts with what the scenes show today, so that no
picture gets old. Pictures need Xvfb, xterm and ImageMagick; `--text` writes the texts alone.
"""

import argparse
import fcntl
import os
import pty
import re
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
SHOTS = ROOT / "docs" / "screenshots"
TEXTS = SHOTS / "text"
COLUMNS, ROWS = 100, 24
_BACKGROUND, _INK = "#101418", "#dfe3ea"
_DEMO, _SHOWN = "mantisreed demo", "demo.shown"
_ESCAPES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|\x1b[()][A-Z0-9]")

_CHANGING = (
    (r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d", "DAY TIME"),
    (r"\d{4}-\d\d-\d\d", "DAY"),
    (r"\b[0-9a-f]{16}\b|\b[0-9a-f]{8}\b", "JOB"),
    (r"127\.0\.0\.1:\d+", "127.0.0.1:PORT"),
    (r"\b\d+(\.\d+)? (s|ms)\b", "TIME"),
    (r"\b\d\d:\d\d:\d\d\b(?![.,])", "CLOCK"),
    (r" {2,}", "  "),
)
"""What differs from one run to the next, and what stands for it."""


@dataclass(frozen=True, slots=True)
class Scene:
    """What one picture shows.

    Attributes:
        name: of the picture.
        commands: what is typed.
        before: commands that are not shown.
        folder: where they run: of the demo, or beside it and empty.
        only: the first and the last line that is shown; all for an empty tuple.
        figure: the name of a figure that a command draws; None for none.
    """

    name: str
    commands: tuple[str, ...]
    before: tuple[str, ...] = ()
    folder: str = "."
    only: tuple[str, ...] = ()
    figure: str | None = None


def scenes() -> list[Scene]:
    """All of `tools/pictures.toml`."""
    tables = tomllib.loads(Path(__file__).with_suffix(".toml").read_text(encoding="utf-8"))
    return [
        Scene(
            name,
            tuple(table["commands"]),
            tuple(table.get("before", ())),
            table.get("folder", "."),
            tuple(table.get("only", ())),
            table.get("figure"),
        )
        for name, table in tables.items()
    ]


@contextmanager
def demo() -> Iterator[Path]:
    """A folder with the finished demo, and its engines at work until the context ends."""
    with tempfile.TemporaryDirectory() as folder:
        environment = _environment(Path(folder))
        program = [sys.executable, "-m", "mantisreed"]
        shown = _in_terminal(_DEMO, Path(folder), environment)
        Path(folder, _SHOWN).write_bytes(shown.encode("utf-8"))
        finished = Path(folder, "mantisreed-demo")
        engines = subprocess.Popen(
            [*program, "standin", "--cards", "mantisreed.toml"],
            cwd=finished,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        try:
            assert engines.stdout is not None
            engines.stdout.readline()
            yield finished
        finally:
            engines.terminate()
            engines.communicate(timeout=20)


def played(scene: Scene, made: Path, place: Path) -> str:
    """What a terminal shows of a scene, with its escapes.

    Args:
        scene: what is typed.
        made: the folder of the demo, which is copied.
        place: where the copy goes.
    """
    folder = place / scene.name
    shutil.copytree(made, folder, dirs_exist_ok=True)
    environment = _environment(made.parent)
    working = folder / scene.folder
    working.mkdir(exist_ok=True)
    for command in scene.before:
        subprocess.run(command, shell=True, cwd=working, env=environment, capture_output=True)
    parts = []
    for command in scene.commands:
        if "{job}" in command:
            command = command.replace("{job}", _latest_job(working, environment))
        if command == _DEMO:
            # It is the longest of all commands, and was typed already.
            shown = Path(made.parent, _SHOWN).read_bytes().decode("utf-8")
        else:
            shown = _in_terminal(command, working, environment)
        lines = shown.replace("\r\n", "\n").rstrip()
        parts.append(f"$ {command}\n{_chosen(lines, scene.only)}")
    return "\n\n".join(parts) + "\n"


def plain(shown: str) -> str:
    """A shown text without its escapes, and without spaces at the ends of lines."""
    text = _ESCAPES.sub("", shown)
    return "\n".join(line.rstrip() for line in text.splitlines()) + "\n"


def settled(text: str) -> list[str]:
    """The lines of a text in order of the alphabet, with names for what differs between runs."""
    for pattern, name in _CHANGING:
        text = re.sub(pattern, name, text, flags=re.MULTILINE)
    return sorted(line.rstrip() for line in text.splitlines())


def _environment(home: Path) -> dict[str, str]:
    return {
        **os.environ,
        "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}",
        "TERM": "xterm-256color",
        "COLUMNS": str(COLUMNS),
        "LINES": str(ROWS),
        "MANTISREED_TRUST": str(home.parent),
        "XDG_CONFIG_HOME": str(home / "config"),
        "XDG_STATE_HOME": str(home / "state"),
    }


def _latest_job(folder: Path, environment: dict[str, str]) -> str:
    listed = subprocess.check_output(["mantisreed", "jobs"], cwd=folder, env=environment, text=True)
    return listed.splitlines()[1].split()[0]


def _in_terminal(command: str, folder: Path, environment: dict[str, str]) -> str:
    """What a command prints to a terminal."""
    ours, theirs = pty.openpty()
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", ROWS, COLUMNS, 0, 0))
    process = subprocess.Popen(
        ["bash", "-c", command],
        cwd=folder,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=theirs,
        stderr=theirs,
    )
    os.close(theirs)
    read = bytearray()
    while True:
        try:
            part = os.read(ours, 65536)
        except OSError:  # Linux says so at the end
            break
        if not part:
            break
        read += part
    os.close(ours)
    process.wait()
    return read.decode("utf-8", "replace")


def _chosen(text: str, only: tuple[str, ...]) -> str:
    if not only:
        return text
    lines = text.splitlines()
    bare = [_ESCAPES.sub("", line) for line in lines]
    first = next(number for number, line in enumerate(bare) if re.search(only[0], line))
    last = max(number for number, line in enumerate(bare) if re.search(only[1], line))
    return "\n".join(("...", *lines[first : last + 1]))


def _draw(shown: str, picture: Path, figure: Path | None) -> None:
    """A picture of a text in a terminal emulator."""
    # A line longer than the terminal takes several rows; without them the first lines scroll away.
    rows = 1 + sum(max(1, -(-len(line) // COLUMNS)) for line in plain(shown).splitlines())
    with tempfile.TemporaryDirectory() as folder:
        text, ready = Path(folder, "text"), Path(folder, "ready")
        text.write_text(shown, encoding="utf-8")
        screen = ":93"
        server = subprocess.Popen(
            ["Xvfb", screen, "-screen", "0", "1280x1600x24"], stderr=subprocess.DEVNULL
        )
        environment = {**os.environ, "DISPLAY": screen}
        show = f"tput civis; cat {text}; touch {ready}; sleep 60"
        try:
            time.sleep(1)
            terminal = subprocess.Popen(
                [
                    *("xterm", "-geometry", f"{COLUMNS}x{rows}+0+0", "-title", "pictures"),
                    *("-fa", "DejaVu Sans Mono", "-fs", "12", "-bg", _BACKGROUND, "-fg", _INK),
                    *("-b", "12", "-bw", "0", "+sb", "-e", "bash", "-c", show),
                ],
                env=environment,
            )
            while not ready.exists():
                time.sleep(0.1)
            time.sleep(0.5)
            subprocess.run(
                ["import", "-window", "pictures", str(picture)], env=environment, check=True
            )
            terminal.kill()
        finally:
            server.terminate()
            server.wait()
    if figure is not None:
        below = [str(picture), str(figure), "-append", "+repage", str(picture)]
        size = subprocess.check_output(["identify", "-format", "%w", str(picture)], text=True)
        subprocess.run(["convert", str(figure), "-resize", size, str(figure)], check=True)
        subprocess.run(["convert", *below], check=True)
    subprocess.run(["convert", str(picture), "-colors", "128", str(picture)], check=True)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--text", action="store_true", help="write the texts alone")
    parser.add_argument("names", nargs="*", metavar="NAME")
    options = parser.parse_args()
    with demo() as made, tempfile.TemporaryDirectory() as place:
        for scene in scenes():
            if options.names and scene.name not in options.names:
                continue
            shown = played(scene, made, Path(place))
            text = plain(shown)
            widest = max(map(len, text.splitlines()))
            print(f"{scene.name}: {text.count(chr(10))} lines, {widest} columns")
            (TEXTS / f"{scene.name}.txt").write_text(text, encoding="utf-8")
            if options.text:
                continue
            figure = None
            if scene.figure is not None:
                figure = Path(place, scene.name, scene.folder, scene.figure)
            _draw(shown, SHOTS / f"{scene.name}.png", figure)


if __name__ == "__main__":
    main()
