"""Translated transcripts: passages keep their times, words are laid out anew within them."""

import bisect
import csv
import io
from collections.abc import Sequence
from dataclasses import replace

import msgspec

from mantisreed.exports.script import Script
from mantisreed.exports.tables import harmless_cell
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage, Transcript
from mantisreed.transcript.estimate import estimated_words
from mantisreed.transcript.writing import joined, words_of

_PAUSE = 0.3  # seconds between two words from which on nobody speaks between them


def translated(
    transcript: Transcript, texts: Sequence[str], language: str | None, service: str
) -> Transcript:
    """The transcript in another language.

    Args:
        transcript: the original.
        texts: of its passages, in the other language; a passage whose text is empty goes.
        language: the tag of the other language.
        service: by whom, for a note.
    """
    passages = []
    for passage, text in zip(transcript.passages, texts, strict=True):
        if not text.strip():
            continue
        # Over the speech of the original: somebody speaks for as long in any language.
        words = estimated_words(words_of(text, language), _speech_in(passage))
        passages.append(
            Passage(passage.start, passage.end, text, passage.speaker, "estimated", tuple(words))
        )
    note = f"translated{f' from {transcript.language}' if transcript.language else ''} by {service}"
    return msgspec.structs.replace(
        transcript,
        passages=tuple(passages),
        language=language or transcript.language,
        events=(),
        notes=(*transcript.notes, note),
    )


def _speech_in(passage: Passage) -> list[tuple[float, float]]:
    """Where somebody speaks in a passage, by its own words."""
    spans: list[tuple[float, float]] = []
    for word in passage.words:
        if spans and word.start - spans[-1][1] < _PAUSE:
            spans[-1] = spans[-1][0], max(spans[-1][1], word.end)
        elif word.end > word.start:
            spans.append((word.start, word.end))
    return spans or [(passage.start, passage.end)]


def in_two_languages(transcript: Transcript, translation: Transcript, rules: LayoutRules) -> Script:
    """Cues with the original above and the translation below.

    The original decides how many cues a passage has, one line each; the translation is shared out
    among them by length.
    """
    # One line each, as two of both would cover the picture.
    single = msgspec.structs.replace(rules, lines=1)
    others = {(passage.start, passage.end): passage for passage in translation.passages}
    by_passage: dict[int, list[Cue]] = {}
    starts = [passage.start for passage in transcript.passages]
    for cue in lay_out(transcript.passages, single, language=transcript.language):
        # By its middle, as cues may be longer than their words.
        number = max(0, bisect.bisect_right(starts, (cue.start + cue.end) / 2) - 1)
        by_passage.setdefault(number, []).append(cue)
    cues: list[Cue] = []
    for number, above in by_passage.items():
        passage = transcript.passages[number]
        other = others.get((passage.start, passage.end))
        texts = _shared_out(
            other.text if other else "", [len(cue.text) for cue in above], translation.language
        )
        for cue, text in zip(above, texts, strict=True):
            cues.append(
                replace(
                    cue, lines=(*cue.lines, *_wrapped(text, rules.line_length)), words=(), marks=()
                )
            )
    cues.sort(key=lambda cue: cue.start)
    return Script(cues=tuple(cues), language=transcript.language)


def _shared_out(text: str, lengths: Sequence[int], language: str | None) -> list[str]:
    """A text in as many parts as there are lengths, each about as long as its own."""
    words = words_of(text, language)
    total, whole = sum(lengths) or 1, sum(len(word) + 1 for word in words)
    parts: list[list[str]] = [[] for _ in lengths]
    taken, index = 0, 0
    if lengths:
        due = lengths[0] / total * whole
    else:
        due = 0.0
    for word in words:
        # By the middle of the word, so that none is always late.
        if index < len(lengths) - 1 and taken + len(word) / 2 > due:
            index += 1
            due += lengths[index] / total * whole
        parts[index].append(word)
        taken += len(word) + 1
    return list(map(joined, parts))


def _wrapped(text: str, length: int) -> list[str]:
    """A text on one line, or on two of about the same length."""
    if len(text) <= length or " " not in text:
        if text:
            return [text]
        return []
    words, middle = text.split(" "), len(text) / 2
    best = min(range(1, len(words)), key=lambda count: abs(len(" ".join(words[:count])) - middle))
    return [" ".join(words[:best]), " ".join(words[best:])]


def check_table(transcript: Transcript, translation: Sequence[str], back: Sequence[str]) -> bytes:
    """A CSV table for checking: each passage, its translation, and that translated back."""
    sink = io.StringIO(newline="")
    writer = csv.writer(sink)
    writer.writerow(("start", "original", "translation", "back"))
    for passage, there, again in zip(transcript.passages, translation, back, strict=True):
        row = (f"{passage.start:.3f}", *map(harmless_cell, (passage.text, there, again)))
        writer.writerow(row)
    return sink.getvalue().encode("utf-8", "replace")
