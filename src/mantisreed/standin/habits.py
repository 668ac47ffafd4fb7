"""Bad habits of engines, planted into what a stand-in heard, with the truth: the faults that doubts
have to find.

Everything follows from the sound: the same one gives the same faults.
"""

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, replace
from itertools import chain

from mantisreed.errors import InputError
from mantisreed.standin.bank import Phrase
from mantisreed.standin.ear import HeardWord
from mantisreed.standin.lines import Line, retold

_SHORTEST_SILENCE = 1.0  # seconds without speech that something is made up over
_SALAD = 30  # words of text without sense, at least
_WORD = 0.28  # seconds of a word that is made up
# As a careless transliteration has them.
_LETTERS = str.maketrans("abcdefghijklmnopqrstuvwxyzäöüß", "абцдефгхийклмнопкрстуввхузяёюс")


@dataclass(frozen=True, slots=True)
class Habits:
    """How often an engine does what, as shares of the phrases that it hears.

    Attributes:
        silence: text is made up in the pause behind a phrase.
        loop: the phrase before goes round and swallows this one.
        missing: it is dropped.
        language: it is told in another language.
        script: it is written in another script.
        pace: its words are squeezed into a moment.
        unsure: its words are others, and the engine is not sure of them.
        nonsense: its words are others, and the engine is as sure of them as ever.
        salad: words of its language without sense begin, over several phrases, at a confidence
            between good and bad.
        drift: from a moment on times run by this share faster; 0.02 is 1.2 s a minute.
    """

    silence: float = 0.0
    loop: float = 0.0
    missing: float = 0.0
    language: float = 0.0
    script: float = 0.0
    pace: float = 0.0
    unsure: float = 0.0
    nonsense: float = 0.0
    salad: float = 0.0
    drift: float = 0.0

    @property
    def are_any(self) -> bool:
        """Whether there is a bad habit at all."""
        return any(getattr(self, one.name) for one in fields(self))


HABITS = tuple(one.name for one in fields(Habits))


@dataclass(frozen=True, slots=True)
class Planted:
    """A fault that was planted: its kind, a field of `Habits`, and where, in seconds."""

    kind: str
    start: float
    end: float


EVERY_ENGINE = ""
"""Stands for all engines for which nothing else is said."""


def habits_named(given: Sequence[str], engines: Sequence[str]) -> dict[str, Habits]:
    """What `silence=0.2`, for every engine, and `brook:silence=0.2`, for one, say; by engine.

    Raises:
        InputError: there is no such habit or engine, or its share is none.
    """
    chosen: dict[str, dict[str, float]] = {}
    for one in given:
        engine, colon, habit = one.rpartition(":")
        if colon and engine not in engines:
            raise InputError(f"there is no stand-in engine {engine!r} with habits", where="--habit")
        name, equals, share = habit.partition("=")
        try:
            value = float(share) if equals else -1.0
        except ValueError:
            value = -1.0
        if name not in HABITS or not 0.0 <= value <= 1.0:
            raise InputError(
                f"expected a habit such as silence=0.2, not {one!r}",
                where="--habit",
                advice=f"habits are {', '.join(HABITS)}, each with a share from 0 to 1",
            )
        chosen.setdefault(engine, {})[name] = value
    return {engine: Habits(**shares) for engine, shares in chosen.items()}


