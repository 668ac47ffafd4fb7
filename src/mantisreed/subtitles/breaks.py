"""Where language breaks: how good or bad it is to go on in another line or cue before a word.

The order of preference is that of subtitling guides: after a sentence, after a clause, before a conjunction or a
preposition, between a subject and what is said of it; never between what belongs together. Words are judged by small
tables of each language (`languages.toml`); what stands in none of them is a content word, and its place in the
phrase decides.
"""

from collections.abc import Sequence
from functools import cache
from itertools import accumulate

from mantisreed.subtitles.languages import UNITS, LanguageWords, words_of_language
from mantisreed.transcript.punctuation import ends_clause, ends_sentence
from mantisreed.transcript.writing import NOT_FIRST, NOT_LAST, is_spaceless, needs_space, phrases

SENTENCE, CLAUSE, CONJUNCTION, LISTED, PREPOSITION, PHRASE = 0.0, 2.0, 4.0, 6.0, 8.0, 11.0
"""Penalties of good places: after a sentence, after a clause, before a conjunction, after a part of a list, before a
preposition, and between phrases, such as a subject and its verb or a verb and its object."""

PLAIN, LOOSE, PAIR, UNIT = 20.0, 32.0, 70.0, 140.0
"""And of poor ones: between any two words, between words that probably belong together, such as a noun and the word
before it; between those that do, such as a pronoun and its verb; inside of what is one thing, such as a name."""

_QUOTED, _BRACKETED = 10.0, 30.0  # more, for a break inside of quotation marks or brackets
_FORGOTTEN = 5.0  # more, before the last word of a clause
_SHORT_QUOTE = 6  # words; a longer one may be parted like other text
_OPENING, _CLOSING = "([{（［｛「『【〈《", ")]}）］｝」』】〉》"
_AROUND = "\"'“”„«»‹›()[]{}¿¡"  # quotes and brackets, and the marks that Spanish sentences begin with
_STRIPPED = ".,;:!?\"'“”„«»()[]{}…¿¡♪♫"
_QUOTES = '"“”„«»'

_CAPITALISES_NOUNS = frozenset(("de",))
_ADJECTIVES_FOLLOW = frozenset(("fr", "es", "it", "pt"))
_COMPOUNDS_NUMBERS = frozenset(("de", "nl", "it"))
_VERBS_LAST = frozenset(("de", "nl"))
_INFLECTED = ("e", "en", "er", "es", "em")  # endings of German adjectives


def break_penalties(
    texts: Sequence[str], language: str | None, is_glued: Sequence[bool] | None = None
) -> list[float]:
    """How bad a break before each text is; the first one has none.

    Args:
        texts: words in order.
        language: a tag; None takes the rules that hold in any language.
        is_glued: which are written without a space before; None lets the script decide.
    """
    tongue = (language or "").split("-")[0].lower()
    penalties = _Judge(texts, tongue).penalties()
    if not all(map(str.isascii, texts)):
        _part_phrases(penalties, texts, language, is_glued)
    return penalties


