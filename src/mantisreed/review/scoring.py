"""How much of what was said was transcribed right: word and character error rates, by Levenshtein
distance.

The word error rate is (substitutions + deletions + insertions) / words of the reference. Speakers
are compared under the permutation of labels that makes the fewest errors, each speaker's words in
one row, as is usual where several people talk over each other.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

import msgspec
from rapidfuzz.distance import Levenshtein

from mantisreed.errors import InputError
from mantisreed.review.aligning import aligned_runs
from mantisreed.review.assignment import cheapest_pairs
from mantisreed.review.normalising import normalised_word, without_number_fillers
from mantisreed.transcript.document import Passage, Transcript

_WORST, _CONFUSED = 10, 25  # passages and pairs of words that are kept
_NOBODY = "\0"  # a name that no transcript has
_BINS = 10  # of confidences
_FOREIGN = 0.8  # word error rate from which the texts are hardly of the same recording


class ScoredToken(msgspec.Struct, frozen=True, gc=False):
    """A word for comparing.

    Attributes:
        text: as it is compared.
        written: as it stands in the transcript.
        start, end: seconds; None where they are not known, the end also where times were estimated.
        confidence: 0 to 1; None where the engine does not say.
        speaker: who says it; None where nobody knows.
        passage: the number of its passage.
        part: which part of the written word it is, from 0: `7:30` is said in two.
        is_whole: whether it is all of the written word.
    """

    text: str
    written: str
    start: float | None
    end: float | None
    confidence: float | None
    speaker: str | None
    passage: int
    part: int = 0
    is_whole: bool = True

    @property
    def shown(self) -> str:
        """The word as it is written; of a part of one, the part."""
        if self.is_whole:
            return self.written
        return self.text


def written_text(tokens: Iterable[ScoredToken]) -> str:
    """Words as they are written, each once."""
    return " ".join(token.written for token in tokens if token.part == 0)


class AlignmentStep(msgspec.Struct, frozen=True, gc=False):
    """One step of an alignment.

    Attributes:
        kind: `equal`, `substitution`, `deletion` or `insertion`.
        reference, heard: the words; None where there is none.
    """

    kind: str
    reference: ScoredToken | None
    heard: ScoredToken | None

    @property
    def start(self) -> float | None:
        """When its word begins, by the reference or, where that has no times, by the transcript."""
        times = (token.start for token in (self.reference, self.heard) if token is not None)
        return next((time for time in times if time is not None), None)


@dataclass(frozen=True, slots=True)
class ErrorCounts:
    """Counts of errors, in words or characters.

    Attributes:
        length: of the reference.
        substitutions, deletions, insertions: heard as another, not heard, heard but not said.
    """

    length: int
    substitutions: int = 0
    deletions: int = 0
    insertions: int = 0

    @property
    def count(self) -> int:
        """All of them."""
        return self.substitutions + self.deletions + self.insertions

    @property
    def rate(self) -> float:
        """All errors over the length of the reference; over 1 where nothing was said."""
        return self.count / max(1, self.length)


@dataclass(frozen=True, slots=True)
class Worst:
    """A passage with many errors.

    Attributes:
        start, end: seconds; None where nobody knows them.
        errors: how many.
        said, heard: the texts.
    """

    start: float | None
    end: float | None
    errors: int
    said: str
    heard: str


@dataclass(frozen=True, slots=True)
class Score:
    """A transcript against its reference.

    Attributes:
        words, characters: their errors.
        steps: the alignment, in order.
        speakers: errors by the reference's speakers, under the best permutation; empty where one
            has no speakers.
        permuted: these together.
        names: which label of the transcript is which of the reference.
        time_errors: how much later words that were right begin than in the reference, in seconds.
        worst: passages with the most errors.
        confusions: pairs of words, said and heard, with their counts.
    """

    words: ErrorCounts
    characters: ErrorCounts
    steps: tuple[AlignmentStep, ...]
    speakers: dict[str, ErrorCounts]
    permuted: ErrorCounts | None
    names: dict[str, str]
    time_errors: tuple[float, ...]
    worst: tuple[Worst, ...]
    confusions: tuple[tuple[str, str, int], ...]

    @property
    def is_doubtful(self) -> bool:
        """Whether the texts have so little in common that they are hardly of the same recording."""
        return self.words.length > 0 and self.words.rate > _FOREIGN


def tokens_of(
    transcript: Transcript, without: Sequence[str] = (), language: str | None = None
) -> list[ScoredToken]:
    """The words of a transcript for comparing.

    Args:
        transcript: with its passages.
        without: sets of normalisation that are switched off.
        language: a tag; None takes the transcript's.
    """
    tongue = language or transcript.language
    tokens = list(
        chain.from_iterable(
            _tokens_of_passage(passage, number, tongue, without)
            for number, passage in enumerate(transcript.passages)
        )
    )
    if "numbers" in without:
        return tokens
    # "and" in "two hundred and six" can be told only by its neighbours, so after all passages.
    said = without_number_fillers([token.text for token in tokens], tongue)
    return [token for token, is_said in zip(tokens, said, strict=True) if is_said]


def _tokens_of_passage(
    passage: Passage, number: int, language: str | None, without: Sequence[str]
) -> Iterator[ScoredToken]:
    if not passage.words:
        has_times = passage.end > passage.start
        for word in passage.text.split():
            parts = normalised_word(word, language, tuple(without))
            for part, text in enumerate(parts):
                start = passage.start if has_times else None
                yield ScoredToken(
                    text, word, start, None, None, passage.speaker, number, part, len(parts) == 1
                )
        return
    is_known = passage.timing != "estimated"
    for said in passage.words:
        # An end is what says later that a start was measured: estimated ones are no evidence.
        end = said.end if is_known else None
        parts = normalised_word(said.text, language, tuple(without))
        for part, text in enumerate(parts):
            yield ScoredToken(
                text,
                said.text,
                said.start,
                end,
                said.confidence,
                passage.speaker,
                number,
                part,
                len(parts) == 1,
            )


def scored(reference: Sequence[ScoredToken], heard: Sequence[ScoredToken]) -> Score:
    """A transcript's words against those of its reference.

    Raises:
        InputError: the reference has no words.
    """
    if not reference:
        raise InputError("there are no words in the reference")
    steps = tuple(aligned(reference, heard))
    kinds = Counter(step.kind for step in steps)
    words = ErrorCounts(
        len(reference), kinds["substitution"], kinds["deletion"], kinds["insertion"]
    )
    permuted, by_speaker, names = _by_speaker(reference, heard)
    pairs = Counter(
        (step.reference.text, step.heard.text)
        for step in steps
        if step.kind == "substitution" and step.reference and step.heard
    )
    return Score(
        words,
        _character_errors(steps),
        steps,
        by_speaker,
        permuted,
        names,
        tuple(_time_errors(steps)),
        tuple(_worst(steps)),
        tuple((said, other, count) for (said, other), count in pairs.most_common(_CONFUSED)),
    )


def aligned(
    reference: Sequence[ScoredToken], heard: Sequence[ScoredToken]
) -> Iterator[AlignmentStep]:
    """The steps by which one sequence becomes the other with the fewest changes."""
    for run in aligned_runs([token.text for token in reference], [token.text for token in heard]):
        of_reference, of_heard = reference[run.first : run.last], heard[run.begin : run.end]
        match run.tag:
            case "equal" | "replace":
                kind = "equal" if run.tag == "equal" else "substitution"
                for said, other in zip(of_reference, of_heard, strict=True):
                    yield AlignmentStep(kind, said, other)
            case "delete":
                yield from (AlignmentStep("deletion", said, None) for said in of_reference)
            case _:
                yield from (AlignmentStep("insertion", None, other) for other in of_heard)


def _character_errors(steps: Sequence[AlignmentStep]) -> ErrorCounts:
    """Errors in characters, with a space between words: counted between words that are right, which
    is linear.
    """
    length = substitutions = deletions = insertions = 0
    said: list[str] = []
    other: list[str] = []

    def close() -> None:
        nonlocal substitutions, deletions, insertions
        if not said and not other:
            return
        codes = Levenshtein.editops(" ".join(said), " ".join(other))
        kinds = Counter(code.tag for code in codes)
        substitutions += kinds["replace"]
        deletions += kinds["delete"]
        insertions += kinds["insert"]
        said.clear()
        other.clear()

    for step in steps:
        if step.reference is not None:
            length += len(step.reference.text) + 1
        if step.kind == "equal":
            close()
            continue
        if step.reference is not None:
            said.append(step.reference.text)
        if step.heard is not None:
            other.append(step.heard.text)
    close()
    return ErrorCounts(max(1, length - 1), substitutions, deletions, insertions)


def _by_speaker(
    reference: Sequence[ScoredToken], heard: Sequence[ScoredToken]
) -> tuple[ErrorCounts | None, dict[str, ErrorCounts], dict[str, str]]:
    """Errors under the permutation of speakers that makes the fewest."""
    said, other = _rows(reference), _rows(heard)
    if not said or not other:
        return None, {}, {}
    # Filled up to a square: a speaker that the other side lacks is paired with nobody, and all
    # that he said is an error.
    size = max(len(said), len(other))
    names, others = _filled(said, size), _filled(other, size)
    errors = [
        [_errors(said.get(name, []), other.get(theirs, [])) for theirs in others] for name in names
    ]
    counts = [[one.count for one in row] for row in errors]
    picked = []
    by_speaker: dict[str, ErrorCounts] = {}
    pairs: dict[str, str] = {}
    for row, column in enumerate(cheapest_pairs(counts)):
        name, theirs, found = names[row], others[column], errors[row][column]
        picked.append(found)
        if name in said:
            by_speaker[name] = found
            if theirs in other:
                pairs[theirs] = name
    together = ErrorCounts(
        len(reference),
        sum(one.substitutions for one in picked),
        sum(one.deletions for one in picked),
        sum(one.insertions for one in picked),
    )
    return together, by_speaker, pairs


def _filled(names: Iterable[str], size: int) -> list[str]:
    """With names that nobody has."""
    known = list(names)
    return known + [_NOBODY] * (size - len(known))


def _rows(tokens: Sequence[ScoredToken]) -> dict[str, list[str]]:
    """The words of each speaker; none where some are nobody's."""
    if any(token.speaker is None for token in tokens):
        return {}
    rows: dict[str, list[str]] = {}
    for token in tokens:
        rows.setdefault(token.speaker or "", []).append(token.text)
    return rows


