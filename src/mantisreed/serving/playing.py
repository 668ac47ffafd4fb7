"""The sound of the service's review pages: decoded once for each recording, and played by
browsers.
"""

import asyncio
from collections import OrderedDict
from dataclasses import dataclass, field, replace
from pathlib import Path

from mantisreed.files import write_whole
from mantisreed.folders import forget
from mantisreed.review.page import Sound
from mantisreed.state import make_folder
from mantisreed.workbench.reviewing import sound_for_page

_REMEMBERED = 50  # recordings; what is seen of an hour takes 180 kB

_Key = tuple[str, int, int]


@dataclass(slots=True)
class Playing:
    """What browsers play of the recordings of jobs.

    Attributes:
        folder: of copies of what browsers do not play as it is, as AIFF or a film; they go with the
            service.
    """

    folder: Path
    _known: "OrderedDict[_Key, tuple[Sound, Path]]" = field(default_factory=OrderedDict)
    _decoding: asyncio.Lock = field(default_factory=asyncio.Lock)

    def clear(self) -> None:
        """Forget all copies."""
        forget(self.folder)

    def forget(self, job: str) -> None:
        """Forget what is played of a job."""
        forget(self.folder / f"{job}.webm")

    async def of(self, job: str, recording: Path, track: int | None) -> tuple[Sound, Path]:
        """The sound of a job's recording as the page needs it, without content; and the file that
        is played.

        Raises:
            RecordingError: it cannot be read as sound.
            OutputError: a copy cannot be written.
        """
        state = recording.stat()
        key = (job, state.st_size, state.st_mtime_ns)
        if key not in self._known:
            # One after the other, as decoding takes all that there is; who waits for it holds no
            # thread, and who wants what is known does not wait.
            async with self._decoding:
                if key not in self._known:
                    self._known[key] = await asyncio.to_thread(self._decoded, job, recording, track)
                    while len(self._known) > _REMEMBERED:
                        self._known.popitem(last=False)
        found = self._known[key]
        self._known.move_to_end(key)
        return found

    def _decoded(self, job: str, recording: Path, track: int | None) -> tuple[Sound, Path]:
        sound = sound_for_page(recording, "where needed", track=track)
        if sound.content is None:
            return sound, recording
        make_folder(self.folder)
        copy = self.folder / f"{job}.webm"
        write_whole(copy, sound.content)
        return replace(sound, content=None), copy
