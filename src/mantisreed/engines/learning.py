"""Proposing the `reply` table of a card from a sample reply.

Nothing is known of the service: what looks like words, passages, times and confidences is found by its values, and
names only break ties. Where a guess is weak, the proposal says so in a comment.
"""

import json
import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from statistics import fmean
from typing import Any

from mantisreed.engines.reply import events_in, lines_in
from mantisreed.engines.reply_paths import seconds_from
from mantisreed.errors import InputError
from mantisreed.subtitles.srt import read_srt
from mantisreed.subtitles.vtt import read_webvtt

_UNITS = ("s", "ms", "us", "100ns", "samples")
_TEXT_UNITS = ("suffixed", "iso8601", "clock")
_SAMPLE_RATE = 16_000
_CHARACTERS_PER_SECOND = 14.0  # of speech, blanks counted
_LANGUAGE = re.compile(r"[a-z]{2,3}(-[A-Za-z0-9]{2,8})*")
_BARE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")

_HINTS = {
    "start": re.compile(r"start|begin|from|offset|open|^at$|^t$|^a$|time", re.I),
    "end": re.compile(r"end|stop|till|until|gone|^to$|^z$", re.I),
    "length": re.compile(r"dur|len|runs|^d$", re.I),
    "confidence": re.compile(r"conf|prob|score|sure|trust|certain", re.I),
    "speaker": re.compile(r"speak|spk|voice|who|channel|role", re.I),
    "language": re.compile(r"lang|locale|tongue", re.I),
    "state": re.compile(r"stat(e|us)|phase|mood|progress", re.I),
}


@dataclass(slots=True)
class Proposal:
    """A `reply` table, line by line, and what the reader should look at."""

    lines: list[str] = field(default_factory=list)

    def add(self, key: str, value: str, doubt: str = "") -> None:
        """One key with its value; with a doubt, a comment after it."""
        self.lines.append(
            f"{key} = {json.dumps(value, ensure_ascii=False)}" + (f"  # not sure: {doubt}" if doubt else "")
        )

    def toml(self, engine: str) -> str:
        """The proposal, ready to paste into the card of this engine."""
        place = f"[engine.{engine}.reply"
        return "\n".join(line.replace("[reply", place) for line in self.lines) + "\n"


@dataclass(frozen=True, slots=True)
class _List:
    """A list of objects somewhere in a document: the path to it, and for each item the values of its fields."""

    path: str
    items: Sequence[dict[str, Any]]

    def column(self, name: str) -> list[Any]:
        return [item.get(name) for item in self.items]

    @property
    def names(self) -> list[str]:
        return list(dict.fromkeys(name for item in self.items for name in item))


@dataclass(frozen=True, slots=True)
class _Times:
    start: str
    end: str | None
    length: str | None
    unit: str
    doubt: str


def propose(sample: bytes, length: float | None = None) -> Proposal:
    """The `reply` table for replies like this one.

    Args:
        sample: a whole reply, as it came.
        length: of the sound it answers, in seconds; helps to tell units of time apart.

    Raises:
        InputError: the sample is empty, or nothing in it looks like text.
    """
    text = sample.decode("utf-8-sig", "replace")
    if not text.strip():
        raise InputError("the sample is empty", advice="save a whole reply of the engine to a short recording")
    proposal = Proposal(["[reply]"])
    try:
        document = json.loads(text)
    except ValueError:
        _propose_for_text(proposal, sample, text)
    else:
        _propose_for_json(proposal, document, length)
    return proposal


def _propose_for_text(proposal: Proposal, sample: bytes, text: str) -> None:
    if text.lstrip().startswith("WEBVTT"):
        proposal.lines.append('kind = "vtt"')
    elif read_srt(text).cues:
        proposal.lines.append('kind = "srt"')
    elif any(line.startswith("data:") for line in text.splitlines()):
        _propose_for_stream(proposal, "events", list(events_in(sample)))
    elif all(line.lstrip().startswith("{") for line in lines_in(sample)):
        _propose_for_stream(proposal, "lines", list(lines_in(sample)))
    elif read_webvtt(text).cues:
        proposal.add("kind", "vtt", "the header WEBVTT is missing")
    else:
        proposal.add("kind", "text")


