"""Changing a script: moving and stretching its times, cutting a part out, joining several."""

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import chain
from typing import Any

import msgspec

from mantisreed.exports.script import Script
from mantisreed.subtitles.cues import Cue, moved_cue, moved_word
from mantisreed.transcript.document import Passage, Transcript, speakers_of
from mantisreed.transcript.writing import excerpt


def retimed(script: Script, move: Callable[[float], float]) -> Script:
    """The same at other times. What would lie before the beginning is cut off at it, or left
    out.
    """

    def passage(one: Passage) -> Passage:
        # What begins before the beginning begins with it; only what ends before is lost.
        start, end = max(0.0, move(one.start)), max(0.0, move(one.end))
        words = tuple(moved_word(each, move) for each in one.words)
        return msgspec.structs.replace(one, start=start, end=end, words=words)

    def marked(one: Any) -> Any:
        return msgspec.structs.replace(
            one, start=max(0.0, move(one.start)), end=max(0.0, move(one.end))
        )

    # Cues where there are any: passages are made of them, and would count twice.
    lost = sum(move(one.end) <= 0 for one in script.cues or script.passages)
    notes: tuple[str, ...] = ()
    if lost:
        notes = (f"{lost} would end before the beginning and were left out",)
    return _changed(
        script,
        lambda passages: tuple(passage(one) for one in passages if move(one.end) > 0),
        lambda cues: tuple(moved_cue(one, move) for one in cues if move(one.end) > 0),
        lambda marks: tuple(marked(one) for one in marks if move(one.end) > 0),
        notes,
    )


def part(script: Script, start: float = 0.0, end: float = math.inf) -> Script:
    """What lies between two moments; times stay. Passages are cut at their words, cues that reach
    in shortened.
    """

    def passage(one: Passage) -> Passage | None:
        if start <= one.start and one.end <= end:
            return one
        # A word that the moment cuts is in neither part.
        inside = [
            at for at, word in enumerate(one.words) if word.start >= start and word.end <= end
        ]
        if not inside:
            return None
        first, last = inside[0], inside[-1] + 1
        words = one.words[first:last]
        text = excerpt(one.text, [word.text for word in one.words], first, last)
        return msgspec.structs.replace(
            one, start=words[0].start, end=words[-1].end, text=text, words=words
        )

    return _changed(
        script,
        lambda passages: tuple(kept for one in passages if (kept := passage(one)) is not None),
        lambda cues: tuple(
            replace(one, start=max(start, one.start), end=min(end, one.end))
            for one in cues
            if one.end > start and one.start < end
        ),
        lambda marks: tuple(one for one in marks if one.end > start and one.start < end),
    )


def one_after_the_other(scripts: Sequence[Script]) -> list[float]:
    """Where each script begins if it does where the recording of the one before ends, or its last
    words.
    """
    starts = [0.0]
    for script in scripts[:-1]:
        # A recording is longer than what was said in it; of subtitles alone nobody knows.
        ends = [one.end for one in script.cues or script.passages]
        if script.transcript is not None:
            ends.append(script.transcript.recording.duration)
        starts.append(round(starts[-1] + max(ends, default=0.0), 3))
    return starts


def joined_scripts(scripts: Sequence[Script], offsets: Sequence[float]) -> Script:
    """Several at these times, as cues if all of them are."""
    moved = [
        retimed(script, lambda seconds, by=offset: seconds + by)  # type: ignore[misc]
        for script, offset in zip(scripts, offsets, strict=True)
    ]
    notes = tuple(dict.fromkeys(chain.from_iterable(script.notes for script in moved)))
    language = next((script.tongue for script in moved if script.tongue), None)
    # Cues stay as they were broken; with a transcript among them all are laid out anew.
    if all(script.cues is not None for script in moved):
        cues = chain.from_iterable(script.cues or () for script in moved)
        in_order = sorted(cues, key=lambda cue: (cue.start, cue.end))
        # Style sheets and regions of all, each once, as cues still name them.
        heads = tuple(dict.fromkeys(chain.from_iterable(script.head for script in moved)))
        return Script(cues=tuple(in_order), notes=notes, language=language, head=heads)
    return Script(_joined_transcript(moved), notes=notes, language=language)


def _joined_transcript(moved: Sequence[Script]) -> Transcript:
    passages = sorted(
        chain.from_iterable(script.passages for script in moved),
        key=lambda one: (one.start, one.end),
    )
    first = moved[0].as_transcript("")
    facts = msgspec.structs.replace(
        first.recording, duration=max((one.end for one in passages), default=0.0)
    )
    transcripts = [script.transcript for script in moved if script.transcript is not None]
    return msgspec.structs.replace(
        first,
        recording=facts,
        passages=tuple(passages),
        speakers=speakers_of(passages),
        doubts=tuple(chain.from_iterable(one.doubts for one in transcripts)),
        replacements=tuple(chain.from_iterable(one.replacements for one in transcripts)),
    )


def _changed(
    script: Script,
    passages: Callable[[tuple[Passage, ...]], tuple[Passage, ...]],
    cues: Callable[[tuple[Cue, ...]], tuple[Cue, ...]],
    marks: Callable[[tuple[Any, ...]], tuple[Any, ...]],
    notes: tuple[str, ...] = (),
) -> Script:
    """The script with changed passages, cues, and marks of stretches: sounds, doubts and
    replacements.
    """
    transcript: Transcript | None = script.transcript
    if transcript is not None:
        transcript = msgspec.structs.replace(
            transcript,
            passages=passages(transcript.passages),
            events=marks(transcript.events),
            doubts=marks(transcript.doubts),
            replacements=marks(transcript.replacements),
        )
    if script.cues is None:
        changed = None
    else:
        changed = cues(script.cues)
    return replace(script, transcript=transcript, cues=changed, notes=(*script.notes, *notes))
