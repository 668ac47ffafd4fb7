"""The same recordings through several engines, to see which of them serves best and what it
costs.
"""

import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

import msgspec

from mantisreed.audio.containers import probe
from mantisreed.audio.workers import DecodingWorkers
from mantisreed.engines.card import EngineCard
from mantisreed.errors import InputError, MantisreedError
from mantisreed.jobs.budget import billed_seconds, cost_of
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.options import RunOptions, transcription_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.transcribe import transcribe
from mantisreed.review.comparing import Comparison, compared
from mantisreed.review.scoring import ErrorCounts, Score, scored, tokens_of
from mantisreed.sources.finding import find_recordings
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import Transcript
from mantisreed.workspace import Workspace


@dataclass(frozen=True, slots=True)
class ExpectedCost:
    """What an engine would charge for all recordings, as far as their lengths are known before they
    are cut.

    Attributes:
        engine: name of its card.
        seconds: of sound.
        cost: None where its card names no price.
        currency: of the cost.
    """

    engine: str
    seconds: float
    cost: Decimal | None
    currency: str


@dataclass(frozen=True, slots=True)
class EngineResult:
    """How one engine did.

    Attributes:
        engine: name of its card.
        outcomes: one for each recording.
        seconds: that the whole of it took; next to nothing where all replies were kept.
        scores: by recording, where there is a reference.
    """

    engine: str
    outcomes: tuple[Outcome, ...]
    seconds: float
    scores: tuple[Score | None, ...]

    @property
    def transcripts(self) -> list[Transcript]:
        """Those that there are."""
        return [outcome.transcript for outcome in self.outcomes if outcome.transcript is not None]

    @property
    def words(self) -> int:
        """In all recordings."""
        return sum(len(transcript.words) for transcript in self.transcripts)

    @property
    def duration(self) -> float:
        """Seconds of sound that it transcribed."""
        return sum(transcript.recording.duration for transcript in self.transcripts)

    @property
    def doubts(self) -> int:
        """Stretches that somebody should listen to."""
        return sum(outcome.doubts for outcome in self.outcomes)

    @property
    def doubtful_seconds(self) -> float:
        """Seconds of sound that at least one doubt is about."""
        total = 0.0
        for transcript in self.transcripts:
            reached = 0.0
            for doubt in transcript.doubts_worth_hearing:
                total += max(0.0, doubt.end - max(reached, doubt.start))
                # Doubts overlap; each second counts once.
                reached = max(reached, doubt.end)
        return total

    @property
    def word_error_rate(self) -> float | None:
        """Over all recordings that have a reference."""
        return _rate([score.words for score in self.scores if score is not None])

    @property
    def character_error_rate(self) -> float | None:
        """The same of characters."""
        return _rate([score.characters for score in self.scores if score is not None])

    @property
    def cost(self) -> Decimal | None:
        """What was charged for it, at any time; None where nobody knows."""
        costs = [outcome.job.cost for outcome in self.outcomes if outcome.job is not None]
        known = [cost for cost in costs if cost is not None]
        # A sum of some of them would look cheaper than it is.
        if known and len(known) == len(costs):
            return sum(known, Decimal(0))
        return None

    @property
    def currency(self) -> str | None:
        """Of the cost."""
        return next(
            (outcome.job.currency for outcome in self.outcomes if outcome.job is not None), None
        )

    @property
    def price_of_a_good_hour(self) -> Decimal | None:
        """What an hour costs, divided by the share of it that is good: of words that are right,
        where there is a
        reference; else of sound that nothing is doubtful about.
        """
        if self.cost is None or self.duration <= 0:
            return None
        rate = self.word_error_rate
        good = 1.0 - (rate if rate is not None else self.doubtful_seconds / self.duration)
        # A hundredth at least: an hour without a right word has no price.
        return self.cost * 3600 / Decimal(str(round(self.duration * max(0.01, good), 3)))


def _rate(known: Sequence[ErrorCounts]) -> float | None:
    """All errors over the length of all references; None where there is no reference."""
    if known:
        return sum(one.count for one in known) / max(1, sum(one.length for one in known))
    return None


@dataclass(frozen=True, slots=True)
class Compared:
    """What came out.

    Attributes:
        recordings: them.
        results: of each engine, in the order in which they were named.
        comparisons: by recording; None where fewer than two engines understood anything of it.
    """

    recordings: tuple[Source, ...]
    results: tuple[EngineResult, ...]
    comparisons: tuple[Comparison | None, ...]

    @property
    def agreement(self) -> list[list[float | None]]:
        """Between each two engines, over all recordings by their lengths; None where there is
        nothing to compare.
        """
        count = len(self.results)
        table: list[list[float | None]] = [
            [1.0 if at == to else None for to in range(count)] for at in range(count)
        ]
        for one in range(count):
            for other in range(one):
                shares = [
                    (found, share)
                    for found, number in zip(
                        self.comparisons, range(len(self.recordings)), strict=True
                    )
                    if found is not None and (share := self._share(number, one, other)) is not None
                ]
                # By length, as a word of greeting is no measure.
                whole = sum(found.duration for found, _ in shares)
                if whole > 0:
                    mean = sum(found.duration * share for found, share in shares) / whole
                    table[one][other] = table[other][one] = mean
        return table

    def _share(self, recording: int, one: int, other: int) -> float | None:
        """The agreement of two engines on a recording."""
        own = self.having(recording)
        found = self.comparisons[recording]
        if found is None or one not in own or other not in own:
            return None
        return found.agreement[own.index(one)][own.index(other)]

    def having(self, recording: int) -> list[int]:
        """The numbers of the engines that understood something of a recording: those that its
        comparison is of.
        """
        return [
            number
            for number, result in enumerate(self.results)
            if _has_words(result.outcomes[recording])
        ]