class _Judge:
    """Judges every place between two words of a text."""

    def __init__(self, texts: Sequence[str], tongue: str) -> None:
        self._texts = texts
        self._tongue = tongue
        self._known = words_of_language(tongue)
        self._pairs = _phrase_pairs(tongue)
        bare = [text.lower().replace("’", "'").strip(_STRIPPED) for text in texts]
        # `l'eau` is an article for what stands before it, and a noun for what stands behind it.
        self._heads, self._tails = bare, bare
        if tongue in ("fr", "it"):
            self._heads = [word.partition("'")[0] for word in bare]
            self._tails = [word.rpartition("'")[2] for word in bare]
        self._bare = bare
        self._kinds: dict[str, str] = {}

    def penalties(self) -> list[float]:
        """By place; the first is 0."""
        texts = self._texts
        penalties = [0.0] * len(texts)
        brackets, quoted = 0, self._quoted()
        starts_sentence = True
        phrase_length = 0  # content words since an article or the like began a phrase; 0 outside of one
        for at, text in enumerate(texts):
            if at:
                is_end = is_sentence_end(self._with_closing_mark(at - 1), text, self._tongue)
                penalty = SENTENCE if is_end else self._inside_sentence(at, phrase_length, starts_sentence)
                if brackets > 0 and penalty < UNIT:
                    penalty += _BRACKETED
                elif quoted[at] and not is_end:
                    penalty += _QUOTED
                penalties[at] = penalty
                starts_sentence = is_end
            phrase_length = self._phrase_length(at, phrase_length)
            if not text.isalnum():
                brackets += sum(text.count(mark) for mark in _OPENING) - sum(text.count(mark) for mark in _CLOSING)
                brackets = max(0, brackets)
                if brackets and ends_sentence(text):
                    brackets = 0  # one that nobody closed
        return penalties

    def _with_closing_mark(self, at: int) -> str:
        """The word; of a closing quotation mark between spaces, with the word that it closes."""
        text = self._texts[at]
        return self._texts[at - 1] + text if at and text in ("»", "”") else text

    def _quoted(self) -> list[bool]:
        """Whether each place is inside of a short quotation."""
        inside = [False] * (len(self._texts) + 1)
        opened = None
        for at, text in enumerate(self._texts):
            if text.isalnum():
                continue
            if text[0] in _QUOTES and opened is None:
                opened = at
            if opened is not None and text.rstrip(".,;:!?…")[-1:] in _QUOTES and (at > opened or len(text) > 1):
                if at - opened < _SHORT_QUOTE:
                    inside[opened + 1 : at + 1] = [True] * (at - opened)
                opened = None
        return inside

    def _kind(self, word: str) -> str:
        """What kind of word it is, as it matters to a break before it; `content` for what no table knows."""
        found = self._kinds.get(word)
        if found is None:
            found = self._kinds[word] = _kind_of(word, self._known)
        return found

    def _phrase_length(self, at: int, length: int) -> int:
        """How many content words a noun phrase has so far."""
        if ends_clause(self._texts[at]) or ends_sentence(self._texts[at]):
            return 0
        known, word = self._known, self._tails[at]
        if "'" in self._bare[at] and self._heads[at] in known.determiners:
            return 2
        if word in known.determiners or word in known.numbers or word in known.quantifiers or _is_number(word):
            return 1
        if self._kind(word) != "content" and word not in known.adjectives:
            return 0
        return length + 1 if length else 0

    def _inside_sentence(self, at: int, phrase_length: int, starts_sentence: bool) -> float:
        """The penalty of a place that no sentence ends at."""
        texts = self._texts
        before, text = texts[at - 1], texts[at]
        if ends_clause(before) and not before[-1:].isalnum():
            return self._after_clause(at)
        if before[-1:] in NOT_LAST or text[:1] in NOT_FIRST or text in _LONE_MARKS or before in _LONE_MARKS:
            return UNIT
        if ends_sentence(before) and self._bare[at - 1] not in self._known.may_end:
            return UNIT  # the full stop of an abbreviation, which belongs to what follows
        tight = max(self._tied_to_following(at, starts_sentence), self._tied_to_preceding(at))
        if tight >= PLAIN:
            return tight
        loose = max(tight, self._between(at, phrase_length))
        # A last word that stands alone looks forgotten.
        return loose + _FORGOTTEN if self._closes(at) else loose

    def _after_clause(self, at: int) -> float:
        known, word = self._known, self._heads[at]
        begins_clause = (
            word in known.conjunctions
            or word in known.coordinating
            or word in known.pronouns
            or word in known.prepositions
            or word in known.determiners
            or word in known.auxiliaries
        )
        return CLAUSE if begins_clause or not self._known.conjunctions else LISTED

    def _tied_to_following(self, at: int, starts_sentence: bool) -> float:
        """How tightly the word before belongs to what comes."""
        known = self._known
        word, following = self._tails[at - 1], self._heads[at]
        written, next_written = self._texts[at - 1], self._texts[at]
        kind = self._kind(following)
        begins_phrase = kind in _BEGIN_PHRASES
        if (
            self._tongue not in _CAPITALISES_NOUNS
            and not starts_sentence
            and _look_like_a_name(written, next_written)
        ):
            return UNIT
        if word in known.titles and next_written[:1].isupper():
            return UNIT
        if self._is_number(at - 1):
            return self._after_number(at, kind)
        if (word, following) in self._pairs:
            return PAIR - 6
        if word in known.determiners and not (begins_phrase and word in known.conjunctions):
            return UNIT
        if word in known.coordinating:
            joins_numbers = at > 1 and self._is_number(at - 2) and self._is_number(at)
            return UNIT if joins_numbers else PAIR
        if word in known.conjunctions:
            return PHRASE if kind == "conjunction" and word not in known.prepositions else PAIR
        if word in known.of:
            return UNIT
        if word in known.prepositions:
            # `went out in the rain`, `looked after the birds`: some belong to the verb before them
            if begins_phrase:
                return PREPOSITION
            return PHRASE if at > 1 and (self._tails[at - 2], word) in self._pairs else PAIR
        if word in known.pronouns and not begins_phrase and kind not in ("determiner", "pronoun"):
            return PAIR
        if word in known.auxiliaries:
            return self._after_auxiliary(at, kind)
        if word in known.degree and kind not in ("conjunction", "coordinating", "pronoun"):
            return LOOSE if begins_phrase else PAIR - 4
        if word in known.quantifiers and kind not in ("conjunction", "coordinating", "auxiliary"):
            return LOOSE if begins_phrase and kind != "of" else PAIR - 4
        is_content = kind in ("content", "adjective", "number")
        if word in known.adjectives and is_content:
            return PAIR + 4
        if word.endswith("'s") and is_content and word not in known.pronouns:
            return PAIR + 4
        if self._tongue == "en" and word.endswith("ly") and len(word) > 4 and is_content:
            return LOOSE
        if self._tongue in _CAPITALISES_NOUNS and next_written[:1].isupper():
            if written[:1].islower() and word.endswith(_INFLECTED) and word not in known.verbs:
                return PAIR
            if written[:1].isupper() and kind == "content" and not starts_sentence:
                return LOOSE
        return 0.0

    def _after_number(self, at: int, kind: str) -> float:
        known = self._known
        word, following = self._tails[at - 1], self._heads[at]
        is_unit = following in UNITS or following in known.behind or self._texts[at] in UNITS
        if is_unit or _is_number(following) or following in known.numbers:
            return UNIT
        if following in known.coordinating and at + 1 < len(self._texts) and self._is_number(at + 1):
            return UNIT
        if following in known.auxiliaries:
            return PHRASE
        if kind in ("content", "adjective", "quantifier", "degree"):
            # `one` and `ein` are articles as well; a number behind a noun, such as `room 12`, ends its phrase
            is_year = len(word) == 4 and word.isdigit()
            return LOOSE if is_year else PAIR + 4
        return 0.0

    def _is_number(self, at: int) -> bool:
        """Whether a number stands at a place, in digits or words."""
        word, numbers = self._tails[at], self._known.numbers
        if _is_number(word) or word in numbers:
            return True
        # `dreihundertzwölf`: written as one word in German, Dutch and Italian
        is_long = len(word) > 8 and self._tongue in _COMPOUNDS_NUMBERS
        return is_long and any(map(word.endswith, numbers)) and any(map(word.startswith, numbers))

    def _after_auxiliary(self, at: int, kind: str) -> float:
        if kind in ("conjunction", "coordinating"):
            return PREPOSITION
        if kind == "preposition":
            return PHRASE if self._tongue in _VERBS_LAST else LOOSE - 4
        if kind in ("determiner", "quantifier", "number"):
            return PHRASE if self._tongue in _VERBS_LAST else LOOSE - 4
        if self._tongue in _VERBS_LAST and kind == "content" and self._texts[at][:1].isupper():
            return PHRASE
        return PAIR

    def _tied_to_preceding(self, at: int) -> float:
        """How tightly a word belongs to the one before it."""
        known = self._known
        word, before = self._heads[at], self._tails[at - 1]
        following = self._heads[at + 1] if at + 1 < len(self._texts) else ""
        if word in known.object_pronouns and word not in known.auxiliaries and self._is_object(at):
            return PAIR
        if word in known.behind and (before in UNITS or before in known.behind):
            return UNIT
        if word in known.particles and following not in known.determiners:
            is_preposition = word in known.prepositions
            ends = ends_clause(self._texts[at]) or ends_sentence(self._texts[at])
            if not is_preposition or ends or self._kind(following) in _BEGIN_PHRASES:
                return PAIR
        if word in known.prepositions and (ends_clause(self._texts[at]) or ends_sentence(self._texts[at])):
            return PAIR
        if word in known.pronouns and (self._asks(at) or (self._is_verb(before) and self._inverts())):
            return PAIR
        if word in known.coordinating and following:
            after = (
                at + 2 >= len(self._texts) or ends_clause(self._texts[at + 1]) or ends_sentence(self._texts[at + 1])
            )
            is_pair = self._kind(before) == "content" and self._kind(following) == "content"
            if (before in known.behind and _is_number(following)) or (is_pair and after):
                return LOOSE
        may_be_verb = self._texts[at][:1].islower() and self._kind(word) in ("content", "auxiliary")
        if self._tongue in _VERBS_LAST and may_be_verb and self._closes(at):
            return LOOSE  # the verb that the clause waited for
        return 0.0

    def _closes(self, at: int) -> bool:
        """Whether a clause or a sentence ends with a word."""
        return ends_clause(self._texts[at]) or ends_sentence(self._texts[at])

    def _is_object(self, at: int) -> bool:
        """Whether a pronoun such as `her`, which may be an article as well, stands for somebody."""
        if self._heads[at] not in self._known.determiners or at + 1 == len(self._texts):
            return True
        ends = ends_clause(self._texts[at]) or ends_sentence(self._texts[at])
        return ends or self._kind(self._heads[at + 1]) not in ("content", "adjective", "number", "degree")

    def _asks(self, at: int) -> bool:
        """Whether an auxiliary stands before a pronoun, as in questions."""
        return self._tails[at - 1] in self._known.auxiliaries

    def _inverts(self) -> bool:
        """Whether a pronoun may stand behind its verb."""
        return self._tongue in _VERBS_LAST

    def _is_verb(self, word: str) -> bool:
        known = self._known
        return word in known.verbs or (self._tongue == "en" and word.endswith("ed") and len(word) > 4)

    def _between(self, at: int, phrase_length: int) -> float:
        """The penalty where nothing ties two words."""
        known = self._known
        word, before = self._heads[at], self._tails[at - 1]
        kind = self._kind(word)
        match kind:
            case "conjunction" | "coordinating":
                return CONJUNCTION
            case "of":
                return LOOSE - 2 if self._tongue == "en" else PLAIN
            case "infinitive":
                return self._before_to(at)
            case "preposition":
                return self._before_preposition(at)
            case "pronoun":
                return PREPOSITION if word not in ("it", "you") else PLAIN - 4
            case "auxiliary":
                is_subject = before not in known.auxiliaries
                return PHRASE - 1 if is_subject else LOOSE
            case "determiner" | "quantifier" | "number" | "degree":
                if kind == "number" and word[:1].isdigit() and not self._is_verb(before):
                    return PLAIN + 4
                return PHRASE
            case _:
                pass
        if self._tongue in _CAPITALISES_NOUNS:
            is_noun_before, is_noun = self._texts[at - 1][:1].isupper(), self._texts[at][:1].isupper()
            return PHRASE if is_noun_before and not is_noun else PLAIN - 4
        if self._is_verb(word):
            return PHRASE
        if self._tongue in _ADJECTIVES_FOLLOW and phrase_length >= 2:
            return LOOSE if phrase_length == 2 else PLAIN
        if phrase_length >= 2:
            return LOOSE + 4 if phrase_length == 2 else PLAIN
        return PLAIN - 4 if self._is_verb(before) else PLAIN

    def _before_preposition(self, at: int) -> float:
        following = self._heads[at + 1] if at + 1 < len(self._texts) else ""
        if following in self._known.object_pronouns or following in ("it", "that", "this"):
            return PLAIN  # two short words, such as `for us`
        return PHRASE + 1 if self._is_verb(self._tails[at - 1]) else PREPOSITION

    def _before_to(self, at: int) -> float:
        """Before English `to`: of a place or person as before other prepositions, of a verb a little worse."""
        following = self._heads[at + 1] if at + 1 < len(self._texts) else ""
        kind = self._kind(following)
        is_place = (
            kind in ("determiner", "number", "quantifier")
            or self._texts[min(at + 1, len(self._texts) - 1)][:1].isupper()
        )
        return PHRASE + 1 if not is_place or self._is_verb(self._tails[at - 1]) else PREPOSITION


