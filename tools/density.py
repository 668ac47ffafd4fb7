"""How dense the code of each room is, held against what is allowed.

    python tools/density.py [SOURCE] [--worst N] [--check]

A room is a folder. Counted by 1000 lines of code (without blank lines, comments and docstrings):
ternaries and comprehensions. Counted one by one: ternaries inside ternaries, comprehensions with
more than one `for` or more than one `if`. Besides: comment lines in 100 lines of code, the length
that 95 of 100 lines of code do not pass, files over 500 lines, files of a folder, and how complex
functions are: one, and one more for each place where a function can go two ways (McCabe; branches,
loops, handlers, cases, `and` and `or`, ternaries, comprehensions and their conditions).

The worst places are named. With `--check` it ends with 1 where a limit is passed that all rooms
have kept to before, or where comments of all rooms together are too few; the others are printed.
"""

import argparse
import ast
import io
import sys
import tokenize
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from statistics import mean

Comprehension = ast.ListComp | ast.SetComp | ast.DictComp | ast.GeneratorExp
Function = ast.FunctionDef | ast.AsyncFunctionDef
_NO_CODE = frozenset(
    (
        tokenize.NL,
        tokenize.NEWLINE,
        tokenize.INDENT,
        tokenize.DEDENT,
        tokenize.ENDMARKER,
        tokenize.ENCODING,
    )
)
_BRANCHES = (ast.If, ast.IfExp, ast.For, ast.AsyncFor, ast.While, ast.ExceptHandler, ast.match_case)


@dataclass(slots=True)
class Room:
    """What was counted in a folder.

    Attributes:
        code, comments: lines.
        lengths: of the lines of code.
        ternaries, comprehensions: how many.
        nested, crowded: where a ternary is inside another; where a comprehension is crowded.
        long: files over the limit.
        files: how many.
        complexities: of each function, with its place.
    """

    code: int = 0
    comments: int = 0
    lengths: list[int] = field(default_factory=list)
    ternaries: int = 0
    comprehensions: int = 0
    nested: list[str] = field(default_factory=list)
    crowded: list[str] = field(default_factory=list)
    long: list[str] = field(default_factory=list)
    files: int = 0
    complexities: list[tuple[int, str]] = field(default_factory=list)

    @property
    def complex(self) -> list[tuple[int, str]]:
        """Functions that are too complex, the worst first."""
        return sorted((one for one in self.complexities if one[0] > 10), reverse=True)

    @property
    def usual_length(self) -> int:
        """What 95 of 100 lines of code do not pass."""
        if not self.lengths:
            return 0
        return sorted(self.lengths)[int(0.95 * (len(self.lengths) - 1))]

    def add(self, file: Path, name: str) -> None:
        """Count a file."""
        text = file.read_text("utf-8")
        tree = ast.parse(text)
        comments, code = _lines(text, tree)
        lines = text.splitlines()
        self.files += 1
        self.code += len(code)
        self.comments += len(comments)
        self.lengths += [len(lines[number - 1]) for number in code]
        if len(lines) > _LONGEST_FILE:
            self.long.append(f"{name}: {len(lines)} lines")
        for node in ast.walk(tree):
            if isinstance(node, ast.IfExp):
                self.ternaries += 1
                if any(isinstance(one, ast.IfExp) for one in _inside(node)):
                    self.nested.append(f"{name}:{node.lineno}")
            elif isinstance(node, Comprehension):
                self.comprehensions += 1
                if len(node.generators) > 1 or any(len(one.ifs) > 1 for one in node.generators):
                    self.crowded.append(f"{name}:{node.lineno}")
            elif isinstance(node, Function):
                self.complexities.append((_complexity(node), f"{name}:{node.lineno} {node.name}"))


def _inside(node: ast.AST) -> Iterator[ast.AST]:
    return (one for one in ast.walk(node) if one is not node)


def _complexity(function: Function) -> int:
    """The number of ways through a function, those of functions inside of it left to these."""
    ways, waiting = 1, list(ast.iter_child_nodes(function))
    while waiting:
        node = waiting.pop()
        if isinstance(node, Function):
            continue
        if isinstance(node, _BRANCHES):
            ways += 1
        elif isinstance(node, ast.BoolOp):
            ways += len(node.values) - 1
        elif isinstance(node, ast.comprehension):
            ways += 1 + len(node.ifs)
        waiting += ast.iter_child_nodes(node)
    return ways


