"""`mantisreed inspect`: what a recording is like, and what to do about it; sends nothing."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mantisreed.audio.examine import Examination
from mantisreed.cli.console import Console, described_error
from mantisreed.errors import InputError
from mantisreed.pipeline.inspection import Inspected, inspect_recordings
from mantisreed.pipeline.options_given import selection
from mantisreed.sources.finding import find_recordings
from mantisreed.units import short_duration


def run(
    console: Console,
    *,
    sources: Sequence[str],
    track: int | None = None,
    plot: str | None = None,
    as_json: bool = False,
    **given: Any,
) -> int:
    """Listen to everything and show it. 0 when every recording could be read, else 1."""
    recordings = find_recordings(
        sources,
        selection(given),
        on_note=lambda note: console.notes([note]),
    )
    if plot and len(recordings) > 1:
        raise InputError(
            f"one picture shows one recording, and these are {len(recordings)}",
            where="--plot",
            advice="name one",
        )
    found = inspect_recordings(recordings, track=track)
    if plot and found[0].examination:
        from mantisreed.exports.plots import draw_examination

        draw_examination(Path(plot), found[0].recording.name, found[0].examination)
    if as_json:
        console.document({"recordings": [_described(one) for one in found]})
    for number, one in enumerate(found):
        if one.examination and not as_json:
            console.result(
                ("\n" if number else "") + "\n".join(_lines(one.recording.label, one.examination))
            )
        if one.error:
            console.problem(one.error, one.recording.label)
    if plot and found[0].examination:
        console.note(f"drawn in {plot}")
    if any(one.error for one in found):
        return 1
    return 0


def _lines(name: str, found: Examination) -> list[str]:

    contents, track = found.contents, found.track
    # One reader takes several kinds of file; the name tells which one this is.
    suffix = name.rpartition(".")[2].lower()
    names = contents.container.split(",")
    if suffix in names:
        container = suffix
    else:
        container = names[0]
    if found.duration:
        share = found.speech_seconds / found.duration
    else:
        share = 0.0
    if len(contents.tracks) == 1:
        tracks = ""
    else:
        tracks = f", track {track.number} of {len(contents.tracks)}"
    if found.noise is None:
        noise = "none: digital silence"
    else:
        noise = f"{found.noise:.1f} dBFS"
    if found.snr is None:
        clean = ""
    else:
        clean = f", speech {found.snr:.0f} dB over it"
    rows = [
        ("length", short_duration(found.duration)),
        (
            "format",
            f"{track.codec} in {container}{tracks}{' beside video' if contents.has_video else ''}",
        ),
        (
            "sound",
            f"{track.sample_rate} Hz, {_channels(found)}, {(found.bit_rate or 0) / 1000:.0f} "
            "kbit/s",
        ),
        ("loudness", "silence" if found.loudness is None else f"{found.loudness:.1f} LUFS"),
        ("peak", f"{_level(found.peak)}, {found.clipped or 'no'} clipped samples"),
        ("noise", noise + clean),
        ("speech", f"{share:.0%} of it, longest silence {short_duration(found.longest_silence)}"),
    ]
    lines = [name, *(f"  {label:10}{text}" for label, text in rows)]
    if len(found.channels) > 1:
        for channel in found.channels:
            spoken = sum(stretch.end - stretch.start for stretch in channel.speech)
            if channel.is_empty:
                state = "empty"
            else:
                state = f"peak {_level(channel.peak)}, {short_duration(spoken)} of speech"
            lines.append(f"  {'channel ' + str(channel.number):10}{state}")
    return [
        *lines,
        *(f"  {'advice' if not n else '':10}{text}" for n, text in enumerate(found.advice)),
    ]


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
