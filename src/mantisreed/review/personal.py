"""Personal data in transcripts: found, and hidden in every place where it could be read."""

import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import chain, pairwise

import msgspec

from mantisreed.exports.redaction import Redaction
from mantisreed.exports.script import Script
from mantisreed.review.personal_patterns import CARD_DIGITS, is_card_number, personal_spans
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import Passage, Transcript, Word, speakers_of
from mantisreed.transcript.writing import joined, places_of, words_of

# Said between digits that are read out; it does not end them.
_BETWEEN = re.compile(
    "um|uhm?|erm?|hm|ähm?|öh|euh|eh|em|dash|hyphen|minus|slash|stroke|plus|space|strich|bindestrich|schrägstrich|"
    "leerzeichen|tiret|espace|guion|espacio|trattino|spazio"
)
_LEAST_SPOKEN = 6  # digits that are read out one after the other; fewer are a count or a year
_LANGUAGES = ("en", "de", "fr", "es", "it", "pt", "nl", "pl")
_OWN_DIGITS = {"en": {"oh": "0", "o": "0", "nought": "0"}, "de": {"zwo": "2"}}
_TIMES = {"double": 2, "triple": 3, "treble": 3}
_TRAILING = re.compile(r"[.,;:!?…]+$")
_EDGE_MARKS = re.compile(r"^[\W_]+|(?<![\W_])[\W_]+$")
_MOST_PARTS = 4  # words of a number below a hundred


@dataclass(frozen=True, slots=True)
class FoundData:
    """Personal data in a row of words: words [first, last), and what they are."""

    kind: str
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class PersonalPlace:
    """Personal data in a transcript.

    Attributes:
        kind: of `redaction.KINDS`, or `strong`.
        start, end: seconds.
        text: of it.
        is_estimated: whether its times are only estimated.
    """

    kind: str
    start: float
    end: float
    text: str
    is_estimated: bool = False


def found_in(
    texts: Sequence[str], redaction: Redaction, language: str | None = None
) -> list[FoundData]:
    """Personal data in words, by place; what overlaps is told once.

    Args:
        texts: of words, in order, with their punctuation.
        redaction: what is looked for.
        language: a tag, for digits that are read out; None takes all languages that are known.
    """
    whole = joined(texts)
    places = places_of(whole, texts)
    if places is None:
        whole = " ".join(texts)
        places = places_of(whole, texts) or []
    found: list[FoundData] = []
    for kind, start, end in personal_spans(whole, redaction):
        first, last = _words_at(places, texts, start, end)
        if last > first:
            found.append(FoundData(kind, first, last))
    if "digits" in redaction.kinds or "card" in redaction.kinds:
        spoken = _spoken_digits(texts, language)
        found += [one for one in spoken if one.kind in redaction.kinds]
    return _apart(found)


def _words_at(places: Sequence[int], texts: Sequence[str], start: int, end: int) -> tuple[int, int]:
    """The words [first, last) that a stretch of text touches."""
    first = max(0, bisect_right(places, start) - 1)
    if first < len(places) and places[first] + len(texts[first]) <= start:
        first += 1
    return first, bisect_left(places, end)


def _apart(found: Iterable[FoundData]) -> list[FoundData]:
    """Those that overlap as one, of the kind that was found first: of all its words none may be
    left.
    """
    taken: list[FoundData] = []
    for one in found:
        overlapping = [
            other for other in taken if one.first < other.last and other.first < one.last
        ]
        if overlapping:
            first = min(one.first, *(other.first for other in overlapping))
            last = max(one.last, *(other.last for other in overlapping))
            taken = [other for other in taken if other not in overlapping]
            one = FoundData(overlapping[0].kind, first, last)
        taken.append(one)
    return sorted(taken, key=lambda one: one.first)


@lru_cache(maxsize=16)
def _numerals(tongue: str) -> dict[tuple[str, ...], str]:
    """Numbers from 0 to 99 by the words with which a language says them."""
    from num2words import num2words  # only where somebody may have said digits

    table: dict[tuple[str, ...], str] = {}
    for number in range(100):
        said = str(num2words(number, lang=tongue)).casefold()
        for form in {said, said.replace("-", " "), said.replace("-", "")}:
            table[tuple(form.split())] = str(number)
    table |= {(word,): digit for word, digit in _OWN_DIGITS.get(tongue, {}).items()}
    return table


