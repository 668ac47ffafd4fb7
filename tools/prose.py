"""How hard the pages are to read: words a sentence, free relatives and passives, page by page.

    python tools/prose.py [--check] [--worst N] [FILE ...]

A free relative is a clause with `what` or `who` in place of a noun. Without FILE it measures the
README, the manual, the changelog, and the texts that the program prints: errors, advice, notes and
help. With --check it fails where one passes a limit.
"""

import argparse
import ast
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

MOST_WORDS, MOST_FREE_RELATIVES, MOST_PASSIVES = 16.0, 4.0, 20.0
"""Words a sentence, and of 100 sentences those with a free relative and with a passive."""

_ROOT = Path(__file__).parent.parent
_FREE_RELATIVE = re.compile(r"\b(what|who|whom|whoever|whatever|whichever|whose)\b", re.IGNORECASE)
_PASSIVE = re.compile(
    r"\b(?:is|are|was|were|be|been|being)\s+(?:\w+ly |not |never |also |only |then )?"
    r"(?:\w+ed|\w+en|"
    r"told|kept|sent|said|read|made|done|found|left|cut|laid|heard|paid|known|begun|shown|put|held)\b",
    re.IGNORECASE,
)
_TELLING = frozenset(("Check", "Option", "Problem", "missing", "note", "on_note"))
"""Functions whose texts are for people, beside all errors."""

_FEWEST_WORDS = 4  # of a sentence; shorter ones are headings of lists


@dataclass(frozen=True, slots=True)
class Measure:
    """One page.

    Attributes:
        page: its path.
        sentences: all of them.
    """

    page: Path
    sentences: list[str]

    @property
    def words(self) -> float:
        """Words a sentence."""
        total = sum(len(sentence.split()) for sentence in self.sentences)
        return total / max(1, len(self.sentences))

    def share(self, pattern: re.Pattern[str]) -> float:
        """Of 100 sentences, those in which a pattern occurs."""
        found = sum(bool(pattern.search(sentence)) for sentence in self.sentences)
        return 100 * found / max(1, len(self.sentences))

    @property
    def problems(self) -> list[str]:
        """Which limits it passes."""
        found = []
        if self.words > MOST_WORDS:
            found.append(f"{self.words:.1f} words a sentence")
        if self.share(_FREE_RELATIVE) > MOST_FREE_RELATIVES:
            found.append(f"{self.share(_FREE_RELATIVE):.0f} free relatives in 100 sentences")
        if self.share(_PASSIVE) > MOST_PASSIVES:
            found.append(f"{self.share(_PASSIVE):.0f} passives in 100 sentences")
        return found

    def worst(self, count: int) -> list[str]:
        """The hardest sentences."""
        return sorted(self.sentences, key=_hardness, reverse=True)[:count]


def _hardness(sentence: str) -> float:
    relatives = len(_FREE_RELATIVE.findall(sentence))
    return len(sentence.split()) / 10 + 2 * relatives + len(_PASSIVE.findall(sentence))


def sentences_in(text: str) -> Iterator[str]:
    """Sentences of prose: no code, tables, headings and pictures."""
    text = re.sub(r"```.*?```", "\n\n", text, flags=re.DOTALL)
    lines = [line for line in text.splitlines() if not re.match(r"\s*(\||#|!\[|<)", line)]
    for paragraph in re.split(r"\n\s*\n|\n(?=\s*(?:[-*]|\d+\.) )", "\n".join(lines)):
        plain = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", " ".join(paragraph.split()))
        plain = re.sub(r"^(?:[-*]|\d+\.) ", "", plain)
        for sentence in re.split(r"(?<=[.!?:])\s+(?=[A-Z`*\[\"(])", plain):
            if len(sentence.split()) >= _FEWEST_WORDS:
                yield sentence


def measured(page: Path) -> Measure:
    """The measure of one page."""
    return Measure(page, list(sentences_in(page.read_text(encoding="utf-8"))))


def printed() -> Measure:
    """The measure of all texts that the program prints; a value in one counts as a word."""
    found: list[str] = []
    source = _ROOT / "src" / "mantisreed"
    for file in sorted(source.rglob("*.py")):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                found += _texts_of(node)
    parts = (part for text in found for part in re.split(r"(?<=[.!?:;])\s+", text))
    return Measure(source, [part for part in parts if len(part.split()) >= _FEWEST_WORDS])


def _texts_of(call: ast.Call) -> Iterator[str]:
    """Texts among the arguments of a call that tells a person something."""
    name = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
    tells = name.endswith("Error") or name in _TELLING
    given = list(call.args) if tells else []
    given += [one.value for one in call.keywords if one.arg in ("advice", "help")]
    for value in given:
        text = _text_in(value)
        if text:
            yield text


def _text_in(value: ast.expr) -> str:
    if isinstance(value, ast.Constant) and isinstance(value.value, str):
        return value.value
    if isinstance(value, ast.JoinedStr):
        parts = (part.value if isinstance(part, ast.Constant) else "X" for part in value.values)
        return "".join(map(str, parts))
    return ""


def pages() -> list[Path]:
    """The README, the manual and the changelog."""
    return [_ROOT / "README.md", *sorted((_ROOT / "docs").glob("*.md")), _ROOT / "CHANGELOG.md"]


def main() -> int:
    """Print each page; 1 where one passes a limit and --check is given."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("files", nargs="*", type=Path)
    parser.add_argument("--check", action="store_true")
    parser.add_argument("--worst", type=int, default=0, metavar="N")
    options = parser.parse_args()
    is_good = True
    print(f"{'sentences':>9} {'words':>6} {'free rel.':>10} {'passive':>8}  page")
    measures = [measured(page) for page in options.files or pages()]
    if not options.files:
        measures.append(printed())
    for found in measures:
        shares = found.share(_FREE_RELATIVE), found.share(_PASSIVE)
        row = f"{len(found.sentences):9} {found.words:6.1f} {shares[0]:10.0f} {shares[1]:8.0f}"
        problems = ""
        if found.problems:
            problems = f"  <- {', '.join(found.problems)}"
        print(f"{row}  {found.page.name}{problems}")
        for sentence in found.worst(options.worst):
            print(f"    - {sentence[:200]}")
        is_good = is_good and not found.problems
    return 0 if is_good or not options.check else 1


if __name__ == "__main__":
    sys.exit(main())
