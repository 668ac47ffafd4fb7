"""The house keeps its order: layers, and a face that costs nothing."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

import mantisreed

ROOT = Path(__file__).parent.parent


def test_a_layer_imports_only_from_layers_below_it() -> None:
    checker = Path(sys.executable).with_name("lint-imports")
    result = subprocess.run([checker, "--no-cache"], cwd=ROOT, capture_output=True, text=True)
    assert result.returncode == 0, result.stdout


def test_no_room_passes_a_limit_that_holds() -> None:
    checker = [sys.executable, "tools/density.py", "--check"]
    result = subprocess.run(checker, cwd=ROOT, capture_output=True, text=True)
    told = [line for line in result.stdout.splitlines() if line.startswith(("broken", "crowded"))]
    assert result.returncode == 0, told


def test_help_and_import_load_nothing_heavy() -> None:
    heavy = (
        "av numpy scipy aiohttp msgspec rich starlette uvicorn jmespath asyncio dataclasses logging"
    )
    program = (
        "import sys, mantisreed\n"
        "from mantisreed.cli.main import main\n"
        "try: main(['--help'])\n"
        "except SystemExit: pass\n"
        f"print([name for name in {heavy.split()} if name in sys.modules])"
    )
    result = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, check=True
    )
    assert result.stdout.splitlines()[-1] == "[]"


@pytest.mark.parametrize(
    ("command", "heavy"),
    [
        ("tokens list", "fastapi uvicorn aiohttp av numpy"),
        ("engines list", "aiohttp av scipy starlette"),
        ("jobs", "aiohttp av scipy starlette"),
        ("costs", "aiohttp av scipy starlette"),
        ("trust --list", "aiohttp av scipy starlette numpy"),
    ],
)
def test_commands_load_only_what_they_need(command: str, heavy: str, tmp_path: Path) -> None:
    (tmp_path / "mantisreed.toml").write_text("[settings]\n")
    program = (
        "import sys\n"
        "from mantisreed.cli.main import main\n"
        f"assert main({command.split()}) == 0\n"
        f"print([name for name in {heavy.split()} if name in sys.modules])"
    )
    result = subprocess.run(
        [sys.executable, "-c", program], cwd=tmp_path, capture_output=True, text=True
    )
    assert result.returncode == 0 and result.stdout.splitlines()[-1] == "[]", result


def test_every_name_of_the_face_is_there() -> None:
    assert all(getattr(mantisreed, name) is not None for name in mantisreed.__all__)


def test_every_suppressed_error_says_why() -> None:
    """An error that is suppressed may cost somebody a recording: the line says why it does not."""
    silent = []
    for file in sorted((ROOT / "src").rglob("*.py")):
        lines = file.read_text(encoding="utf-8").splitlines()
        for number, line in enumerate(lines):
            before = lines[number - 1].strip()
            is_passed_over = (
                line.strip() in ("pass", "continue")
                and before.startswith("except")
                and "#" not in before
            )
            if ("suppress(" in line and "import" not in line and "#" not in line) or is_passed_over:
                silent.append(f"{file.relative_to(ROOT)}:{number + 1}: {line.strip()}")
    assert silent == []


def test_one_place_removes_things() -> None:
    """Whatever removes something goes through `folders.remove`, which knows what is ours."""
    removing = re.compile(r"\b(?:rmtree|unlink|rmdir|removedirs|os\.remove)\b\s*\(")
    found = [
        f"{file.relative_to(ROOT)}:{number}: {line.strip()}"
        for file in sorted((ROOT / "src").rglob("*.py"))
        for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1)
        if removing.search(line) and file.name != "folders.py"
    ]
    assert found == []
    folders = (ROOT / "src" / "mantisreed" / "folders.py").read_text(encoding="utf-8")
    assert len(removing.findall(folders)) == 2  # a file, and a folder that is empty


def test_every_number_of_a_module_says_what_it_is() -> None:
    """A comment on its line or above it, or a docstring below: a tuned number is no riddle."""
    riddles = []
    for file in sorted((ROOT / "src").rglob("*.py")):
        lines = file.read_text().splitlines()
        body = ast.parse("\n".join(lines)).body
        for at, node in enumerate(body):
            if not isinstance(node, ast.Assign) or not _is_number(node.value):
                continue
            following = body[at + 1] if at + 1 < len(body) else None
            has_docstring = isinstance(following, ast.Expr)
            # A comment above a group of numbers speaks of all of them.
            first = node.lineno - 1
            while first > 0 and lines[first].strip() and not lines[first].lstrip().startswith("#"):
                first -= 1
            told = "\n".join(lines[first : node.end_lineno])
            if "#" not in told and not has_docstring:
                riddles.append(f"{file.name}:{node.lineno}: {lines[node.lineno - 1]}")
    assert not riddles


def _is_number(value: ast.expr) -> bool:
    """Whether an expression is a number, or numbers."""
    if isinstance(value, ast.Constant):
        return isinstance(value.value, (int, float)) and not isinstance(value.value, bool)
    if isinstance(value, ast.UnaryOp):
        return _is_number(value.operand)
    if isinstance(value, ast.BinOp):
        return _is_number(value.left) and _is_number(value.right)
    return isinstance(value, ast.Tuple) and bool(value.elts) and all(map(_is_number, value.elts))
