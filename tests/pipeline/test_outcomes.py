"""What is kept of how a recording ended."""

import gc
from pathlib import Path

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.request import Piece
from mantisreed.errors import EngineBrokeError, UnreachableError
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.recordings import Source


def sent(sound: bytes) -> None:
    """Fail as a client does, one error out of another, with a piece in each frame."""
    piece = Piece(sound, FORMATS["wav"], 16_000, 1, 10.0)
    try:
        if piece.audio:
            raise TimeoutError
    except TimeoutError as error:
        raise UnreachableError("nobody answered", engine="brook") from error


def sent_again(sound: bytes) -> None:
    piece = Piece(sound, FORMATS["wav"], 16_000, 1, 10.0)
    try:
        sent(piece.audio)
    except UnreachableError as error:
        raise EngineBrokeError("it broke twice", engine="brook") from error


def failed(sound: bytes) -> Outcome:
    try:
        sent_again(sound)
    except EngineBrokeError as error:
        return Outcome(Source(Path("note.wav")), "failed", error=error)
    raise AssertionError("it did not fail")


def test_a_failure_that_is_kept_does_not_keep_the_sound() -> None:
    sound = b"the only sound of these bytes"
    outcome = failed(sound)
    gc.collect()
    alive = [one for one in gc.get_objects() if isinstance(one, Piece) and one.audio == sound]
    assert alive == []
    assert "it broke twice" in str(outcome.error)
    assert outcome.error is not None and "nobody answered" in str(outcome.error.__cause__)
