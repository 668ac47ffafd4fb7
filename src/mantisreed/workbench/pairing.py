"""Whether a transcript and a recording, or two transcripts, belong together."""

from collections.abc import Sequence
from pathlib import Path

from mantisreed.audio.containers import probe
from mantisreed.audio.decode import SAMPLE_RATE, decode
from mantisreed.errors import InputError
from mantisreed.files import file_digest, printable
from mantisreed.transcript.document import Transcript
from mantisreed.units import short_duration

# Two copies of one recording, in other formats, differ in length by what encoders add at the ends.
_SLACK_SHARE = 0.02
_SLACK_SECONDS = 1.0  # by which two files of one recording may differ in length


def check_same_recording(
    transcript: Transcript, recording: Path, duration: float | None = None
) -> tuple[str, ...]:
    """See that a recording is the one that was transcribed, or a copy of it in another format.

    A transcript of ours names its recording by the digest of its bytes. Where that differs, the
    lengths decide. Subtitles name no recording: it must only be long enough for them.

    Args:
        transcript: with or without a digest.
        recording: a file.
        duration: seconds of it, if somebody has decoded it; None finds out.

    Returns:
        What the user should be told.

    Raises:
        RecordingError: the recording cannot be read.
        InputError: it is another recording.
    """
    facts = transcript.recording
    if facts.digest and facts.digest == file_digest(recording):
        return ()
    if duration is None:
        lasts = _length_of(recording, facts.track_number)
    else:
        lasts = duration
    if facts.digest:
        is_other = abs(lasts - facts.duration) > _slack(facts.duration)
        expected = facts.duration
    else:
        # Subtitles alone do not say how long the recording is, but not shorter than their last
        # words.
        expected = max((passage.end for passage in transcript.passages), default=0.0)
        is_other = lasts < expected - _slack(expected)
    if is_other:
        raise InputError(
            f"it lasts {short_duration(lasts)}, and the transcript {short_duration(expected)}",
            where=printable(recording),
            advice="name the recording that was transcribed, or a copy of it",
        )
    if not facts.digest:
        return ()
    return (f"{printable(recording)} is not the file that was transcribed, but it is as long",)


def check_same_recordings(transcripts: Sequence[tuple[str, Transcript]]) -> tuple[str, ...]:
    """See that transcripts are of one recording, as far as they name theirs.

    Args:
        transcripts: each with the name of its file.

    Returns:
        What the user should be told.

    Raises:
        InputError: two of them are of recordings of different lengths.
    """
    known = [(name, one.recording) for name, one in transcripts if one.recording.digest]
    told = []
    for name, facts in known[1:]:
        first_name, first = known[0]
        if facts.digest == first.digest:
            continue
        if abs(facts.duration - first.duration) > _slack(first.duration):
            raise InputError(
                f"it is of another recording than {first_name}: {facts.name}, "
                f"{short_duration(facts.duration)}, and {first.name}, "
                f"{short_duration(first.duration)}",
                where=name,
                advice="name transcripts of one recording",
            )
        told.append(
            f"{name} and {first_name} are of different files, {facts.name} and {first.name}, as "
            "long"
        )
    return tuple(told)


def _slack(seconds: float) -> float:
    return max(_SLACK_SECONDS, _SLACK_SHARE * seconds)


def _length_of(recording: Path, track: int | None) -> float:
    contents = probe(recording)
    if contents.duration is not None:
        return contents.duration
    samples: int = sum(block.shape[1] for block in decode(recording, track=track))
    return samples / SAMPLE_RATE
