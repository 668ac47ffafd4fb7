"""Changing words in outputs: strong words masked or left out, corrections by a glossary. The
transcript stays.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from itertools import groupby

import msgspec

from mantisreed.exports.script import Script
from mantisreed.exports.word_lists import Wording, strong_words
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.writing import is_spaceless, joined

_GAP = r"[\s\u00a0]+"
_EMPTY = re.compile(r"\s?(?:\(\s*\)|\[\s*\]|“\s*”|«\s*»|\"\s*\")")
_STRONG = "strong words"  # in counts

Change = Callable[[str], str]


def reworded(script: Script, wording: Wording) -> tuple[Script, Counter[str]]:
    """The script with other words, and how often each was changed."""
    counts: Counter[str] = Counter()
    # First the corrections: a strong word may be a wrong hearing of another.
    changes = [_glossary_change(wrong, right, counts) for wrong, right in wording.glossary]
    listed = wording.strong_words
    if wording.strong != "keep" and (
        words := strong_words(script.tongue) if listed is None else listed
    ):
        changes.append((_masking if wording.strong == "mask" else _dropping)(words, counts))
    if not changes:
        return script, counts

    def passage(one: Passage) -> Passage:
        before = counts.copy()
        words = _reworded_words(one.words, changes)
        counts.clear()
        counts.update(before)  # the passage's text counts, not its words once more
        return msgspec.structs.replace(
            one, text=" ".join(_changed(one.text, changes).split()), words=words
        )

    def cue(one: Cue) -> Cue:
        whole = "\n".join(one.lines)
        changed = _changed(whole, changes).split("\n")
        if changed == list(one.lines):
            return one
        lines = tuple(line for given in changed if (line := " ".join(given.split())))
        return replace(one, lines=lines, words=(), marks=())

    transcript = script.transcript
    if transcript is not None:
        passages = tuple(changed for one in transcript.passages if (changed := passage(one)).text)
        transcript = msgspec.structs.replace(transcript, passages=passages)
    if script.cues is None:
        cues = None
    else:
        cues = tuple(other for one in script.cues if (other := cue(one)).lines)
    return replace(script, transcript=transcript, cues=cues), counts


def _changed(text: str, changes: Iterable[Change]) -> str:
    for change in changes:
        text = change(text)
    return text


def _reworded_words(words: Sequence[Word], changes: Iterable[Change]) -> tuple[Word, ...]:
    """Words after changes of their whole text; those of a changed phrase share its time."""
    whole = joined(word.text for word in words)
    changed = _changed(whole, changes)
    if changed == whole:
        return tuple(words)
    if not any(map(is_spaceless, whole + changed)):
        return _aligned(words, changed.split())
    signs = []
    for word in words:
        signs += [(sign, word) for sign in _signs_of(word)]
    kept = {id(sign): word for sign, word in signs}
    aligned = _aligned([sign for sign, _ in signs], _signs(changed))
    parts = [list(group) for _, group in groupby(aligned, key=lambda sign: id(kept.get(id(sign))))]
    return tuple(_together(part, kept.get(id(part[0]))) for part in parts)


def _signs(text: str) -> list[str]:
    """The text's words; in a script without spaces its signs."""
    spread = "".join(f" {sign} " if is_spaceless(sign) else sign for sign in text)
    return spread.split()


def _signs_of(word: Word) -> list[Word]:
    signs = _signs(word.text)
    each = (word.end - word.start) / max(1, len(signs))
    return [
        Word(sign, word.start + at * each, word.start + (at + 1) * each, word.confidence)
        for at, sign in enumerate(signs)
    ]


def _together(signs: Sequence[Word], word: Word | None) -> Word:
    """ErrorPatterns of one word, which is None if they are new."""
    text = "".join(sign.text for sign in signs)
    if word is not None and text == word.text:
        return word
    start, end = round(signs[0].start, 3), round(signs[-1].end, 3)
    return Word(text, start, end, None if word is None else word.confidence)