def _propose_for_stream(proposal: Proposal, kind: str, items: list[str]) -> None:
    proposal.add("kind", kind)
    documents, ends = [], None
    for item in items:
        try:
            documents.append(json.loads(item))
        except ValueError:
            ends = item
    texts = _strings_by_path(documents)
    if not texts:
        raise InputError(f"no text is in any of these {kind}")
    path, parts = max(texts.items(), key=lambda entry: len("".join(entry[1])))
    proposal.add("text", path)
    if len(parts) > 1 and all(after.startswith(before) for before, after in pairwise(parts)):
        proposal.lines.append("whole = true")
    if ends is not None and ends == items[-1]:
        proposal.add("ends", ends)


def _propose_for_json(proposal: Proposal, document: Any, length: float | None) -> None:
    lists = [found for found in _lists_in(document, "") if found.items]
    words = _best(lists, _is_word_list)
    passages = _best(lists, lambda found: _is_passage_list(found, words))
    whole = _whole_text(document)
    states = [
        path for path, value in _leaves(document, "") if _HINTS["state"].search(path) and isinstance(value, str)
    ]
    proposal.lines += [f"# looks like a state, for [poll]: state = {json.dumps(path)}" for path in states[:1]]
    if not (words or passages or whole):
        raise InputError("nothing in this sample looks like text that was said", advice="is it the reply itself?")
    if whole and not (passages or words):
        proposal.add("text", whole)
        proposal.lines.append("# no times were found: they will be estimated")
    language = _language(document)
    if language:
        proposal.add("language", language)
    timed = [found for found in (words, passages) if found]
    times = {found.path: _times(found, length) for found in timed}
    unit = next((found for found in times.values() if found), None)
    if unit:
        proposal.add("times", unit.unit, unit.doubt)
    if passages:
        _add_list(proposal, "passages", passages, passages.path, times[passages.path])
    if words:
        # The words' path starts at the passage, where passages hold their words.
        inside = passages is not None and words.path.startswith(f"{passages.path}[].")
        path = words.path[len(passages.path) + 3 :] if inside and passages else words.path
        if inside or passages is None:
            _add_list(proposal, "words", words, path.replace("[]", "[0]") if inside else path, times[words.path])


def _add_list(proposal: Proposal, key: str, found: _List, path: str, times: _Times | None) -> None:
    proposal.lines += ["", f"[reply.{key}]"]
    proposal.add("each", path or "@")
    text = _text_name(found)
    assert text is not None
    proposal.add("text", text)
    if times:
        proposal.add("start", times.start)
        proposal.add("end" if times.end else "length", times.end or times.length or "", times.doubt)
    confidence = _confidence_name(found, times)
    if confidence and key == "words":
        proposal.add("confidence", confidence)
    speaker = _speaker_name(found, times)
    if speaker:
        proposal.add("speaker", speaker)
    if key == "passages" and "[0]." in text:
        outer, _, inner = text.rpartition("[0].")
        proposal.add("alternatives", f"{outer}[1:].{inner}")


def _lists_in(value: Any, path: str) -> Iterator[_List]:
    """Every list of objects, those inside lists joined over all items: `passages[].words`."""
    if isinstance(value, dict):
        for name, item in value.items():
            yield from _lists_in(item, _joined(path, name))
    elif isinstance(value, list) and value and all(isinstance(item, dict) for item in value):
        yield _List(path, [_flat(item) for item in value])
        for name in dict.fromkeys(name for item in value for name in item):
            inner = [item.get(name) for item in value]
            yield from _inner_lists(inner, f"{path}[].{_quoted(name)}")


def _inner_lists(values: list[Any], path: str) -> Iterator[_List]:
    present = [value for value in values if value]
    if present and all(
        isinstance(value, list) and all(isinstance(item, dict) for item in value) for value in present
    ):
        yield _List(path, [_flat(item) for value in present for item in value])
        firsts = [value[0] for value in present]
        for name in dict.fromkeys(name for first in firsts for name in first):
            yield from _inner_lists([first.get(name) for first in firsts], f"{path}[0].{_quoted(name)}")
    elif present and all(isinstance(value, dict) for value in present):
        for name in dict.fromkeys(name for value in present for name in value):
            yield from _inner_lists([value.get(name) for value in present], f"{path}.{_quoted(name)}")


def _flat(item: dict[str, Any]) -> dict[str, Any]:
    """An item's values by path: those of objects in it, and of the first of a list of objects in it."""
    flat: dict[str, Any] = {}
    for name, value in item.items():
        if isinstance(value, dict):
            flat |= {f"{_quoted(name)}.{inner}": found for inner, found in _flat(value).items()}
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            first = {k: v for k, v in value[0].items() if not isinstance(v, (dict, list))}
            flat |= {f"{_quoted(name)}[0].{inner}": found for inner, found in _flat(first).items()}
        elif not isinstance(value, list):
            flat[_quoted(name)] = value
    return flat


