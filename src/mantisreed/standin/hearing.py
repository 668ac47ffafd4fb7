"""What all stand-in engines share: hearing a request's sound, and putting it into another
language.
"""

import hashlib
import io
import random
import zlib
from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass
from itertools import chain

from mantisreed.audio.decode import Decoder
from mantisreed.standin.bank import Phrase
from mantisreed.standin.ear import EAR_RATE, Ear, HeardPhrase, HeardWord
from mantisreed.standin.faults import heard_sounds
from mantisreed.standin.habits import Habits, Planted, Planter
from mantisreed.standin.lines import Line, retold


@dataclass(frozen=True, slots=True)
class Hearing:
    """All that was heard in a sound."""

    lines: tuple[Line, ...]
    tongue: str | None
    seconds: float

    @property
    def text(self) -> str:
        """Everything that was said."""
        return " ".join(line.text for line in self.lines)


class Listener:
    """An ear, with the phrases it knows by language.

    Attributes:
        phrases: all of them.
        planted: by the digest of each sound the faults that were planted into what was heard in it.
    """

    def __init__(
        self,
        phrases: Sequence[Phrase],
        ear: Ear | None = None,
        *,
        confusion: float = 0.0,
        habits: Habits | None = None,
    ) -> None:
        """Learn the phrases.

        Args:
            phrases: all that can be heard.
            ear: one that knows them already.
            confusion: share of words that are taken for others; which ones follows from the sound.
            habits: what it does wrong besides.
        """
        self.phrases = phrases
        self._ear = ear or Ear(phrases)
        self._confusion = confusion
        self._habits = habits or Habits()
        self.planted: dict[str, list[Planted]] = {}
        self._vocabulary = sorted(
            set(chain.from_iterable(phrase.text.split() for phrase in phrases))
        )
        self.tongues = sorted({phrase.language for phrase in phrases if phrase.language})
        self._by_tongue = {
            tongue: [phrase for phrase in phrases if phrase.language == tongue]
            for tongue in self.tongues
        }

    def with_habits(self, habits: Habits) -> "Listener":
        """The same ear with other habits; what is planted is noted in the same place."""
        other = copy(self)
        other._habits = habits
        return other

    def hear(self, content: bytes, tongue: str | None = None) -> Hearing:
        """What is said in an encoded sound.

        Raises:
            RecordingError: it is no sound that can be read.
        """
        digest = hashlib.sha256(content).hexdigest()
        if (heard := heard_sounds.get()) is not None:
            heard.append(digest)
        decoder = Decoder(io.BytesIO(content), sample_rate=EAR_RATE)
        phrases = self._ear.listen(decoder, tongue)
        lines = tuple(
            Line(" ".join(word.text for word in heard.words), heard.phrase.voice, heard.words)
            for heard in phrases
        )
        if self._confusion:
            chance = random.Random(zlib.crc32(content))  # noqa: S311
            lines = tuple(self._confused(line, chance) for line in lines)
        spoken = tongue or _spoken(phrases)
        if self._habits.are_any:
            planter = Planter(self._habits, self.phrases, random.Random(zlib.crc32(content)))  # noqa: S311
            lines = planter.spoiled(lines, decoder.seconds, spoken)
            self.planted[digest] = planter.planted
        return Hearing(lines, spoken, decoder.seconds)

    def render(self, hearing: Hearing, tongue: str) -> Hearing:
        """The same in another language: a phrase of that language for each, always the same, at the
        same time.
        """
        others = self._by_tongue.get(tongue, [])
        lines = [self._rendered(line, others) for line in hearing.lines] if others else []
        return Hearing(tuple(lines), tongue, hearing.seconds)

    def _confused(self, line: Line, chance: random.Random) -> Line:
        words = tuple(
            HeardWord(
                chance.choice(self._vocabulary), word.start, word.end, chance.uniform(0.3, 0.7)
            )
            if chance.random() < self._confusion
            else word
            for word in line.words
        )
        return Line(" ".join(word.text for word in words), line.voice, words)

    @staticmethod
    def _rendered(line: Line, others: Sequence[Phrase]) -> Line:
        other = others[sum(map(ord, line.text)) % len(others)]
        return retold(line, other.text.split())


def _spoken(phrases: Sequence[HeardPhrase]) -> str | None:
    """The language that most phrases are in."""
    tongues = [phrase.phrase.language for phrase in phrases if phrase.phrase.language]
    return max(sorted(set(tongues)), key=tongues.count, default=None)