def _spoken_digits(texts: Sequence[str], language: str | None) -> list[FoundData]:
    """Runs of numbers that are read out: `zero seven nine four, double two, forty one`."""
    tongue = (language or "").split("-")[0].lower()
    keys = [_EDGE_MARKS.sub("", text).casefold() for text in texts]
    found: dict[tuple[int, int], FoundData] = {}
    for one in (tongue,) if tongue in _LANGUAGES else _LANGUAGES:
        for run in _runs_of_digits(keys, _numerals(one)):
            found[run.first, run.last] = run
    return list(found.values())


def _runs_of_digits(
    keys: Sequence[str], numerals: dict[tuple[str, ...], str]
) -> Iterator[FoundData]:
    at = 0
    while at < len(keys):
        first, end, digits = at, at, ""
        while at < len(keys):
            said, used = _number_at(keys, at, numerals)
            if not used and digits and at > end:
                break  # of what is said in between one word is enough
            if not used and not (digits and _BETWEEN.fullmatch(keys[at])):
                break
            digits, at = digits + said, at + max(1, used)
            end = at if used else end
        if len(digits) >= _LEAST_SPOKEN and end - first >= 3:
            yield FoundData(
                "card" if len(digits) in CARD_DIGITS and is_card_number(digits) else "digits",
                first,
                end,
            )
        at = max(end, first + 1)


def _number_at(
    keys: Sequence[str], at: int, numerals: dict[tuple[str, ...], str]
) -> tuple[str, int]:
    """The digits that words at a place say, and how many words; none where they say something
    else.
    """
    key = keys[at]
    if key.isdecimal() and len(key) <= 4:
        return key, 1
    if key in _TIMES and at + 1 < len(keys) and (keys[at + 1],) in numerals:
        return numerals[(keys[at + 1],)] * _TIMES[key], 2
    for count in range(min(_MOST_PARTS, len(keys) - at), 0, -1):
        said = numerals.get(tuple(keys[at : at + count]))
        if said is not None:
            return said, count
    return "", 0


def places_in(transcript: Transcript, redaction: Redaction) -> list[PersonalPlace]:
    """Personal data in a transcript, by time."""
    rows = []
    for passage in transcript.passages:
        rows += [(word, passage) for word in _words_of(passage, transcript.language)]
    found = found_in([word.text for word, _ in rows], redaction, transcript.language)
    places = []
    for one in found:
        own = rows[one.first : one.last]
        start, end = min(word.start for word, _ in own), max(word.end for word, _ in own)
        text = joined(word.text for word, _ in own)
        is_estimated = any(passage.timing == "estimated" for _, passage in own)
        places.append(PersonalPlace(one.kind, round(start, 3), round(end, 3), text, is_estimated))
    return places


def _words_of(passage: Passage, language: str | None) -> Sequence[Word]:
    """The words of a passage; where they are not timed, all of them at the time of the passage."""
    if passage.words:
        return passage.words
    return [Word(text, passage.start, passage.end) for text in words_of(passage.text, language)]


def hidden_script(script: Script, redaction: Redaction | None) -> Script:
    """The script without personal data in its words, cues, names, notes and whatever else holds
    text.
    """
    if redaction is None:
        return script
    if script.transcript is None:
        transcript = None
    else:
        transcript = hidden_transcript(script.transcript, redaction)
    if script.cues is None:
        cues = None
    else:
        cues = tuple(_hidden_cues(script.cues, redaction, script.tongue))

    def text(given: str) -> str:
        return hidden_text(given, redaction, script.tongue)

    return replace(
        script,
        transcript=transcript,
        cues=cues,
        notes=tuple(map(text, script.notes)),
        head=tuple(map(text, script.head)),
        remarks=(),
    )


def hidden_transcript(transcript: Transcript, redaction: Redaction | None) -> Transcript:
    """The transcript without personal data."""
    if redaction is None:
        return transcript

    def text(given: str) -> str:
        return hidden_text(given, redaction, transcript.language)

    rows = [_words_of(passage, transcript.language) for passage in transcript.passages]
    labels = _labels(
        [word.text for word in chain.from_iterable(rows)], redaction, transcript.language
    )
    passages, at = [], 0
    for passage, row in zip(transcript.passages, rows, strict=True):
        own = labels[at : at + len(row)]
        at += len(row)
        if any(own):
            passage = _hidden_passage(passage, row, own)
        alternatives = tuple(map(text, passage.alternatives))
        if passage.speaker is None:
            speaker = None
        else:
            speaker = text(passage.speaker)
        passages.append(
            msgspec.structs.replace(passage, alternatives=alternatives, speaker=speaker)
        )
    facts = transcript.recording
    about = facts.about
    if isinstance(about, dict):
        about = {key: text(value) for key, value in about.items()}
    return msgspec.structs.replace(
        transcript,
        recording=msgspec.structs.replace(
            facts, name=hidden_name(facts.name, redaction), about=about
        ),
        passages=tuple(passages),
        speakers=speakers_of(passages),
        events=tuple(
            msgspec.structs.replace(event, text=text(event.text)) for event in transcript.events
        ),
        notes=tuple(map(text, transcript.notes)),
        replacements=tuple(
            msgspec.structs.replace(one, before=text(one.before), after=text(one.after))
            for one in transcript.replacements
        ),
    )


