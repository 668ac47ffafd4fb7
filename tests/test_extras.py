"""What not everybody needs is named where it is missing, before anything is done."""

import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose

ROOT = Path(__file__).parent.parent
PROGRAM = """
import sys
for name in {blocked!r}:
    sys.modules[name] = None
from mantisreed.cli.main import main
sys.exit(main(sys.argv[1:]))
"""
CARD = """
[engine.marsh]
url = "http://127.0.0.1:9"
{key}
accepts.formats = ["flac"]
send.raw = "{{audio}}"
reply.text = "says"
{more}
"""


def test_the_manual_names_every_extra() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
    told = (ROOT / "docs" / "install.md").read_text(encoding="utf-8").split("## Extras")[1]
    rows = re.findall(r"^\| (`[^|]*) \|", told.split("## ")[0], re.MULTILINE)
    named = re.findall(r"`(\w+)`", " ".join(rows))
    assert sorted(named) == sorted(project["project"]["optional-dependencies"])


def run(
    folder: Path, blocked: tuple[str, ...], *arguments: str
) -> "subprocess.CompletedProcess[str]":
    command = [sys.executable, "-c", PROGRAM.format(blocked=blocked), *arguments, "--trust"]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True)


@pytest.mark.parametrize(
    ("module", "extra", "key", "more", "arguments"),
    [
        ("matplotlib", "plot", "", "", ("inspect", "note.wav", "--plot", "note.png")),
        ("matplotlib", "plot", "", "", ("plan", "note.wav", "--plot", "note.png")),
        ("matplotlib", "plot", "", "", ("check", "note.srt", "--plot", "note.png")),
        ("matplotlib", "plot", "", "", ("compare", "note.wav", "--plot", "note.png")),
        ("matplotlib", "plot", "", "", ("score", "a.json", "b.txt", "--plot", "note.png")),
        (
            *("keyring", "keyring", 'secrets.key = "keyring:marsh/key"\nevery.bearer = "{key}"'),
            *("", ("run", "note.wav")),
        ),
        ("sqlalchemy", "sql", "", "", ("run", "sqlite:///notes.db#notes")),
        (
            *("sqlalchemy", "sql", ""),
            '[follow_up.row]\nrows.database = "sqlite:///notes.db"\nrows.table = "notes"\n'
            '[follow_up.row.rows.columns]\nname = "recording"',
            ("run", "note.wav"),
        ),
        (
            *("psycopg", "postgresql", ""),
            '[ledger]\nurl = "postgresql://127.0.0.1:9/ledger"',
            ("jobs",),
        ),
        (
            *("procrastinate", "queue", ""),
            '[ledger]\nurl = "postgresql://127.0.0.1:9/ledger"',
            ("work",),
        ),
        ("openpyxl", "xlsx", "", "", ("run", "notes.xlsx")),
        ("s3fs", "s3", "", "", ("run", "s3://marsh/notes/")),
    ],
)
def test_what_is_missing_is_named_with_the_command_that_installs_it(
    tmp_path: Path,
    english: list[Phrase],
    module: str,
    extra: str,
    key: str,
    more: str,
    arguments: tuple[str, ...],
) -> None:
    (tmp_path / "mantisreed.toml").write_text(CARD.format(key=key, more=more))
    compose(english, seed=3, duration=6).write(tmp_path / "note.wav")
    (tmp_path / "notes.db").write_bytes(b"")
    (tmp_path / "notes.xlsx").write_bytes(b"PK")
    ended = run(tmp_path, (module,), *arguments)
    assert ended.returncode == 2, ended.stderr
    assert f"pip install 'mantisreed[{extra}]'" in ended.stderr
    assert "Traceback" not in ended.stderr and not (tmp_path / "transcripts").exists()


def test_every_extra_that_is_named_exists_and_the_tests_have_all_of_them() -> None:
    extras = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"][
        "optional-dependencies"
    ]
    source = "".join(path.read_text() for path in (ROOT / "src").rglob("*.py"))
    named = set(re.findall(r'(?:from_extra|missing)\(\s*"(\w+)"', source))
    assert named <= set(extras) and {"plot", "keyring", "sql", "queue"} <= named
    names = {re.split(r"[\[<>=]", one)[0] for one in extras["test"]}
    for extra in named:
        assert {re.split(r"[\[<>=]", one)[0] for one in extras[extra]} <= names


def test_a_command_without_them_does_its_work(tmp_path: Path, english: list[Phrase]) -> None:
    compose(english, seed=3, duration=6).write(tmp_path / "note.wav")
    (tmp_path / "mantisreed.toml").write_text(CARD.format(key="", more=""))
    blocked = ("matplotlib", "keyring", "sqlalchemy", "scipy", "psycopg", "openpyxl", "pandas")
    for arguments in (
        ("inspect", "note.wav"),
        ("serve", "--help"),
        ("jobs",),
        ("engines", "check"),
    ):
        ended = run(tmp_path, blocked, *arguments)
        assert ended.returncode == 0, ended.stderr