def _errors(said: Sequence[str], other: Sequence[str]) -> ErrorCounts:
    kinds: Counter[str] = Counter()
    for run in aligned_runs(said, other):
        kinds[run.tag] += max(run.last - run.first, run.end - run.begin)
    return ErrorCounts(len(said), kinds["replace"], kinds["delete"], kinds["insert"])


def _time_errors(steps: Sequence[AlignmentStep]) -> Iterator[float]:
    for step in steps:
        if step.kind == "equal" and step.reference and step.heard:
            said, other = step.reference.start, step.heard.start
            if said is not None and other is not None and step.reference.end is not None:
                yield round(other - said, 3)


def _worst(steps: Sequence[AlignmentStep]) -> list[Worst]:
    """The reference's passages with the most errors, worst first; insertions go with the passage
    before them.
    """
    passages: dict[int, list[AlignmentStep]] = {}
    number = 0
    for step in steps:
        if step.reference is not None:
            number = step.reference.passage
        passages.setdefault(number, []).append(step)
    found = []
    for own in passages.values():
        count = sum(step.kind != "equal" for step in own)
        if not count:
            continue
        said = [step.reference for step in own if step.reference is not None]
        other = [step.heard for step in own if step.heard is not None]
        start = next((step.start for step in own if step.start is not None), None)
        end = said[-1].end if said else None
        found.append(Worst(start, end, count, written_text(said), written_text(other)))
    found.sort(key=lambda one: -one.errors)
    return found[:_WORST]


