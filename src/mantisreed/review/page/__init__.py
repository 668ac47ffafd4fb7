"""The review page: one file that plays a recording beside its text, in which the text is corrected.

The page's own HTML, CSS and JavaScript lie beside this module, as they are; here they are put
together with the transcript, an outline of the sound, and the sound itself.
"""

import base64
import hashlib
import html
import json
from collections import defaultdict, deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, groupby

import msgspec
import numpy as np
from numpy.typing import NDArray

from mantisreed.audio.speech import pauses_and_speech
from mantisreed.exports.pages import filled, part_of, style_of
from mantisreed.exports.readings import other_readings
from mantisreed.exports.script import Script
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import WORTH_HEARING, Passage, Transcript, to_json
from mantisreed.transcript.estimate import passages_over_speech
from mantisreed.transcript.writing import excerpt, is_right_to_left

_SCRIPTS = ("review.js", "unsaved.js", "begin.js")

NOTE = "reviewed and corrected by hand"
"""What a transcript that was saved by the page says of itself."""

Row = tuple[int, int, int, float, float, str]
"""A cue: the number of its passage, its words [first, last) there, its start and end in seconds,
and its text.
"""


@dataclass(frozen=True, slots=True)
class Sound:
    """What the page knows of the recording.

    Attributes:
        duration: seconds.
        speech: where somebody speaks, (start, end) in seconds.
        peaks: the highest level in each step of time, 0 to 255.
        peaks_per_second: how many steps are in a second.
        content: a file that browsers play, to be put into the page; None leaves it out.
        media_type: of it.
        url: where it is played from instead; None where it is in the page, or is chosen by whoever
            reads it.
    """

    duration: float
    speech: tuple[tuple[float, float], ...]
    peaks: NDArray[np.uint8]
    peaks_per_second: int
    content: bytes | None = None
    media_type: str = ""
    url: str | None = None


@dataclass(frozen=True, slots=True)
class Saving:
    """Where a page saves to.

    Attributes:
        url: a corrected transcript is PUT there.
        version: of the transcript that the page begins from, as that place tells versions apart.
    """

    url: str
    version: str


def review_page(
    transcript: Transcript,
    sound: Sound,
    rules: LayoutRules,
    *,
    stem: str,
    saving: Saving | None = None,
) -> str:
    """The whole page.

    Args:
        transcript: with its doubts.
        sound: of its recording.
        rules: by which its cues are laid out.
        stem: of the files that it saves.
        saving: where it saves to besides; None lets it only download.
    """
    language = transcript.language
    passages = tuple(passages_over_speech(transcript.passages, sound.speech))
    timed = msgspec.structs.replace(transcript, passages=passages)
    sample = "".join(passage.text for passage in passages[:20])
    own = rules.for_language(language, sample)
    data = {
        "transcript": json.loads(to_json(timed)),
        "rows": list(rows_of(timed, rules)),
        "rules": {"max_cps": own.speed, "line_length": own.line_length, "lines": own.lines},
        "readings": list(map(other_readings, passages)),
        "worth": WORTH_HEARING,
        "note": NOTE,
        "direction": "rtl" if is_right_to_left(sample, language) else "ltr",
        "stem": stem,
        "duration": round(max(sound.duration, 0.1), 3),
        "pauses_and_speech": pauses_and_speech(sound.speech),
        "peaks": base64.b64encode(sound.peaks.tobytes()).decode(),
        "peaks_per_second": sound.peaks_per_second,
        "sound_type": sound.media_type,
        "sound_url": sound.url,
        "save_url": saving and saving.url,
        "version": saving.version if saving else _version_of(transcript),
    }
    # What stands in a script element ends at the first `</`, and at nothing else.
    encoded = (
        msgspec.json.encode(data).decode().replace("<", "\\u003c").replace("\u2028", "\\u2028")
    )
    title = html.escape(" ".join(f"{stem}: review".split()))
    parts = (
        ("title", title),
        ("style", style_of(__name__, "review.css")),
        ("title", title),
        ("data", encoded),
        ("sound", base64.b64encode(sound.content or b"").decode()),
        ("script", "".join(part_of(__name__, name) for name in _SCRIPTS)),
    )
    return filled(part_of(__name__, "review.html"), parts)


def _version_of(transcript: Transcript) -> str:
    """Tells transcripts apart, for corrections that were not saved."""
    return hashlib.sha256(to_json(transcript)).hexdigest()[:32]


def rows_of(transcript: Transcript, rules: LayoutRules) -> Iterator[Row]:
    """The cues of a transcript whose passages have words, each pointing to its words.

    A cue that holds the ends of two passages is two rows, since each passage has a speaker of its
    own.
    """
    places: dict[tuple[str, float, float], deque[tuple[int, int]]] = defaultdict(deque)
    for number, passage in enumerate(transcript.passages):
        for at, word in enumerate(passage.words):
            places[word.text, word.start, word.end].append((number, at))
    rows: list[Row] = []
    for cue in Script(transcript).laid_out(
        rules.changed({"speakers": "none"}), mark_speakers=False
    ):
        found = [places[word.text, word.start, word.end] for word in cue.words]
        rows += _rows_of_cue(cue, [own.popleft() for own in found if own], transcript.passages)
    # What the layout leaves out, such as sounds where they are dropped, is not lost.
    left = sorted(chain.from_iterable(places.values()))
    rows += [_row(transcript.passages, number, at, at + 1) for number, at in left]
    yield from sorted(rows, key=lambda row: (row[3], row[0], row[1]))


def _rows_of_cue(
    cue: Cue, places: Sequence[tuple[int, int]], passages: Sequence[Passage]
) -> Iterator[Row]:
    runs = [
        list(own)
        for _, own in groupby(enumerate(places), key=lambda one: (one[1][0], one[1][1] - one[0]))
    ]
    for run in runs:
        (_, (number, first)), (_, (_, last)) = run[0], run[-1]
        if len(runs) == 1:
            yield (
                number,
                first,
                last + 1,
                round(cue.start, 3),
                round(cue.end, 3),
                "\n".join(cue.lines),
            )
        else:
            yield _row(passages, number, first, last + 1)


def _row(passages: Sequence[Passage], number: int, first: int, last: int) -> Row:
    passage = passages[number]
    text = excerpt(passage.text, [word.text for word in passage.words], first, last)
    words = passage.words[first:last]
    return number, first, last, words[0].start, max(word.end for word in words), text
