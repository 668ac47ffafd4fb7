"""The words of a transcript, as the layout places them."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

from mantisreed.subtitles.cues import text_width
from mantisreed.subtitles.overlaps import DASH
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.subtitles.sounds import sound_parts
from mantisreed.transcript.document import Passage, Word
from mantisreed.transcript.writing import is_spaceless, phrases, spaced


@dataclass(slots=True)
class CueTokens:
    """Words of all passages, in order; `run` tells apart what no cue may bridge."""

    texts: list[str]
    words: list[Word]
    speakers: list[str | None]
    is_glued: list[bool]
    run: list[int]


def tokens_of(
    passages: Iterable[Passage], rules: LayoutRules, language: str | None, *, mark_speakers: bool
) -> CueTokens:
    """The words of a transcript in order, with what the layout has to know of each."""
    tokens = CueTokens([], [], [], [], [])
    run, speaker, before = 0, None, None
    for passage in passages:
        run += 1
        is_new = passage.speaker is not None and passage.speaker != speaker
        if mark_speakers and is_new:
            mark = mark_of(passage.speaker, rules)
        else:
            mark = ""
        speaker = passage.speaker
        said = [word for word in passage.words if word.text.strip()]
        if not said:
            continue
        parts = _parts_of(said, passage.text, rules, language)
        for number, (word, has_space, is_edge) in enumerate(parts):
            text = word.text
            if number == 0:
                text = mark + text
            elif is_edge or (before is not None and word.start - before.end > rules.longest_pause):
                run += 1
            tokens.is_glued.append(number > 0 and not has_space)
            tokens.texts.append(text)
            tokens.words.append(word)
            tokens.speakers.append(passage.speaker)
            tokens.run.append(run)
            before = word
    return tokens


def _parts_of(
    said: Sequence[Word], text: str, rules: LayoutRules, language: str | None
) -> Iterator[tuple[Word, bool, bool]]:
    """The words of a passage that are shown, long ones in pieces; with each, whether a space stands
    before it, and whether it is at an edge of a description of a sound.
    """
    texts = [word.text for word in said]
    sounds = sound_parts(texts)
    edges, dropped = set(chain.from_iterable(sounds)), set[int]()
    if rules.sounds == "drop":
        dropped.update(chain.from_iterable(range(first, last) for first, last in sounds))
    for at, (whole, space) in enumerate(zip(said, spaced(text, texts), strict=True)):
        if at not in dropped:
            first, *others = _pieces_of(whole, rules, language)
            yield first, space, at in edges
            for part in others:
                yield part, False, False


def mark_of(speaker: str | None, rules: LayoutRules) -> str:
    """What stands before the first word of a new speaker."""
    if speaker is None or rules.speakers in ("none", "dash"):
        return ""
    if rules.speakers == "dash-each":
        return DASH
    return f"{speaker}: "


def _pieces_of(word: Word, rules: LayoutRules, language: str | None) -> Iterator[Word]:
    """The word; or, in a script without spaces, its parts that may stand in different lines, if it
    is long.
    """
    longest = rules.line_length // 3
    if (
        word.text.isascii()
        or text_width(word.text) <= longest
        or not any(map(is_spaceless, word.text))
    ):
        yield word
        return
    import regex  # graphemes, after Unicode Standard Annex 29

    each = (word.end - word.start) / len(word.text)
    start = word.start
    for phrase in phrases(word.text, language):
        for part in [phrase] if text_width(phrase) <= longest else regex.findall(r"\X", phrase):
            end = start + each * len(part)
            yield Word(part, start, end, word.confidence)
            start = end