def _best(lists: Sequence[_List], fits: Callable[[_List], bool]) -> _List | None:
    return max((found for found in lists if fits(found)), key=lambda found: len(found.items), default=None)


def _is_word_list(found: _List) -> bool:
    text = _text_name(found)
    if text is None or "[0]" in text or not _time_names(found):
        return False
    words = [str(value) for value in found.column(text) if isinstance(value, str)]
    return bool(words) and fmean(len(word.split()) for word in words) < 1.3


def _is_passage_list(found: _List, words: _List | None) -> bool:
    text = _text_name(found)
    if text is None or (words is not None and found.path == words.path):
        return False
    if words is not None and words.path.startswith(f"{found.path}[]."):
        # A list of readings inside a passage holds words too, but the passage is the outer one.
        return found.path.count("[]") == 0
    values = [value for value in found.column(text) if isinstance(value, str)]
    return bool(_time_names(found)) and fmean(len(value.split()) for value in values) >= 1.3


def _text_name(found: _List) -> str | None:
    """The field whose texts say most; of several forms of the same, the one with capitals and punctuation."""

    def worth(name: str) -> tuple[bool, int, int]:
        values = [value for value in found.column(name) if isinstance(value, str)]
        written = sum(bool(re.search(r"[A-ZÄÖÜ]|[.,!?]", value)) - value.count("**") for value in values)
        nested = "[0]." in name
        return (not nested, written, sum(map(len, values)))

    names = [name for name in found.names if _holds_text(found.column(name))]
    direct = [name for name in names if "[0]." not in name]
    spoken = direct or [name for name in names if name.count("[0]") == 1]
    return max(spoken, key=worth, default=None)


def _holds_text(values: Sequence[Any]) -> bool:
    texts = [value for value in values if isinstance(value, str) and value.strip()]
    if len(texts) < 0.6 * len(values) or any(isinstance(value, (int, float)) for value in values):
        return False
    if all(_seconds(text, unit) is not None for text in texts for unit in _TEXT_UNITS[:2]):
        return False
    return not all(any(_seconds(text, unit) is not None for unit in (*_TEXT_UNITS, "s")) for text in texts)


def _time_names(found: _List) -> list[str]:
    """Fields whose values can all be times, in any unit."""
    return [name for name in found.names if _holds_times(found.column(name))]


def _holds_times(column: Sequence[Any]) -> bool:
    values = [value for value in column if value is not None]
    if len(values) < 0.6 * len(column) or any(isinstance(value, bool) for value in values):
        return False
    return all(any(_seconds(value, unit) is not None for unit in ("s", *_TEXT_UNITS)) for value in values)


def _times(found: _List, length: float | None) -> _Times | None:
    """Which fields are start and end or length, and in which unit."""
    text = _text_name(found)
    names = [name for name in _time_names(found) if _may_be_time(found, name)]
    rising = [name for name in names if _rises(_numbers(found, name))]
    if text is None or len(names) < 2 or not rising:
        return None
    start = min(rising, key=lambda name: (not _HINTS["start"].search(name), fmean(_numbers(found, name))))
    others = [name for name in names if name != start]
    starts = _numbers(found, start)
    doubt = "only one item to go by" if len(found.items) < 2 else ""

    def is_end(name: str) -> bool:
        numbers = _numbers(found, name)
        above = all(b >= a for a, b in zip(starts, numbers, strict=False))
        if len(found.items) < 2 or max(starts) == 0:
            return above and not _HINTS["length"].search(name)
        return above and _rises(numbers) and not _HINTS["length"].search(name)

    ends = [name for name in others if is_end(name)]
    lengths = [name for name in others if name not in ends and not _HINTS["confidence"].search(name)]
    end = min(ends, key=lambda name: (not _HINTS["end"].search(name), fmean(_numbers(found, name))), default=None)
    if end is None and not lengths:
        return None
    span = max(lengths, key=lambda name: bool(_HINTS["length"].search(name))) if end is None else None
    measured = _numbers(found, end or span or "")
    spoken = sum(measured) - (sum(starts) if end else 0.0)
    characters = sum(len(value) + 1 for value in found.column(text) if isinstance(value, str))
    unit, unit_doubt = _unit(found, start, spoken, characters, max(measured), length)
    return _Times(start, end, span, unit, doubt or unit_doubt)