def _aligned(words: Sequence[Word], texts: Sequence[str]) -> tuple[Word, ...]:
    """New texts at the times of the words that they stand for; those of a changed phrase share its
    time.
    """
    from rapidfuzz.distance import Indel

    kept = Indel.opcodes([word.text for word in words], texts)
    result: list[Word] = []
    pending: list[str] = []
    span: list[Word] = []

    def flush() -> None:
        if pending and (span or result or words):
            edge = span or ([result[-1]] if result else [words[0]])
            if span:
                start, end = (edge[0].start, edge[-1].end)
            else:
                start, end = (edge[0].end, edge[0].end)
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


def _whole(texts: Iterable[str]) -> str:
    """A pattern for any of these texts as whole words; in a script without spaces, for any of
    them.
    """
    # Longer ones first, so that the whole word is found.
    return "|".join(map(_bounded, sorted(texts, key=len, reverse=True)))


def _bounded(text: str) -> str:
    bare = text.removesuffix("*")
    if is_spaceless(bare[:1] or " "):
        before = ""
    else:
        before = r"(?<!\w)"
    if text.endswith("*"):
        after = r"\w*"
    elif is_spaceless(bare[-1:] or " "):
        after = ""
    else:
        after = r"(?!\w)"
    return f"{before}{_GAP.join(map(re.escape, bare.split()))}{after}"


def _glossary_change(wrong: str, right: str, counts: Counter[str]) -> Change:
    pattern = re.compile(_whole([wrong]), re.IGNORECASE)

    def corrected(found: re.Match[str]) -> str:
        counts[f"{wrong} -> {right}"] += 1
        if found[0][:1].isupper() and not wrong[:1].isupper():
            capital = right[:1].upper() + right[1:]
        else:
            capital = right
        if "\n" in found[0]:
            return f"{capital}\n"
        return capital

    return lambda text: pattern.sub(corrected, text)


def _masking(words: Sequence[str], counts: Counter[str]) -> Change:
    pattern = re.compile(_whole(words), re.IGNORECASE)

    def masked(found: re.Match[str]) -> str:
        counts[_STRONG] += 1
        return found[0][0] + "*" * (len(found[0]) - 1)

    return lambda text: pattern.sub(masked, text)


def _dropping(words: Sequence[str], counts: Counter[str]) -> Change:
    """Leaves out neighbouring words together, with the marks that only they needed."""
    word = re.compile(_whole(words), re.IGNORECASE)
    several = rf"(?:{word.pattern})(?:{_GAP}(?:{word.pattern}))*"
    # It begins where blanks begin: in the middle of many, each would be read to their end.
    begins = r"(?:(?=\S)|(?<!\s))"
    pattern = re.compile(rf"{begins}([,;:]?)(\s*)({several})(\s*)([,;:.!?…]*)", re.IGNORECASE)

    def dropped(text: str) -> str:
        kept, at, is_capital = "", 0, False
        for found in pattern.finditer(text):
            counts[_STRONG] += sum(1 for _ in word.finditer(found[3]))
            between = text[at : found.start()]
            if is_capital:
                kept += _capital(between)
            else:
                kept += between
            at = found.end()
            kept = kept.rstrip()
            starts = not kept or kept[-1] in ".!?…"
            is_capital = starts and (found[3][0].isupper() or (is_capital and not between.strip()))
            marks = "" if starts else found[5] or found[1]
            kept += marks
            if "\n" in found[0]:
                kept += "\n"
            elif found[2] or marks:
                kept += " "
        rest = text[at:]
        kept = _EMPTY.sub("", kept + (_capital(rest) if is_capital else rest))
        if any(map(str.isalnum, kept)):
            return kept
        return ""

    return lambda text: dropped(text) if word.search(text) else text


def _capital(text: str) -> str:
    """With its first letter in upper case."""
    first = next((at for at, character in enumerate(text) if character.isalpha()), 0)
    return text[:first] + text[first : first + 1].upper() + text[first + 1 :]
