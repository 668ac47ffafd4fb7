"""Where language breaks: how good or bad it is to go on in another line or cue before a word.

The order of preference is that of subtitling guides: after a sentence, after a clause, before a
conjunction or a preposition, between a subject and what is said of it; never between what belongs
together. Words are judged by small tables of each language (`languages.toml`); what stands in none
of them is a content word, and its place in the phrase decides.
"""

from collections.abc import Container, Sequence
from itertools import accumulate, groupby
from typing import NamedTuple

from mantisreed.subtitles.language.between_rules import between
from mantisreed.subtitles.language.break_place import (
    CLAUSE,
    CONTENT,
    PLAIN,
    UNIT,
    BreakPlace,
    is_before_object,
    is_dutch_article,
    is_french_only,
    is_moment,
    is_short_relative,
    is_than_number,
    part_begins,
)
from mantisreed.subtitles.language.break_rules import tied_to_following, tied_to_preceding
from mantisreed.subtitles.language.comma_rules import DASHES, after_comma
from mantisreed.subtitles.language.coordination import Joined, joined_by
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.subtitles.language.pair_rules import parts_between
from mantisreed.subtitles.language.phrase_places import places_inside_phrases
from mantisreed.subtitles.language.sentence_ends import is_sentence_end
from mantisreed.subtitles.language.word_facts import facts_of, phrase_length
from mantisreed.transcript.writing import NOT_FIRST, NOT_LAST, is_spaceless, needs_space, phrases

_QUOTED, _BRACKETED = 10.0, 30.0  # more, for a break inside of quotation marks or brackets
_FORGOTTEN = 5.0  # more, before the last word of a clause
_BEGUN = (24.0, 10.0)  # more, where a clause or sentence began one or two words before
# More at the end of a cue: where a clause or sentence began three words before, and where but a
# conjunction and a noun stand before the clause that describes it, as in `and the boy, | who`.
_JUST_BEGUN, _NOUN_ALONE = 5.0, 9.0
_ONE_OF_TWO = 14.0  # more, where the other one follows: `between the sluice | and the pump`
# More, where no more words than these are left of a clause, by what begins them.
_FEW_WORDS, _FEW = 6.0, {"preposition": 4, "of": 4, "determiner": 2}
_NOUN_WITH_ARTICLE = 2  # words
_SHOUTED = 3  # words in capitals; fewer are names such as `RSS feeds` or `NEW YORK`
_LONG_WORD = 4  # letters; shorter ones are often abbreviations that no list has
_SHORT_QUOTE = 6  # words; a longer one may be parted like other text
_QUOTES = '"“”„«»'


class Breaks(NamedTuple):
    """How bad breaks are, by the number of the word behind them.

    Attributes:
        of_lines: penalties.
        more_of_cues: what is added where not only a line ends there, but a cue.
    """

    of_lines: list[float]
    more_of_cues: list[float]


def break_penalties(
    texts: Sequence[str],
    language: str | None,
    is_glued: Sequence[bool] | None = None,
    places: Container[int] | None = None,
) -> list[float]:
    """How bad a break of lines before each text is; the first one has none.

    Args:
        texts: words in order.
        language: a tag; None takes the rules that hold in any language.
        is_glued: which are written without a space before; None lets the script decide.
        places: those that somebody wants to know of, which is faster; others may be 0. None for
            all.
    """
    return _judged(texts, language, is_glued, places)[0]


def breaks_of(
    texts: Sequence[str], language: str | None, is_glued: Sequence[bool] | None = None
) -> Breaks:
    """How bad a break before each text is, of lines and of cues; see `break_penalties`."""
    return Breaks(*_judged(texts, language, is_glued))


def _judged(
    texts: Sequence[str],
    language: str | None,
    is_glued: Sequence[bool] | None,
    places: Container[int] | None = None,
) -> tuple[list[float], list[float]]:
    tongue = (language or "").split("-")[0].lower()
    judge = _Judge(texts, tongue)
    penalties = judge.penalties(places)
    if not all(map(str.isascii, texts)):
        _part_phrases(penalties, texts, language, is_glued)
    return penalties, judge.more_at_cue_ends


def _in_small_letters(texts: Sequence[str]) -> Sequence[str]:
    """The words, of which several in capitals in a row are no names, but a caption, or the text of
    an engine that knows no small letters.
    """
    shouted: list[int] = []
    for is_shouted, places in groupby(range(len(texts)), key=lambda at: texts[at].isupper()):
        run = list(places)
        if is_shouted and len(run) >= _SHOUTED:
            shouted += run
    if not shouted:
        return texts
    small = list(texts)
    for at in shouted:
        small[at] = texts[at].lower()
    return small


