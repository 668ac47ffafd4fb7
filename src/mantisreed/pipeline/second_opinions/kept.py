"""Second opinions as they are kept: a file for each job, so that its outputs can be written
again.
"""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from mantisreed.files import write_whole
from mantisreed.folders import read, remove
from mantisreed.review.opinions import Clip, with_second_opinion
from mantisreed.state import make_folder
from mantisreed.transcript.document import Transcript

_FOLDER = "opinions"

Span = tuple[float, float]


class Opinion(msgspec.Struct, frozen=True):
    """What a second engine said.

    Attributes:
        clips: the stretches that it was given, (start, end) in seconds.
        second: what it heard in them, with the recording's times.
    """

    clips: tuple[Span, ...]
    second: Transcript


def folder_of_opinions(hidden: Path) -> Path:
    """Where they are, in a workspace's hidden folder."""
    return hidden / _FOLDER


def keep_opinion(hidden: Path, job: str, opinion: Opinion) -> None:
    """Keep what was said about a job's transcript, instead of what was before.

    Raises:
        OutputError: it cannot be written.
    """
    folder = folder_of_opinions(hidden)
    make_folder(folder)
    write_whole(folder / f"{job}.json", msgspec.json.encode(opinion))


def kept_opinion(hidden: Path, job: str) -> Opinion | None:
    """What was said about a job's transcript; None where nobody was asked, or it cannot be read."""
    try:
        return msgspec.json.decode(read(folder_of_opinions(hidden) / f"{job}.json"), type=Opinion)
    except (OSError, msgspec.MsgspecError):
        return None


def forget_opinion(hidden: Path, job: str) -> None:
    """Remove what was said about a job's transcript, and what the second engine wrote."""
    folder = folder_of_opinions(hidden)
    for file in (folder / f"{job}.json", *folder.glob(f"{job}-*.json")):
        remove(file)


def with_kept_opinion(
    hidden: Path, transcript: Transcript, speech: Sequence[Span] | None
) -> Transcript:
    """The transcript of a job with the second opinion that is kept; without, as it is."""
    opinion = kept_opinion(hidden, transcript.job)
    if opinion is None:
        return transcript
    return with_opinion(transcript, opinion, speech)


def with_opinion(
    transcript: Transcript, opinion: Opinion, speech: Sequence[Span] | None
) -> Transcript:
    """The transcript with the better readings of a second opinion."""
    doubts = transcript.doubts_worth_hearing
    clips = [
        Clip(
            start, end, tuple(doubt for doubt in doubts if doubt.start < end and doubt.end > start)
        )
        for start, end in opinion.clips
    ]
    return with_second_opinion(transcript, clips, opinion.second, speech)