def calibration(steps: Sequence[AlignmentStep]) -> list[tuple[float, float, int]]:
    """How often words of a confidence are right: its mean, the share that is right, and how many
    words there are.

    Ten ranges of confidence, those without words left out. Where confidences are calibrated, the
    first two agree.
    """
    known = [
        (step.heard.confidence, step.kind == "equal")
        for step in steps
        if step.heard is not None and step.heard.confidence is not None
    ]
    found = []
    for low in range(_BINS):
        # A confidence of exactly 1 belongs to the last range, not to one of its own.
        own = [(sure, right) for sure, right in known if low == min(_BINS - 1, int(sure * _BINS))]
        if own:
            mean = sum(sure for sure, _ in own) / len(own)
            found.append((mean, sum(right for _, right in own) / len(own), len(own)))
    return found


def over_time(steps: Sequence[AlignmentStep], width: float) -> list[tuple[float, float]]:
    """The word error rate in stretches of time: where each begins, in seconds, and its rate.

    Args:
        steps: of which one side has times.
        width: of a stretch, in seconds.
    """
    said: Counter[int] = Counter()
    wrong: Counter[int] = Counter()
    at = 0
    for step in steps:
        if step.reference is not None:
            if step.start is not None:
                at = int(step.start // width)
            said[at] += 1
        # An insertion has no word of the reference: it counts where the reference was last.
        wrong[at] += step.kind != "equal"
    return [(number * width, wrong[number] / max(1, said[number])) for number in sorted(said)]