class _Judge:
    """Judges every place between two words of a text."""

    def __init__(self, texts: Sequence[str], tongue: str) -> None:
        self._written = texts  # a sentence begins with a capital letter
        texts = _in_small_letters(texts)
        self._texts = texts
        self._tongue = tongue
        self._known = words_of_language(tongue)
        self._words = [facts_of(text, tongue) for text in texts]
        self.more_at_cue_ends = [0.0] * len(texts)
        self._inside = places_inside_phrases(self._words, tongue)

    def penalties(self, places: Container[int] | None = None) -> list[float]:
        """By place; the first is 0."""
        texts = self._texts
        penalties = [0.0] * len(texts)
        brackets, quoted = 0, self._quoted()
        starts_sentence = True
        begun = 0  # words since a clause began
        length = 0  # content words since an article or the like began a phrase; 0 outside of one
        for at, word in enumerate(self._words):
            if at:
                is_end = self._is_sentence_end(at)
                if not is_end and (places is None or at in places):
                    penalty = self._inside_sentence(at, length, starts_sentence)
                    if brackets > 0 and penalty < UNIT:
                        penalty += _BRACKETED
                    elif quoted[at]:
                        penalty += _QUOTED
                    elif penalty < UNIT and self._is_begun(at, begun):
                        penalty += _BEGUN[begun - 1]
                    penalties[at] = penalty
                    self.more_at_cue_ends[at] = self._at_cue_end(at, begun)
                starts_sentence = is_end
            length = phrase_length(word, length)
            if at and not word.closes and self._begins_clause(at):
                begun = 0
            begun = 0 if word.closes else begun + 1
            if not word.is_plain:
                brackets = max(0, brackets + word.brackets)
                if brackets and word.ends_sentence:
                    brackets = 0  # one that nobody closed
        return penalties

    def _is_sentence_end(self, at: int) -> bool:
        """Whether a sentence ends before a place."""
        before = self._words[at - 1]
        if before.ends_sentence:
            return is_sentence_end(self._written[at - 1], self._written[at], self._tongue)
        # A closing quotation mark between spaces belongs to the word that it closes.
        is_mark = self._written[at - 1] in ("»", "”") and at > 1
        if is_mark:
            closed = self._written[at - 2] + self._written[at - 1]
        else:
            closed = ""
        return is_mark and is_sentence_end(closed, self._written[at], self._tongue)

    def _quoted(self) -> list[bool]:
        """Whether each place is inside of a short quotation."""
        inside = [False] * (len(self._texts) + 1)
        opened = None
        for at, text in enumerate(self._texts):
            if text.isalnum():
                continue
            if text[0] in _QUOTES and opened is None:
                opened = at
            if (
                opened is not None
                and text.rstrip(".,;:!?…")[-1:] in _QUOTES
                and (at > opened or len(text) > 1)
            ):
                if at - opened < _SHORT_QUOTE:
                    inside[opened + 1 : at + 1] = [True] * (at - opened)
                opened = None
        return inside

    def _inside_sentence(self, at: int, length: int, starts_sentence: bool) -> float:
        """The penalty of a place that no sentence ends at."""
        texts = self._texts
        before, text = texts[at - 1], texts[at]
        place = BreakPlace(
            texts,
            self._words,
            at,
            self._known,
            self._tongue,
            self._inside,
            starts_sentence,
            length,
        )
        if self._words[at - 1].ends_clause and text not in DASHES:
            return after_comma(place)
        if (
            before[-1:] in NOT_LAST
            or text[:1] in NOT_FIRST
            or text in _LONE_MARKS
            or before in _LONE_MARKS
        ):
            return UNIT
        is_ending = self._words[at - 1].bare in self._known.may_end and not text[:1].isdigit()
        if self._words[at - 1].ends_sentence and not is_ending:
            # The full stop of an abbreviation belongs to what follows; others have forgotten a
            # capital letter: `on the raft. and the nets`.
            return UNIT if self._may_be_abbreviation(at - 1) else after_comma(place)
        tight = max(tied_to_following(place), tied_to_preceding(place))
        if tight >= PLAIN:
            return tight
        loose = max(tight, between(place))
        # A last word that stands alone looks forgotten.
        if self._words[at].closes:
            return loose + _FORGOTTEN
        return loose

    def _may_be_abbreviation(self, at: int) -> bool:
        """Whether a word with a full stop may be one that was made short."""
        word = self._words[at].bare
        is_listed = word in self._known.never_ends or not self._known.conjunctions
        return is_listed or len(word) < _LONG_WORD or not word.isalpha()

    def _is_begun(self, at: int, begun: int) -> bool:
        """Whether a clause began one or two words before a place."""
        return 0 < begun <= 2 and begun < at and not is_spaceless(self._texts[at][0])

    def _at_cue_end(self, at: int, begun: int) -> float:
        """What a place costs more where a cue ends there."""
        if not self._words[at - 1].closes:
            if parts_between(self._words, at, self._known):
                return _ONE_OF_TWO
            # `that the ice | was`, and not `as they stand | and move on`
            goes_on = self._words[at].kind != "coordinating"
            if begun == 3 and goes_on:
                return _JUST_BEGUN
            return _FEW_WORDS if self._ends_soon(at) else 0.0
        begins = part_begins(self._words, at)
        is_short = at - begins <= 1 + _NOUN_WITH_ARTICLE
        is_short = is_short and self._words[begins].kind == "coordinating"
        if self._is_of_list(at):
            return _NOUN_ALONE
        describes = any(word.head in self._known.describing for word in self._words[at : at + 2])
        return _NOUN_ALONE if is_short and describes else 0.0

    def _ends_soon(self, at: int) -> bool:
        """Whether hardly anything is left of a clause, as in `a start by the youngsters | from the
        marsh,` and `touched | the ground.`
        """
        few = _FEW.get(self._words[at].kind, 0)
        return any(word.closes for word in self._words[at : at + few])

    def _is_of_list(self, at: int) -> bool:
        """Whether the last but one of what is listed in single words follows: `counted, | weighed
        and ringed`.
        """
        behind = self._words[at : at + 2]
        is_one = len(behind) == 2 and behind[0].kind in CONTENT and not behind[0].closes
        return is_one and behind[1].kind == "coordinating"

    def _begins_clause(self, at: int) -> bool:
        """Whether a clause begins with a conjunction, also where no comma stands before it."""
        word = self._words[at]
        if word.kind == "coordinating":
            if at in self._inside:
                return False  # `fifty minutes or so | to catch up`
            joined = joined_by(self._words, at, self._known, self._tongue)
            return joined is Joined.CLAUSES
        is_relative = word.head in self._known.relatives and word.kind != "conjunction"
        if is_relative:
            return self._words[at - 1].kind in ("preposition", "of")  # `à laquelle | le pré`
        # `as soon as`, `so gut wie nie`: none begins inside of a phrase
        if word.kind != "conjunction" or at in self._inside or self._is_no_conjunction(at):
            return False
        # `était si épais` asks nothing and sets no condition
        is_adverb = word.head in self._known.degree and word.head != "how"
        return not (is_adverb and self._words[at - 1].tail_kind == "auxiliary")

    def _is_no_conjunction(self, at: int) -> bool:
        """Whether what elsewhere begins a clause does something else here."""
        words, tongue = self._words, self._tongue
        return (
            is_moment(words, at, self._known)
            or is_dutch_article(words, at, tongue)
            or is_than_number(words, at)
            or is_before_object(words, at, self._known)
            or is_french_only(words, at, tongue)
            or is_short_relative(words, at, tongue)
        )


