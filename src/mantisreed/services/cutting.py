"""Long texts in parts that a service takes: cut between paragraphs, else sentences, else words."""

import re
from collections.abc import Callable, Iterator, Sequence

from mantisreed.transcript.writing import joined

_SENTENCE_END = re.compile(r"(?<=[.!?…])[\"'»”)\]]*\s+|(?<=[。！？])")


def parts_of(texts: Sequence[str], fits: Callable[[str], bool]) -> list[str]:
    """Texts joined by blank lines into as few parts as fit, in order.

    Args:
        texts: paragraphs, such as passages.
        fits: whether a text is short enough for one request.
    """
    parts: list[str] = []
    waiting = ""
    for text in texts:
        together = f"{waiting}\n\n{text}" if waiting else text
        if fits(together):
            waiting = together
            continue
        if waiting:
            parts.append(waiting)
        *whole, waiting = [text] if fits(text) else list(_pieces(text, fits))
        parts += whole
    if waiting:
        return [*parts, waiting]
    return parts


def _pieces(text: str, fits: Callable[[str], bool]) -> Iterator[str]:
    """A text that does not fit, in pieces that do."""
    sentences = [sentence for sentence in _SENTENCE_END.split(text) if sentence.strip()]
    # Without sentences at words; within a word only where nothing else fits.
    units = sentences if len(sentences) > 1 else text.split()
    if len(units) == 1:
        yield from _halves(text, fits)
        return
    waiting = ""
    for unit in units:
        together = joined([waiting, unit]) if waiting else unit
        if fits(together):
            waiting = together
            continue
        if waiting:
            yield waiting
        if fits(unit):
            waiting = unit
        else:
            *whole, waiting = _pieces(unit, fits)
            yield from whole
    if waiting:
        yield waiting


def _halves(text: str, fits: Callable[[str], bool]) -> Iterator[str]:
    """One long word, or a text without spaces."""
    if fits(text) or len(text) < 2:
        yield text
        return
    middle = len(text) // 2
    yield from _halves(text[:middle], fits)
    yield from _halves(text[middle:], fits)


def groups_of(texts: Sequence[str], fits: Callable[[str], bool]) -> list[list[str]]:
    """Texts that go into one request together, in order; each is whole, even where it alone does
    not fit.
    """
    groups: list[list[str]] = []
    for text in texts:
        if groups and fits("\n".join([*groups[-1], text])):
            groups[-1].append(text)
        else:
            groups.append([text])
    return groups