def hidden_name(name: str, redaction: Redaction) -> str:
    """A file's name, in which words may be parted by anything."""
    spans = list(personal_spans(re.sub(r"[_-]", " ", name), redaction))
    for kind, start, end in sorted(spans, key=lambda one: -one[1]):
        name = f"{name[:start]}[{kind}]{name[end:]}"
    return name


def _labels(
    texts: Sequence[str], redaction: Redaction, language: str | None
) -> list[FoundData | None]:
    """For each word what it is a part of."""
    labels: list[FoundData | None] = [None] * len(texts)
    for one in found_in(texts, redaction, language):
        labels[one.first : one.last] = [one] * (one.last - one.first)
    return labels


def _hidden_passage(
    passage: Passage, row: Sequence[Word], labels: Sequence[FoundData | None]
) -> Passage:
    """The passage with one word for each thing that is hidden, over its whole time."""
    words: list[Word] = []
    parts: list[str] = []
    texts = [word.text for word in row]
    places = places_of(passage.text, texts)
    # Each word with the marks and the space behind it.
    written = []
    if places:
        written = [passage.text[here:there] for here, there in pairwise([*places, None])]
    at = 0
    while at < len(row):
        last = at + 1
        if labels[at] is not None:
            while last < len(row) and labels[last] is labels[at]:
                last += 1
            label = _label(labels[at], texts[last - 1])
            words.append(Word(label, row[at].start, max(word.end for word in row[at:last])))
            is_spaced = bool(written) and written[last - 1].endswith(" ")
            parts.append(f"{label} " if is_spaced else label)
        else:
            words.append(row[at])
            parts.append(written[at] if written else texts[at])
        at = last
    if places:
        text = passage.text[: places[0]] + "".join(parts)
    else:
        text = joined(parts)
    timed = tuple(words) if passage.words else ()
    return msgspec.structs.replace(passage, text=text.strip(), words=timed)


def _label(found: FoundData | None, last: str) -> str:
    """What stands for something hidden, with the punctuation behind it."""
    assert found is not None
    trailing = _TRAILING.search(last)
    return f"[{found.kind}]{trailing[0] if trailing else ''}"


def hidden_text(text: str, redaction: Redaction, language: str | None = None) -> str:
    """A text without personal data; its spaces and line breaks stay."""
    parts = re.split(r"(\s+)", text)
    texts = parts[::2]
    labels = _labels(texts, redaction, language)
    if not any(labels):
        return text
    for at, label in enumerate(labels):
        if label is None:
            continue
        is_first = at == 0 or labels[at - 1] is not label
        if is_first:
            parts[2 * at] = _label(label, texts[label.last - 1])
        else:
            parts[2 * at] = ""
        if not is_first:
            parts[2 * at - 1] = ""
    return "".join(parts)


def _with_hidden_speakers(cue: Cue, redaction: Redaction, language: str | None) -> Cue:
    def hidden(name: str | None) -> str | None:
        return hidden_text(name, redaction, language) if name else name

    turns = tuple(replace(turn, speaker=hidden(turn.speaker)) for turn in cue.turns)
    named = hidden_text(cue.name, redaction, language)
    return replace(cue, speaker=hidden(cue.speaker), turns=turns, name=named)


def _hidden_cues(cues: Sequence[Cue], redaction: Redaction, language: str | None) -> Iterator[Cue]:
    """Cues without personal data, also where it goes over several of them."""
    rows = [[line.split() for line in cue.lines] for cue in cues]
    texts = list(chain.from_iterable(chain.from_iterable(rows)))
    labels = _labels(texts, redaction, language)
    at = 0
    for cue, row in zip(cues, rows, strict=True):
        lines: list[str] = []
        is_changed = False
        for line in row:
            kept: list[str] = []
            for text in line:
                label = labels[at]
                if label is None:
                    kept.append(text)
                elif at == label.first or (not lines and not kept):
                    kept.append(_label(label, texts[label.last - 1]))
                is_changed = is_changed or label is not None
                at += 1
            if kept:
                lines.append(" ".join(kept))
        cue = _with_hidden_speakers(cue, redaction, language)
        if not is_changed:
            yield cue
        elif lines:
            yield replace(cue, lines=tuple(lines), words=(), marks=(), turns=())
