"""`mantisreed sync`: subtitles laid on their recording again."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.cli.targets import check_target
from mantisreed.errors import InputError
from mantisreed.exports.formats import format_of
from mantisreed.exports.script import Script
from mantisreed.files import printable, write_whole
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.sync import Synced, by_cues, by_speech, by_two_points
from mantisreed.units import clock, count_of, duration_given
from mantisreed.workbench.exporting import ReadOptions, read_script, speech_of


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `sync` is asked for; its arguments tell the same."""

    source: str
    target: str
    recording: str | None = None
    like: str | None = None
    first: str | None = None
    last: str | None = None
    encoding: str | None = None
    as_json: bool = False
    overwrite: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Read, move, write; say how the cues were moved and how well they fit."""
    _check_ways(asked.recording, asked.like, asked.first, asked.last)
    form = format_of(Path(asked.target))
    check_target(Path(asked.target), [Path(asked.source)], form, overwrite=asked.overwrite)
    script = read_script(Path(asked.source), ReadOptions(encoding=asked.encoding))
    cues = _cues_of(script, asked.source)
    synced: Synced | None = None
    if asked.first is not None and asked.last is not None:
        moved: Sequence[Cue] = by_two_points(
            cues,
            duration_given(asked.first, "--first") or 0.0,
            duration_given(asked.last, "--last") or 0.0,
        )
    else:
        if asked.recording is not None:
            synced = by_speech(cues, speech_of(Path(asked.recording))[0])
        else:
            synced = by_cues(cues, _cues_of(read_script(Path(asked.like or "")), asked.like or ""))
        moved = synced.cues
    for note in script.notes:
        console.note(f"note: {printable(asked.source)}: {note}")
    # By their new times, as they may have changed places.
    anew = replace(
        script,
        cues=tuple(sorted(moved, key=lambda cue: (cue.start, cue.end))),
        transcript=None,
    )
    write_whole(Path(asked.target), form.write(anew, None, Path(asked.source).stem))
    if asked.as_json:
        console.document(_described(asked.target, moved, synced))
    else:
        for line in _told(asked.target, cues, moved, synced):
            console.result(line)
    return 0


def _check_ways(
    recording: str | None, like: str | None, first: str | None, last: str | None
) -> None:
    """See that one way is named.

    Raises:
        InputError: none is, or several are.
    """
    if (first is None) != (last is None):
        raise InputError(
            "--first and --last go together",
            advice="say when the first and the last cue begin",
        )
    ways = [recording is not None, like is not None, first is not None]
    if sum(ways) != 1:
        raise InputError(
            "how to lay the cues is not said"
            if not any(ways)
            else "only one way to lay the cues can be used",
            advice="use --recording FILE, --like FILE, or --first TIME --last TIME",
        )


def _cues_of(script: Script, name: str) -> Sequence[Cue]:
    """The cues of a file of subtitles.

    Raises:
        InputError: it has none.
    """
    if not script.cues:
        raise InputError(
            "there are no cues in it",
            where=printable(name),
            advice="`mantisreed convert` makes some",
        )
    return script.cues


def _told(
    target: str, cues: Sequence[Cue], moved: Sequence[Cue], synced: Synced | None
) -> list[str]:
    """How the cues were moved, for people."""
    count = count_of(len(moved), "cue")
    if synced is None:
        begins = (
            f"the first begins at {clock(moved[0].start)}, the last at {clock(moved[-1].start)}"
        )
        return [f"{printable(target)}: {count}; {begins}"]
    lines = []
    for stretch in synced.stretches:
        span = (
            f"{clock(synced.cues[stretch.first].start)} to "
            f"{clock(synced.cues[stretch.last - 1].end)}"
        )
        lines.append(f"  {span}: x {stretch.factor:.5f} {stretch.offset:+.3f} s")
    fit = (
        f"{synced.fit_before:.0%} of the cues began with speech, and {synced.fit_after:.0%} do now"
    )
    if synced.rate == "1":
        rate = ""
    else:
        rate = f"rate corrected by {synced.rate}; "
    return [f"{printable(target)}: {count}; {rate}{fit}", *lines]


def _described(target: str, moved: Sequence[Cue], synced: Synced | None) -> dict[str, Any]:
    described: dict[str, Any] = {"file": printable(target), "cues": len(moved)}
    if synced is not None:
        described |= {
            "rate": synced.rate,
            "fit_before": round(synced.fit_before, 3),
            "fit_after": round(synced.fit_after, 3),
            "stretches": [
                {
                    "first_cue": stretch.first + 1,
                    "last_cue": stretch.last,
                    "factor": round(stretch.factor, 6),
                    "offset_seconds": round(stretch.offset, 3),
                }
                for stretch in synced.stretches
            ],
        }
    return described
