"""Which of several tracks of sound is taken when nobody names one."""

from collections.abc import Callable, Iterable

from mantisreed.audio.containers import Contents, Track
from mantisreed.audio.decode import IntSamples
from mantisreed.audio.speech import SpeechListener

OpenTrack = Callable[[int], Iterable[IntSamples]]
"""Opens the track with this number, mixed to one channel at `SAMPLE_RATE`."""


def track_to_take(contents: Contents, open_track: OpenTrack) -> Track:
    """The default track, or the first other one with speech where nobody speaks on that one.

    Cameras and conference systems write tracks that nobody used. The default track is decoded up
    to its first words only, so that this costs next to nothing where it is the right one.

    Raises:
        RecordingError: a track cannot be decoded.
    """
    default = contents.chosen(None)
    if len(contents.tracks) == 1:
        return default
    others = [track for track in contents.tracks if track is not default]
    for track in (default, *others):
        if _has_speech(open_track(track.number)):
            return track
    return default


def why_taken(taken: Track, default: Track) -> str:
    """What to tell the user when another track than the default one was taken."""
    language = f", {taken.language}" if taken.language else ""
    return (
        f"nobody speaks on track {default.number}: track {taken.number} "
        f"({taken.codec}{language}) was taken; --track takes another one"
    )


def _has_speech(blocks: Iterable[IntSamples]) -> bool:
    listener = SpeechListener()
    for block in blocks:
        if listener.hear(block[0]):
            return True
    return bool(listener.finish())