_BEGIN_PHRASES = ("preposition", "infinitive", "of", "conjunction", "coordinating")
"""Kinds of words that begin a phrase of their own."""

_LONE_MARKS = frozenset(("»", "«", "!", "?", ";", ":", "»,", "».", "♪", "♫", "–", "—", "-", "%"))
"""What stands between spaces and yet belongs to the words beside it, as in French or around sung text."""


def _kind_of(word: str, known: LanguageWords) -> str:
    """The kind of a word, of those that its tables give the one that matters most before a break."""
    if word == "to" and "to" in known.auxiliaries:
        return "infinitive"
    kinds = (
        ("of", known.of),
        ("coordinating", known.coordinating),
        ("conjunction", known.conjunctions),
        ("preposition", known.prepositions),
        ("pronoun", known.pronouns),
        ("auxiliary", known.auxiliaries),
        ("determiner", known.determiners),
        ("quantifier", known.quantifiers),
        ("number", known.numbers),
        ("degree", known.degree),
        ("adjective", known.adjectives),
    )
    for name, words in kinds:
        if word in words:
            return name
    return "number" if _is_number(word) else "content"


@cache
def _phrase_pairs(tongue: str) -> frozenset[tuple[str, str]]:
    return words_of_language(tongue).phrase_pairs