_LONE_MARKS = frozenset(("»", "«", "!", "?", ";", ":", "»,", "».", "♪", "♫", "–", "—", "-", "%"))
"""What stands between spaces and yet belongs to the words beside it, as in French or around sung
text.
"""


def _part_phrases(
    penalties: list[float],
    texts: Sequence[str],
    language: str | None,
    is_glued: Sequence[bool] | None,
) -> None:
    """In scripts without spaces: what is inside a phrase belongs together, and a space is as good
    as a comma.
    """
    run: list[int] = []

    def judge() -> None:
        parts = [texts[number] for number in run]
        starts = {0, *accumulate(map(len, phrases("".join(parts), language)))}
        for number, at in zip(run, accumulate(map(len, parts), initial=0), strict=False):
            if at not in starts:
                penalties[number] = max(penalties[number], UNIT)

    for number, text in enumerate(texts):
        before = texts[number - 1] if number else ""
        is_same = bool(before) and is_spaceless(before[-1]) and is_spaceless(text[0])
        glued = is_same and (
            not needs_space(before, text) if is_glued is None else is_glued[number]
        )
        if is_same and not glued:
            penalties[number] = min(penalties[number], CLAUSE)
        if not glued:
            if len(run) > 1:
                judge()
            run = []
        run.append(number)
    if len(run) > 1:
        judge()