def _has_words(outcome: Outcome) -> bool:
    return outcome.transcript is not None and bool(outcome.transcript.words)


@dataclass(frozen=True, slots=True)
class ComparisonOptions:
    """What is compared.

    Attributes:
        engines: names of cards, two or more.
        run: how recordings are sent; its folder holds one for each engine.
        references: transcripts of what was said, in the order of the recordings; empty for none.
    """

    engines: tuple[str, ...]
    run: RunOptions
    references: tuple[Transcript, ...] = ()


@dataclass(frozen=True, slots=True)
class ComparisonHooks:
    """What is told on the way.

    Attributes:
        on_cost: called with what each engine would charge, before anything is sent.
        on_event: called as recordings move along.
    """

    on_cost: Callable[[Sequence[ExpectedCost]], None] = lambda costs: None
    on_event: Callable[[Event], None] = lambda event: None


def compare(
    sources: Sequence[str | os.PathLike[str] | Source],
    workspace: Workspace,
    options: ComparisonOptions,
    hooks: ComparisonHooks | None = None,
) -> Compared:
    """Send recordings to several engines, one after the other, and compare what comes back.

    Everything that can be checked is checked before anything is sent. What is kept is not paid for
    again, and the limit is for all engines that count in one currency together.

    Raises:
        InputError: a source, an engine, an option or a reference is wrong; nothing was sent.
    """
    hooks = hooks or ComparisonHooks()
    if len(dict.fromkeys(options.engines)) < 2:
        raise InputError(
            "name two engines or more", where="--engines", advice="for example brook,heron"
        )
    recordings = find_recordings(sources, options.run.selection)
    if options.references and len(options.references) != len(recordings):
        raise InputError(
            f"there are {len(recordings)} recordings and {len(options.references)} references",
            where="--reference",
            advice="give one for each recording, in the same order, or none",
        )
    wanted = [
        msgspec.structs.replace(options.run, engine=engine, into=str(_folder(options, engine)))
        for engine in options.engines
    ]
    cards = [transcription_options(workspace, one).card for one in wanted]
    hooks.on_cost([_expected(card, recordings) for card in cards])
    spent: dict[str, Decimal] = {}
    results = []
    with DecodingWorkers() as workers:
        for card, one in zip(cards, wanted, strict=True):
            currency = card.price.currency if card.price else ""
            limit = one.spend_limit
            if limit is not None:
                # The limit is for all of it; what others have cost in this money is gone.
                left = limit - spent.get(currency, Decimal(0))
                one = msgspec.structs.replace(one, spend_limit=max(Decimal(0), left))
            begun = time.monotonic()
            outcomes = transcribe(
                recordings, workspace, one, workers=workers, on_event=hooks.on_event
            )
            scores = tuple(
                _score(outcome, at, options.references) for at, outcome in enumerate(outcomes)
            )
            result = EngineResult(
                one.engine or card.name, tuple(outcomes), time.monotonic() - begun, scores
            )
            spent[currency] = spent.get(currency, Decimal(0)) + (result.cost or Decimal(0))
            results.append(result)
    comparisons = tuple(_comparison(results, number) for number in range(len(recordings)))
    return Compared(tuple(recordings), tuple(results), comparisons)


def _folder(options: ComparisonOptions, engine: str) -> Path:
    """One for each engine; a profile's colon is none that every file system takes."""
    return Path(options.run.into or "comparison") / engine.replace(":", "-")


def _expected(card: EngineCard, recordings: Sequence[Source]) -> ExpectedCost:
    lengths = []
    for source in recordings:
        if source.link is not None or source.problem is not None:
            continue
        try:
            lengths.append(probe(source.path).duration or 0.0)
        except MantisreedError:
            continue  # its own turn tells what is wrong with it
    currency = card.price.currency if card.price else ""
    return ExpectedCost(
        card.name, sum(lengths), cost_of(card, billed_seconds(card, lengths)), currency
    )


def _score(outcome: Outcome, number: int, references: Sequence[Transcript]) -> Score | None:
    if not references or outcome.transcript is None:
        return None
    reference = references[number]
    tongue = reference.language or outcome.transcript.language
    return scored(
        tokens_of(reference, language=tongue), tokens_of(outcome.transcript, language=tongue)
    )


def _comparison(results: Sequence[EngineResult], recording: int) -> Comparison | None:
    """How the engines compare on a recording; None where fewer than two understood anything, or
    nothing in common.
    """
    outcomes = [result.outcomes[recording] for result in results]
    transcripts = [
        outcome.transcript
        for outcome in outcomes
        if outcome.transcript and outcome.transcript.words
    ]
    try:
        if len(transcripts) > 1:
            return compared(transcripts)
        return None
    except InputError:
        return None