def _is_number(word: str) -> bool:
    """Whether a word is written in digits, with its sign or currency."""
    return bool(word) and (word[0].isdigit() or word[-1].isdigit())


def _look_like_a_name(before: str, text: str) -> bool:
    return len(before) > 1 and before[0].isupper() and text[:1].isupper()


def _part_phrases(
    penalties: list[float], texts: Sequence[str], language: str | None, is_glued: Sequence[bool] | None
) -> None:
    """In scripts without spaces: what is inside a phrase belongs together, and a space is as good as a comma."""
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
        glued = is_same and (not needs_space(before, text) if is_glued is None else is_glued[number])
        if is_same and not glued:
            penalties[number] = min(penalties[number], CLAUSE)
        if not glued:
            if len(run) > 1:
                judge()
            run = []
        run.append(number)
    if len(run) > 1:
        judge()


def is_sentence_end(text: str, following: str, tongue: str) -> bool:
    """Whether a sentence ends with a word, and not only an abbreviation, an initial or an ordinal.

    Args:
        text: the word, with what is written at it.
        following: the next one.
        tongue: the first part of the language's tag.
    """
    if not ends_sentence(text):
        return False
    bare = text.lower().strip(_AROUND)
    first = following.lstrip(_AROUND)[:1]
    if following and not following.strip(_AROUND + "”"):
        return False  # the mark that closes the quotation
    if not bare.endswith(".") or bare.endswith("..") or not following:
        # `... he said "Stop!" and left`, and in French `» dit-il`: a quotation that its sentence goes on behind
        is_quoted = text[-1:] in _QUOTES or following[:1] == "»"
        return not (is_quoted and first.islower())
    if first.islower():
        return False
    word = bare.rstrip(".")
    known = words_of_language(tongue)
    if word in known.never_ends:
        return word in known.may_end and not first.isdigit()
    if word in known.may_end:
        return not first.isdigit()
    if word.isdigit():  # `3. Februar` is a date, `we counted 3.` an end
        return following.lower().strip(_STRIPPED) not in known.months
    # An initial, or letters with full stops between them such as `J. R.`
    is_initial = len(word) == 1 and word.isalpha() and text.strip(_AROUND)[:1].isupper() and word != "i"
    return not is_initial
