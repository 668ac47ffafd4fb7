"""The sound of the service's review pages: decoded once for each recording, and played by browsers."""

import shutil
import threading
from collections import OrderedDict
from dataclasses import dataclass, field, replace
from pathlib import Path

from mantisreed.files import make_folder, write_whole
from mantisreed.pipeline.reviewing import sound_for_page
from mantisreed.review.page import Sound

_REMEMBERED = 50  # recordings; what is seen of an hour takes 180 kB

_Key = tuple[str, int, int]


@dataclass(slots=True)
class Playing:
    """What browsers play of the recordings of jobs.

    Attributes:
        folder: of copies of what browsers do not play as it is, as AIFF or a film; they go with the service.
    """

    folder: Path
    _known: "OrderedDict[_Key, tuple[Sound, Path]]" = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def clear(self) -> None:
        """Forget all copies."""
        shutil.rmtree(self.folder, ignore_errors=True)

    def forget(self, job: str) -> None:
        """Forget what is played of a job."""
        (self.folder / f"{job}.webm").unlink(missing_ok=True)

    def of(self, job: str, recording: Path) -> tuple[Sound, Path]:
        """The sound of a job's recording as the page needs it, without content; and the file that is played.

        Raises:
            RecordingError: it cannot be read as sound.
            OutputError: a copy cannot be written.
        """
        state = recording.stat()
        key = (job, state.st_size, state.st_mtime_ns)
        # One page after the other: decoding takes all that there is, and several windows often open the same one.
        with self._lock:
            if key not in self._known:
                self._known[key] = self._decoded(job, recording)
                while len(self._known) > _REMEMBERED:
                    self._known.popitem(last=False)
            self._known.move_to_end(key)
            return self._known[key]

    def _decoded(self, job: str, recording: Path) -> tuple[Sound, Path]:
        sound = sound_for_page(recording, "where needed")
        if sound.content is None:
            return sound, recording
        make_folder(self.folder)
        copy = self.folder / f"{job}.webm"
        write_whole(copy, sound.content)
        return replace(sound, content=None), copy
