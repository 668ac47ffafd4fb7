"""`stilt`: a recogniser that is a Python object, found by its entry point."""

from functools import cached_property
from typing import Any

from mantisreed.standin.bank import load_bank
from mantisreed.standin.hearing import Listener


class Stilt:
    """Hears the bundled phrase bank. What `[engine.NAME.python]` needs is the one method `hear`."""

    @cached_property
    def _listener(self) -> Listener:
        return Listener(load_bank())

    def hear(self, audio: bytes, *, language: str | None = None, **about: Any) -> object:
        """A list of (word, start, end) in samples at the rate it was sent."""
        hearing = self._listener.hear(audio, language)
        rate = about["sample_rate"]
        found = []
        for line in hearing.lines:
            found.extend(
                [
                    {"w": word.text, "a": round(word.start * rate), "z": round(word.end * rate)}
                    for word in line.words
                ]
            )
        return found


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML. The address is not needed: the object is in this process."""
    return """\
[engine.stilt]
about = "a Python object"
python.object = "stilt"
accepts.formats = ["wav"]

[engine.stilt.reply]
times = "samples"

[engine.stilt.reply.words]
each = "@"
text = "w"
start = "a"
end = "z"
"""
