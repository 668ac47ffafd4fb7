"""`mantisreed inspect`: what a recording is like, and what to do about it; sends nothing."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.audio.examine import Channel, Examination
from mantisreed.cli.console import Console, described_error
from mantisreed.errors import InputError
from mantisreed.pipeline.options_given import selection
from mantisreed.sources.finding import find_recordings
from mantisreed.units import short_duration
from mantisreed.workbench.inspection import Inspected, inspect_recordings


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `inspect` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    track: int | None = None
    plot: str | None = None
    as_json: bool = False
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """Listen to everything and show it. 0 when every recording could be read, else 1."""
    recordings = find_recordings(
        asked.sources,
        selection(asked.options),
        on_note=lambda note: console.notes([note]),
    )
    if asked.plot and len(recordings) > 1:
        raise InputError(
            f"one picture shows one recording, and these are {len(recordings)}",
            where="--plot",
            advice="name one",
        )
    found = inspect_recordings(recordings, track=asked.track)
    if asked.plot and found[0].examination:
        from mantisreed.exports.plots import draw_examination

        draw_examination(Path(asked.plot), found[0].recording.name, found[0].examination)
    if asked.as_json:
        console.document({"recordings": list(map(_described, found))})
    for number, one in enumerate(found):
        if one.examination and not asked.as_json:
            console.result(
                ("\n" if number else "") + "\n".join(_lines(one.recording.label, one.examination))
            )
        if one.error:
            console.problem(one.error, one.recording.label)
    if asked.plot and found[0].examination:
        console.note(f"drawn in {asked.plot}")
    if any(one.error for one in found):
        return 1
    return 0


def _lines(name: str, found: Examination) -> list[str]:
    noise = "none: digital silence"
    if found.noise is not None:
        noise = f"{found.noise:.1f} dBFS"
    # Without speech or without noise there is no distance between them.
    if found.snr is not None:
        noise += f", speech {found.snr:.0f} dB over it"
    share = 0.0
    if found.duration:
        share = found.speech_seconds / found.duration
    rate = (found.bit_rate or 0) / 1000
    rows = [
        ("length", short_duration(found.duration)),
        ("format", _format_text(name, found)),
        ("sound", f"{found.track.sample_rate} Hz, {_channels(found)}, {rate:.0f} kbit/s"),
        ("loudness", "silence" if found.loudness is None else f"{found.loudness:.1f} LUFS"),
        ("peak", f"{_level(found.peak)}, {found.clipped or 'no'} clipped samples"),
        ("noise", noise),
        ("speech", f"{share:.0%} of it, longest silence {short_duration(found.longest_silence)}"),
    ]
    if len(found.channels) > 1:
        rows += [(f"channel {one.number}", _channel_text(one)) for one in found.channels]
    if found.advice:
        rows += [("advice", found.advice[0]), *(("", text) for text in found.advice[1:])]
    return [name, *(f"  {label:10}{text}" for label, text in rows)]


def _format_text(name: str, found: Examination) -> str:
    contents, track = found.contents, found.track
    # One reader takes several kinds of file; the name tells which one this is.
    suffix = name.rpartition(".")[2].lower()
    names = contents.container.split(",")
    text = f"{track.codec} in {suffix if suffix in names else names[0]}"
    if len(contents.tracks) > 1:
        text += f", track {track.number} of {len(contents.tracks)}"
    if contents.has_video:
        text += " beside video"
    return text


def _channel_text(channel: Channel) -> str:
    if channel.is_empty:
        return "empty"
    spoken = sum(stretch.end - stretch.start for stretch in channel.speech)
    return f"peak {_level(channel.peak)}, {short_duration(spoken)} of speech"


def _channels(found: Examination) -> str:
    count = len(found.channels)
    return {1: "mono", 2: "stereo"}.get(count, f"{count} channels") + (
        ", all the same" if found.same_channels else ""
    )


def _level(peak: float | None) -> str:
    if peak is None:
        return "all zero"
    return f"{peak:.1f} dBFS"


def _described(inspected: Inspected) -> dict[str, Any]:
    """One recording of `--json`; times in seconds, levels in dBFS and LUFS."""
    name, found = inspected.recording.label, inspected.examination
    if inspected.error:
        return {"name": name, "error": described_error(inspected.error)}
    assert found is not None
    return {
        "name": name,
        "duration": round(found.duration, 3),
        "container": found.contents.container,
        "has_video": found.contents.has_video,
        "track": found.track.number,
        "tracks": [
            {
                "number": track.number,
                "codec": track.codec,
                "sample_rate": track.sample_rate,
                "channels": track.channels,
                "language": track.language,
            }
            for track in found.contents.tracks
        ],
        "bit_rate": found.bit_rate,
        "loudness": _rounded(found.loudness),
        "peak": _rounded(found.peak),
        "clipped": found.clipped,
        "noise": _rounded(found.noise),
        "snr": _rounded(found.snr),
        "speech": round(found.speech_seconds, 3),
        "longest_silence": round(found.longest_silence, 3),
        "same_channels": found.same_channels,
        "channels": [
            {
                "number": channel.number,
                "peak": _rounded(channel.peak),
                "is_empty": channel.is_empty,
                "speech": [
                    [round(stretch.start, 3), round(stretch.end, 3)] for stretch in channel.speech
                ],
            }
            for channel in found.channels
        ],
        "advice": found.advice,
    }


def _rounded(value: float | None) -> float | None:
    if value is None:
        return None
    return round(value, 2)
