"""Changing words in outputs: strong words masked or left out, corrections by a glossary. The transcript stays."""

import re
import tomllib
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from importlib.resources import files as package_files
from pathlib import Path
from typing import Literal

import msgspec

from mantisreed.errors import InputError
from mantisreed.exports.script import Script
from mantisreed.files import shown
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import Passage, Word

Strong = Literal["keep", "mask", "drop"]
_EDGES = re.compile(r"^(\W*)(.*?)(\W*)$", re.DOTALL)
_GAP = r"[\s\u00a0]+"


@dataclass(frozen=True, slots=True)
class Wording:
    """What is done with words.

    Attributes:
        strong: what is done with strong words.
        strong_words: them, in lower case; one that ends with `*` stands for all words that begin so.
        glossary: corrections, wrong to right; whole words and phrases, in any case.
    """

    strong: Strong = "keep"
    strong_words: tuple[str, ...] = ()
    glossary: tuple[tuple[str, str], ...] = ()


def strong_words(language: str | None, file: Path | None = None) -> tuple[str, ...]:
    """The words of a list, one on each line, `#` before remarks: of the language's own list, or of the user's file.

    Raises:
        InputError: the file cannot be read.
    """
    if file is None:
        name = f"strong-words-{(language or 'en').split('-')[0].lower()}.txt"
        bundled = package_files("mantisreed.exports") / name
        text = bundled.read_text(encoding="utf-8") if bundled.is_file() else ""
    else:
        try:
            text = file.read_text(encoding="utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            raise InputError("the list of strong words cannot be read as text", where=shown(file)) from error
    lines = (line.partition("#")[0].strip().lower() for line in text.splitlines())
    return tuple(line for line in lines if line)


def read_glossary(file: Path) -> tuple[tuple[str, str], ...]:
    """Corrections from a file with `wrong -> right` on each line, or from TOML with `"wrong" = "right"`.

    Raises:
        InputError: it cannot be read, or a line is neither.
    """
    try:
        text = file.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError("the glossary cannot be read as text", where=shown(file)) from error
    if file.suffix.lower() == ".toml":
        try:
            table: Mapping[str, object] = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise InputError(f"the glossary is no TOML ({error})", where=shown(file)) from error
        return tuple((wrong, str(right)) for wrong, right in table.items())
    pairs = []
    for number, line in enumerate(text.splitlines(), 1):
        bare = line.partition("#")[0].strip()
        if not bare:
            continue
        wrong, arrow, right = bare.partition("->")
        if not arrow or not wrong.strip():
            raise InputError("expected: wrong -> right", where=f"{shown(file)}, line {number}")
        pairs.append((wrong.strip(), right.strip()))
    return tuple(pairs)


def reworded(script: Script, wording: Wording) -> tuple[Script, Counter[str]]:
    """The script with other words, and how often each was changed."""
    counts: Counter[str] = Counter()
    changes = [_glossary_change(wrong, right, counts) for wrong, right in wording.glossary]
    if wording.strong != "keep" and wording.strong_words:
        changes.append(_strong_change(wording, counts))
    if not changes:
        return script, counts

    def text(given: str) -> str:
        for change in changes:
            given = change(given)
        return " ".join(given.split(" ")).strip()

    def passage(one: Passage) -> Passage:
        before = counts.copy()
        words = _reworded_words(one.words, changes)
        counts.clear()
        counts.update(before)  # the passage's text counts, not its words once more
        return msgspec.structs.replace(one, text=" ".join(text(one.text).split()), words=words)

    def cue(one: Cue) -> Cue:
        lines = tuple(line for given in one.lines if (line := " ".join(text(given).split())))
        return replace(one, lines=lines, words=())

    transcript = script.transcript
    if transcript is not None:
        passages = tuple(changed for one in transcript.passages if (changed := passage(one)).text)
        transcript = msgspec.structs.replace(transcript, passages=passages)
    cues = None if script.cues is None else tuple(other for one in script.cues if (other := cue(one)).lines)
    return Script(transcript, cues, script.notes, script.language), counts


def _reworded_words(words: Sequence[Word], changes: Iterable[Callable[[str], str]]) -> tuple[Word, ...]:
    """Words after changes of their whole text; those of a changed phrase share its time."""
    whole = changed = " ".join(word.text for word in words)
    for change in changes:
        changed = change(changed)
    return tuple(words) if changed == whole else _aligned(words, changed.split())


def _aligned(words: Sequence[Word], texts: Sequence[str]) -> tuple[Word, ...]:
    """New texts at the times of the words that they stand for; those of a changed phrase share its time."""
    from rapidfuzz.distance import Indel

    kept = Indel.opcodes([word.text for word in words], texts)
    result: list[Word] = []
    pending: list[str] = []
    span: list[Word] = []

    def flush() -> None:
        if pending and (span or result or words):
            edge = span or ([result[-1]] if result else [words[0]])
            start, end = (edge[0].start, edge[-1].end) if span else (edge[0].end, edge[0].end)
            each = (end - start) / len(pending)
            result.extend(
                Word(text, round(start + at * each, 3), round(start + (at + 1) * each, 3))
                for at, text in enumerate(pending)
            )
        pending.clear()
        span.clear()

    for operation in kept:
        if operation.tag == "equal":
            flush()
            result += words[operation.src_start : operation.src_end]
        else:
            span += words[operation.src_start : operation.src_end]
            pending += texts[operation.dest_start : operation.dest_end]
    flush()
    return tuple(result)


def _glossary_change(wrong: str, right: str, counts: Counter[str]) -> Callable[[str], str]:
    pattern = re.compile(rf"(?<!\w){_GAP.join(map(re.escape, wrong.split()))}(?!\w)", re.IGNORECASE)

    def corrected(found: re.Match[str]) -> str:
        counts[f"{wrong} -> {right}"] += 1
        return right[:1].upper() + right[1:] if found[0][:1].isupper() and not wrong[:1].isupper() else right

    return lambda text: pattern.sub(corrected, text)


def _strong_change(wording: Wording, counts: Counter[str]) -> Callable[[str], str]:
    stems = [
        re.escape(word.removesuffix("*")) + (r"\w*" if word.endswith("*") else "") for word in wording.strong_words
    ]
    # Longer ones first, so that the whole word is found.
    pattern = re.compile(rf"(?<!\w)(?:{'|'.join(sorted(stems, key=len, reverse=True))})(?!\w)", re.IGNORECASE)

    def masked(found: re.Match[str]) -> str:
        counts["strong words"] += 1
        word = found[0]
        return "" if wording.strong == "drop" else word[0] + "*" * (len(word) - 1)

    return lambda text: pattern.sub(masked, text)