def _lines(text: str, tree: ast.AST) -> tuple[set[int], set[int]]:
    """The numbers of lines with comments, and of those with code."""
    comments: set[int] = set()
    code: set[int] = set()
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type == tokenize.COMMENT:
            comments.add(token.start[0])
        elif token.type not in _NO_CODE:
            code.update(range(token.start[0], token.end[0] + 1))
    documented = (ast.Module, ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)
    for node in ast.walk(tree):
        if isinstance(node, documented) and ast.get_docstring(node) is not None:
            first = node.body[0]
            code -= set(range(first.lineno, (first.end_lineno or first.lineno) + 1))
    return comments, code


_LONGEST_FILE = 500

# Name, figure, limit, whether more is worse.
_LIMITS: tuple[tuple[str, Callable[[Room], float], float, bool], ...] = (
    ("ternaries", lambda room: 1000 * room.ternaries / max(1, room.code), 20, True),
    ("comprehensions", lambda room: 1000 * room.comprehensions / max(1, room.code), 30, True),
    ("nested", lambda room: len(room.nested), 0, True),
    ("crowded", lambda room: len(room.crowded), 0, True),
    ("comments %", lambda room: 100 * room.comments / max(1, room.code), 4, False),
    ("length", lambda room: room.usual_length, 92, True),
    ("long files", lambda room: len(room.long), 0, True),
    ("files", lambda room: room.files, 20, True),
)
_HELD = frozenset(("ternaries", "nested", "crowded", "length", "long files", "files"))
"""Limits that all rooms keep to, so that none may pass them again."""

_OF_THE_WHOLE = "comments %"
"""A limit for all rooms together: declarations of arguments have no reasons to be told."""

_OF_ALL: tuple[tuple[str, Callable[[Room], float], float, bool], ...] = (
    ("complexity", lambda room: mean(one for one, _ in room.complexities), 3, True),
    ("complex %", lambda room: 100 * len(room.complex) / len(room.complexities), 3, True),
)


def counted(source: Path) -> dict[str, Room]:
    """What was counted in each folder, by its path; `.` for those in none."""
    rooms: dict[str, Room] = {}
    for file in sorted(source.rglob("*.py")):
        name = file.relative_to(source)
        rooms.setdefault(name.parent.as_posix(), Room()).add(file, name.as_posix())
    return rooms


def in_all(rooms: dict[str, Room]) -> Room:
    """All rooms as one."""
    whole = Room()
    for room in rooms.values():
        for name in Room.__dataclass_fields__:
            setattr(whole, name, getattr(whole, name) + getattr(room, name))
    return whole


def passed(room: Room, *, is_whole: bool = False) -> dict[str, str]:
    """Which limits a room, or all of them together, passes, by name, each with its figure."""
    wrong = {}
    for name, figure, limit, more_is_worse in _LIMITS:
        if is_whole != (name == _OF_THE_WHOLE):
            continue
        value = figure(room)
        is_passed = value > limit if more_is_worse else value < limit
        if is_passed:
            wrong[name] = f"{value:.1f} (limit {limit:g})"
    return wrong


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("source", nargs="?", type=Path, default=Path("src/mantisreed"))
    parser.add_argument("--worst", type=int, default=10, metavar="N", help="name N of each kind")
    parser.add_argument("--check", action="store_true", help="end with 1 where a limit is passed")
    given = parser.parse_args()
    rooms = counted(given.source)
    whole = in_all(rooms)
    headings = [name for name, *_ in _LIMITS]
    print("".join(f"{heading:>15}" for heading in headings), "     code  room")
    for name, room in [("(all)", whole), *sorted(rooms.items(), key=lambda one: -one[1].code)]:
        figures = "".join(f"{figure(room):15.1f}" for _, figure, *_ in _LIMITS)
        print(f"{figures} {room.code:9}  {name}")
    for name, figure, limit, _ in _OF_ALL:
        print(f"{name} of all functions: {figure(whole):.2f} (limit {limit:g})")
    for kind in ("nested", "crowded", "long"):
        for place in getattr(whole, kind)[: given.worst]:
            print(f"{kind}: {place}")
    for ways, place in whole.complex[: given.worst]:
        print(f"complexity {ways}: {place}")
    missing = passed(whole, is_whole=True)
    for kind, told in missing.items():
        print(f"broken: all rooms: {kind} {told}")
    count, broken = len(missing), len(missing)
    for name, room in rooms.items():
        for kind, told in passed(room).items():
            count += 1
            broken += kind in _HELD
            what = "broken" if kind in _HELD else "passed"
            print(f"{what}: {name}: {kind} {told}")
    print(f"{count} limits of rooms are passed, {broken} of them broken")
    return 1 if given.check and broken else 0


if __name__ == "__main__":
    sys.exit(main())
