"""Texts for people: plain, with times, and Markdown."""

import html
import re
from collections.abc import Iterable, Iterator, Sequence

from mantisreed.exports.doubtful import (
    DoubtRun,
    DoubtsByTime,
    doubts_worth_showing,
    gaps_before,
    runs_of,
)
from mantisreed.exports.readings import other_readings
from mantisreed.exports.script import Script, bare_transcript
from mantisreed.transcript.document import Doubt, Passage
from mantisreed.transcript.estimate import passages_over_speech

_LAST = 5.0  # seconds that the last passage of a text with times is taken to last
# As people write times: with or without hours, fractions and brackets, a speaker before a colon.
_TIMED = re.compile(
    r"\[?(?:(\d+):)?(\d{1,3}):(\d{2})(?:[.,](\d{1,3}))?\]?\s+(?:([^:\n]{1,40}):\s)?(.*)"
)
_HEADING = re.compile(r"\*\*(?:(.*?)\s*·\s*)?(?:(\d+):)?(\d{1,3}):(\d{2})\*\*\s*$")
_LONGEST_HEADING = 500  # characters, with a speaker's name
# What Markdown would read as its own anywhere in a line.
_MARKS = re.compile(r"([\\`*_\[\]<>#|])")
_MARKED = re.compile(r"<mark(?: title=\"[^\"]*\")?>|</mark>")
_UNMARKED = re.compile(r"\\([\\`*_\[\]<>#|.+-])")


def write_plain(script: Script) -> str:
    """A passage on each line, with the speaker before it where there is one."""
    return "".join(f"{_spoken(passage)}\n" for passage in script.passages)


def write_timed(script: Script) -> str:
    """The same, with the time at which each passage begins: `mm:ss`, from an hour on `hh:mm:ss`."""
    passages = script.passages
    has_hours = any(passage.start >= 3600 for passage in passages)
    return "".join(
        f"{_clock(passage.start, has_hours)}  {_spoken(passage)}\n" for passage in passages
    )


def read_timed(text: str) -> Script:
    """Lines that begin with a time; each lasts until the next one. Lines without a time go on with
    the one before.
    """
    notes: list[str] = []
    found: list[tuple[float, str | None, str]] = []
    for line in text.split("\n"):
        times = _TIMED.match(line)
        if times:
            hours, minutes, seconds, fraction, speaker, said = times.groups()
            whole = (int(hours or 0) * 60 + int(minutes)) * 60 + int(seconds)
            found.append(
                (whole + int((fraction or "0").ljust(3, "0")) / 1000, speaker, said.strip())
            )
        elif line.strip() and found:
            start, speaker, said = found[-1]
            found[-1] = (start, speaker, f"{said} {line.strip()}")
        elif line.strip():
            notes.append(f"text before the first time was left out: {line.strip()[:60]!r}")
    return _script(found, notes)


def write_markdown(script: Script, title: str) -> str:
    """A heading, then each passage under its speaker and time."""
    passages = script.passages
    doubts = doubts_worth_showing(script)
    by_time = DoubtsByTime(doubts)
    gaps = gaps_before(passages, doubts)
    has_hours = any(passage.start >= 3600 for passage in passages)
    parts = [f"# {_escaped(title)}\n"]
    for passage, missing in zip(passages, gaps, strict=False):
        parts += [_quoted(doubt, has_hours) for doubt in missing]
        if passage.speaker is not None:
            speaker = f"{_escaped(passage.speaker)} · "
        else:
            speaker = ""
        if doubts:
            text = "".join(map(_marked, runs_of(passage, by_time)))
        else:
            text = _escaped(passage.text)
        parts.append(f"\n**{speaker}{_clock(passage.start, has_hours)}**\n\n{text}\n")
        parts += _numbered(other_readings(passage))
    parts += [_quoted(doubt, has_hours) for doubt in gaps[-1]]
    return "".join(parts)


def _marked(run: DoubtRun) -> str:
    """A run of text, coloured where it is doubtful, with the reason for whoever points at it."""
    text = _escaped(run.text)
    if not run.doubts:
        if run.text.endswith(" "):
            return f"{text} "
        return text
    if run.text.endswith(" "):
        ending = " "
    else:
        ending = ""
    return f'<mark title="{html.escape(run.why)}">{text}</mark>{ending}'


def _numbered(readings: Sequence[str]) -> Iterator[str]:
    """Lines with other readings of a passage, the likeliest first."""
    for number, reading in enumerate(readings, 1):
        blank = "\n" if number == 1 else ""
        yield f"{blank}> {number}. {_escaped(reading)}\n"


def _quoted(doubt: Doubt, has_hours: bool) -> str:
    """A line about text that is not there."""
    return f"\n> {_clock(doubt.start, has_hours)}: {_escaped(doubt.why)}\n"


def read_markdown(text: str) -> Script:
    """What `write_markdown` writes."""
    found: list[tuple[float, str | None, str]] = []
    notes = []
    for line in text.split("\n"):
        if len(line) <= _LONGEST_HEADING:
            heading = _HEADING.match(line)
        else:
            heading = None
        if heading:
            speaker, hours, minutes, seconds = heading.groups()
            whole = (int(hours or 0) * 60 + int(minutes)) * 60 + int(seconds)
            found.append((float(whole), _unescaped(speaker) if speaker else None, ""))
        elif line.startswith("> "):
            continue  # it tells of speech without text, or of another reading
        elif line.strip() and found:
            start, speaker, said = found[-1]
            text = _unescaped(_MARKED.sub("", line).strip())
            found[-1] = (start, speaker, f"{said} {text}".strip())
        elif line.strip() and not line.startswith("#"):
            notes.append(f"text before the first time was left out: {line.strip()[:60]!r}")
    return _script(found, notes)


def _script(found: list[tuple[float, str | None, str]], notes: Iterable[str]) -> Script:
    if found:
        # Nobody knows when the last one ends.
        ends = [start for start, _, _ in found[1:]] + [found[-1][0] + _LAST]
    else:
        ends = []
    passages = [
        Passage(start, max(start, end), said, speaker, "estimated")
        for (start, speaker, said), end in zip(found, ends, strict=True)
        if said
    ]
    passages = list(passages_over_speech(passages, ()))
    return Script(bare_transcript(passages), notes=tuple(notes))


def plain_paragraphs(text: str) -> Iterator[str]:
    """The lines of a plain text that hold something."""
    return (line.strip() for line in text.split("\n") if line.strip())


def _spoken(passage: Passage) -> str:
    text = " ".join(passage.text.split())
    if passage.speaker is not None:
        return f"{passage.speaker}: {text}"
    return text


def _clock(seconds: float, has_hours: bool) -> str:
    minutes, secs = divmod(int(seconds), 60)
    if not has_hours:
        return f"{minutes:02d}:{secs:02d}"
    return f"{minutes // 60:02d}:{minutes % 60:02d}:{secs:02d}"


def _escaped(text: str | None) -> str:
    flat = " ".join((text or "").split())
    # And what means something at the beginning only: `1.` and `-`.
    escaped = _MARKS.sub(r"\\\1", flat)
    return re.sub(r"^(\d+)\.(?=\s)", r"\1\\.", re.sub(r"^([+-])(?=\s)", r"\\\1", escaped))


def _unescaped(text: str) -> str:
    return _UNMARKED.sub(r"\1", text)