class Planter:
    """Plants faults into the lines of one sound."""

    def __init__(self, habits: Habits, phrases: Sequence[Phrase], chance: random.Random) -> None:
        """Plant nothing yet.

        Args:
            habits: how often what happens.
            phrases: of all languages, to make text up from.
            chance: from which everything follows.
        """
        self._habits, self._phrases, self._chance = habits, phrases, chance
        self._vocabulary = sorted(
            set(chain.from_iterable(phrase.text.split() for phrase in phrases))
        )
        self.planted: list[Planted] = []

    def spoiled(
        self, lines: Sequence[Line], seconds: float, tongue: str | None
    ) -> tuple[Line, ...]:
        """The lines with faults in them, by time; `planted` says which.

        Args:
            lines: what was heard, by time.
            seconds: of the sound.
            tongue: the language it is in.
        """
        ways = self._ways(tongue)
        salad = 0  # words of it that are still to come
        kept: list[Line] = []
        before: Line | None = None
        for number, line in enumerate(lines):
            changed: Line | None = line
            chosen = next(
                (name for name in ways if self._chance.random() < getattr(self._habits, name)), None
            )
            # It goes on until it is long enough to be told from nonsense.
            chosen = "salad" if salad > 0 else chosen
            if (
                chosen != "salad"
                and before is not None
                and self._chance.random() < self._habits.loop
            ):
                changed = self._looped(before, line)
            elif chosen is not None:
                changed = ways[chosen](line)
                self._note(chosen, line.start, line.end, goes_on=salad > 0)
            if chosen == "salad":
                salad = max(0, (salad or _SALAD) - len(line.words))
            kept += [changed] if changed is not None else []
            before = line if changed is line else None
            until = lines[number + 1].start if number + 1 < len(lines) else seconds
            is_silent = until - line.end >= _SHORTEST_SILENCE
            if is_silent and self._chance.random() < self._habits.silence:
                kept.append(self._made_up(line.end + 0.25, until - 0.25))
        return tuple(self._drifted(kept, seconds) if self._habits.drift and kept else kept)

    def _ways(self, tongue: str | None) -> dict[str, Callable[[Line], Line | None]]:
        """What may become of a line, in the order in which it is drawn."""
        # Words that an engine for this language knows.
        texts = [phrase.text for phrase in self._phrases if phrase.language == tongue]
        own = sorted(set(chain.from_iterable(text.split() for text in texts)))
        return {
            "missing": lambda line: None,
            "language": lambda line: self._in_another_language(line, tongue),
            "script": _in_another_script,
            "pace": _squeezed,
            "unsure": lambda line: self._others(line, self._vocabulary, (0.2, 0.4)),
            "nonsense": lambda line: self._others(line, self._vocabulary, (0.9, 0.98)),
            "salad": lambda line: self._others(line, own or self._vocabulary, (0.6, 0.7)),
        }

    def _note(self, kind: str, start: float, end: float, *, goes_on: bool = False) -> None:
        """Remember a fault; one that goes on is the same as the last one of its kind."""
        planted = Planted(kind, round(start, 3), round(end, 3))
        last = [at for at, one in enumerate(self.planted) if one.kind == kind][-1:]
        if goes_on and last:
            self.planted[last[0]] = replace(self.planted[last[0]], end=planted.end)
        else:
            self.planted.append(planted)

    def _looped(self, before: Line, line: Line) -> Line:
        """The end of the phrase before, said again and again for as long as this one lasts."""
        again = before.words[-self._chance.randint(1, min(6, len(before.words))) :]
        # Often enough that nobody says it so.
        times = self._chance.randint(5, 9)
        self._note("loop", line.start, line.end)
        return retold(line, [word.text for word in again] * times, 0.9)

    def _made_up(self, start: float, end: float) -> Line:
        texts = self._chance.choice(self._phrases).text.split()[
            : max(1, int((end - start) / _WORD))
        ]
        words = tuple(
            HeardWord(
                text,
                start + at * _WORD,
                min(end, start + (at + 1) * _WORD),
                self._chance.uniform(0.6, 0.95),
            )
            for at, text in enumerate(texts)
        )
        self._note("silence", words[0].start, words[-1].end)
        return Line(" ".join(texts), None, words)

    def _in_another_language(self, line: Line, tongue: str | None) -> Line:
        others = [phrase for phrase in self._phrases if phrase.language != tongue] or list(
            self._phrases
        )
        return retold(line, self._chance.choice(others).text.split())

    def _others(self, line: Line, vocabulary: Sequence[str], sure: tuple[float, float]) -> Line:
        words = tuple(
            HeardWord(
                self._chance.choice(vocabulary),
                word.start,
                word.end,
                self._chance.uniform(*sure),
            )
            for word in line.words
        )
        return Line(" ".join(word.text for word in words), line.voice, words)

    def _drifted(self, lines: Sequence[Line], seconds: float) -> list[Line]:
        """From some moment on all times run faster."""
        # Times drift from somewhere on, as clocks that are reset do.
        first = self._chance.uniform(0.0, seconds / 3)
        rate = 1.0 + self._habits.drift

        def moved(moment: float) -> float:
            if moment <= first:
                return moment
            return first + (moment - first) * rate

        self._note("drift", first, lines[-1].end)
        return [
            replace(
                line,
                words=tuple(
                    replace(word, start=moved(word.start), end=moved(word.end))
                    for word in line.words
                ),
            )
            for line in lines
        ]


def _in_another_script(line: Line) -> Line:
    words = tuple(replace(word, text=word.text.lower().translate(_LETTERS)) for word in line.words)
    return Line(" ".join(word.text for word in words), line.voice, words)


def _squeezed(line: Line) -> Line:
    """All words of a line in a tenth of its time."""

    def moved(moment: float) -> float:
        return line.start + (moment - line.start) * 0.1

    words = tuple(
        replace(word, start=moved(word.start), end=moved(word.end)) for word in line.words
    )
    return Line(line.text, line.voice, words)