def _unit(
    found: _List, start: str, spoken: float, characters: int, latest: float, length: float | None
) -> tuple[str, str]:
    """The unit in which so many characters are said at the pace of speech, and times end within the length."""
    values = [value for value in found.column(start) if value is not None]
    for unit in _TEXT_UNITS:
        if all(isinstance(value, str) and _seconds(value, unit) is not None for value in values):
            return unit, ""
    factors = {unit: seconds_from(1.0, unit, _SAMPLE_RATE) or 1.0 for unit in _UNITS}
    possible = [unit for unit in _UNITS if length is None or latest * factors[unit] <= length * 1.05 + 1.0] or list(
        _UNITS
    )

    def strangeness(unit: str) -> float:
        pace = characters / max(spoken * factors[unit], 1e-9)
        return abs(math.log(pace / _CHARACTERS_PER_SECOND))

    best = min(possible, key=strangeness)
    if strangeness(best) > math.log(4):
        return best, "the pace of speech is strange in every unit"
    return best, f"samples of {_SAMPLE_RATE} a second?" if best == "samples" and length is None else ""


def _numbers(found: _List, name: str) -> list[float]:
    """A field's values as numbers, in their own unit, whatever it is."""
    numbers = []
    for value in found.column(name):
        read = (_seconds(value, unit) for unit in ("s", *_TEXT_UNITS))
        number = next((seconds for seconds in read if seconds is not None), None)
        if number is not None:
            numbers.append(number)
    return numbers or [0.0]


def _seconds(value: Any, unit: str) -> float | None:
    if isinstance(value, str) and unit == "clock" and ":" not in value:
        return None
    if isinstance(value, str) and unit == "suffixed" and not value.rstrip().endswith("s"):
        return None
    return seconds_from(value, unit, _SAMPLE_RATE)


def _rises(numbers: Sequence[float]) -> bool:
    """Whether most steps go up: several voices may overlap."""
    if len(numbers) < 2:
        return True
    steps = [after >= before for before, after in pairwise(numbers)]
    return sum(steps) >= 0.8 * len(steps) and numbers[-1] > numbers[0]


def _is_share(values: Sequence[Any]) -> bool:
    numbers = [value for value in values if isinstance(value, (int, float))]
    return bool(numbers) and all(0 <= number <= 1 for number in numbers)


def _may_be_time(found: _List, name: str) -> bool:
    """Numbers from 0 to 1 are rather confidences, unless their name says that they are times."""
    hinted = any(_HINTS[kind].search(name) for kind in ("start", "end", "length"))
    return hinted or not _is_share(found.column(name))


def _confidence_name(found: _List, times: _Times | None) -> str | None:
    taken = {times.start, times.end, times.length} if times else set()
    shares = [name for name in found.names if name not in taken and _is_share(found.column(name))]
    return max(shares, key=lambda name: bool(_HINTS["confidence"].search(name)), default=None)


def _speaker_name(found: _List, times: _Times | None) -> str | None:
    taken = {times.start, times.end, times.length} if times else set()
    for name in found.names:
        values = [value for value in found.column(name) if value is not None]
        labels = {value for value in values if isinstance(value, (str, int)) and not isinstance(value, bool)}
        if name in taken or "[0]" in name or len(values) < len(found.items) or not labels:
            continue
        if _HINTS["speaker"].search(name) and len(labels) <= max(2, len(values)):
            return name
    return None


def _whole_text(document: Any) -> str | None:
    """The path of the longest text that stands outside any list, or in the first item of one."""
    texts = {path: value for path, value in _leaves(document, "") if isinstance(value, str) and " " in value.strip()}
    return max(texts, key=lambda path: len(texts[path]), default=None)


def _language(document: Any) -> str | None:
    for path, value in _leaves(document, ""):
        if isinstance(value, str) and _HINTS["language"].search(path) and _LANGUAGE.fullmatch(value):
            return path
    return None


def _leaves(value: Any, path: str) -> Iterator[tuple[str, Any]]:
    """Values outside lists, and inside the first item of lists."""
    if isinstance(value, dict):
        for name, item in value.items():
            yield from _leaves(item, _joined(path, name))
    elif isinstance(value, list):
        if value:
            yield from _leaves(value[0], f"{path}[0]")
    elif path:
        yield path, value


def _strings_by_path(documents: Sequence[Any]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for document in documents:
        for path, value in _leaves(document, ""):
            if isinstance(value, str):
                found.setdefault(path, []).append(value)
    return found


def _joined(path: str, name: str) -> str:
    return f"{path}.{_quoted(name)}" if path else _quoted(name)


def _quoted(name: str) -> str:
    return name if _BARE.fullmatch(name) else json.dumps(name)
