"""Where language breaks: how good or bad it is to go on in another line or cue before a word.

The order of preference is that of subtitling guides: after a sentence, after a clause, before a
conjunction or a preposition, between a subject and what is said of it; never between what belongs
together. Words are judged by small tables of each language (`languages.toml`); what stands in none
of them is a content word, and its place in the phrase decides.
"""

from collections.abc import Container, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from itertools import accumulate

from mantisreed.subtitles.languages import UNITS, LanguageWords, words_of_language
from mantisreed.transcript.punctuation import ends_clause, ends_sentence
from mantisreed.transcript.writing import NOT_FIRST, NOT_LAST, is_spaceless, needs_space, phrases

SENTENCE, CLAUSE, CONJUNCTION, LISTED, PREPOSITION, PHRASE = 0.0, 2.0, 4.0, 6.0, 8.0, 11.0
"""Penalties of good places: after a sentence, after a clause, before a conjunction, after a part of
a list, before a
preposition, and between phrases, such as a subject and its verb or a verb and its object."""

PLAIN, LOOSE, PAIR, UNIT = 20.0, 32.0, 70.0, 140.0
"""And of poor ones: between any two words, between words that probably belong together, such as a
noun and the word
before it; between those that do, such as a pronoun and its verb; inside of what is one thing, such
as a name."""

_QUOTED, _BRACKETED = 10.0, 30.0  # more, for a break inside of quotation marks or brackets
_FORGOTTEN = 5.0  # more, before the last word of a clause
_SHORT_QUOTE = 6  # words; a longer one may be parted like other text
_OPENING, _CLOSING = "([{（［｛「『【〈《", ")]}）］｝」』】〉》"
_AROUND = (
    "\"'“”„«»‹›()[]{}¿¡"  # quotes and brackets, and the marks that Spanish sentences begin with
)
_STRIPPED = ".,;:!?\"'“”„«»()[]{}…¿¡♪♫"
_QUOTES = '"“”„«»'

_CAPITALISES_NOUNS = frozenset(("de",))
_ADJECTIVES_FOLLOW = frozenset(("fr", "es", "it", "pt"))
_COMPOUNDS_NUMBERS = frozenset(("de", "nl", "it"))
_VERBS_LAST = frozenset(("de", "nl"))
_INFLECTED = ("e", "en", "er", "es", "em")  # endings of German adjectives


def break_penalties(
    texts: Sequence[str],
    language: str | None,
    is_glued: Sequence[bool] | None = None,
    places: Container[int] | None = None,
) -> list[float]:
    """How bad a break before each text is; the first one has none.

    Args:
        texts: words in order.
        language: a tag; None takes the rules that hold in any language.
        is_glued: which are written without a space before; None lets the script decide.
        places: those that somebody wants to know of, which is faster; others may be 0. None for
            all.
    """
    tongue = (language or "").split("-")[0].lower()
    penalties = _Judge(texts, tongue).penalties(places)
    if not all(map(str.isascii, texts)):
        _part_phrases(penalties, texts, language, is_glued)
    return penalties


@dataclass(frozen=True, slots=True)
class _Facts:
    """What is known of a word by itself.

    Attributes:
        bare: in lower case, without marks around it.
        head, tail: what stands before and behind its apostrophe, where its language elides: `l'eau`
            is an article for what stands before it, and a noun for what stands behind it. The bare
            word elsewhere.
        kind, tail_kind: of the head and of the tail.
        is_number: whether the tail is a number, in digits or words.
        ends_sentence, ends_clause: whether it has a mark that does, abbreviations with them.
        in_phrase: what it does to a noun phrase: `ends`, `begins`, `fills` (article and noun in
            one) or `goes on`.
        brackets: how many more it opens than closes.
        is_plain: it has letters and digits only.
    """

    bare: str
    head: str
    tail: str
    kind: str
    tail_kind: str
    is_number: bool
    ends_sentence: bool
    ends_clause: bool
    in_phrase: str
    brackets: int
    is_plain: bool

    @property
    def closes(self) -> bool:
        """Whether a clause or a sentence ends with it."""
        return self.ends_clause or self.ends_sentence


@lru_cache(maxsize=1 << 16)
def _facts_of(text: str, tongue: str) -> _Facts:
    known = words_of_language(tongue)
    bare = text.lower().replace("’", "'").strip(_STRIPPED)
    elides = tongue in ("fr", "it")
    head = bare.partition("'")[0] if elides else bare
    tail = bare.rpartition("'")[2] if elides else bare
    is_number = _is_number(tail) or tail in known.numbers
    if not is_number and len(tail) > 8 and tongue in _COMPOUNDS_NUMBERS:
        # `dreihundertzwölf`
        is_number = any(map(tail.endswith, known.numbers)) and any(
            map(tail.startswith, known.numbers)
        )
    tail_kind = _kind_of(tail, known)
    ends = ends_clause(text) or ends_sentence(text)
    in_phrase = "goes on"
    if ends:
        in_phrase = "ends"
    elif "'" in bare and head in known.determiners:
        in_phrase = "fills"
    elif tail in known.determiners or tail in known.quantifiers or is_number:
        in_phrase = "begins"
    elif tail_kind != "content" and tail not in known.adjectives:
        in_phrase = "ends"
    brackets = sum(text.count(mark) for mark in _OPENING) - sum(
        text.count(mark) for mark in _CLOSING
    )
    return _Facts(
        bare=bare,
        head=head,
        tail=tail,
        kind=_kind_of(head, known),
        tail_kind=tail_kind,
        is_number=is_number,
        ends_sentence=ends_sentence(text),
        ends_clause=ends_clause(text),
        in_phrase=in_phrase,
        brackets=brackets,
        is_plain=text.isalnum(),
    )


class _Judge:
    """Judges every place between two words of a text."""

    def __init__(self, texts: Sequence[str], tongue: str) -> None:
        self._texts = texts
        self._tongue = tongue
        self._known = words_of_language(tongue)
        self._pairs = _phrase_pairs(tongue)
        self._words = [_facts_of(text, tongue) for text in texts]

    def penalties(self, places: Container[int] | None = None) -> list[float]:
        """By place; the first is 0."""
        texts = self._texts
        penalties = [0.0] * len(texts)
        brackets, quoted = 0, self._quoted()
        starts_sentence = True
        phrase_length = (
            0  # content words since an article or the like began a phrase; 0 outside of one
        )
        for at, word in enumerate(self._words):
            if at:
                is_end = self._is_sentence_end(at)
                if not is_end and (places is None or at in places):
                    penalty = self._inside_sentence(at, phrase_length, starts_sentence)
                    if brackets > 0 and penalty < UNIT:
                        penalty += _BRACKETED
                    elif quoted[at]:
                        penalty += _QUOTED
                    penalties[at] = penalty
                starts_sentence = is_end
            phrase_length = _phrase_length(word, phrase_length)
            if not word.is_plain:
                brackets = max(0, brackets + word.brackets)
                if brackets and word.ends_sentence:
                    brackets = 0  # one that nobody closed
        return penalties

    def _is_sentence_end(self, at: int) -> bool:
        """Whether a sentence ends before a place."""
        before = self._words[at - 1]
        if before.ends_sentence:
            return is_sentence_end(self._texts[at - 1], self._texts[at], self._tongue)
        # A closing quotation mark between spaces belongs to the word that it closes.
        is_mark = self._texts[at - 1] in ("»", "”") and at > 1
        if is_mark:
            closed = self._texts[at - 2] + self._texts[at - 1]
        else:
            closed = ""
        return is_mark and is_sentence_end(closed, self._texts[at], self._tongue)

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

    def _inside_sentence(self, at: int, phrase_length: int, starts_sentence: bool) -> float:
        """The penalty of a place that no sentence ends at."""
        texts = self._texts
        before, text = texts[at - 1], texts[at]
        if self._words[at - 1].ends_clause:
            return self._after_clause(at)
        if (
            before[-1:] in NOT_LAST
            or text[:1] in NOT_FIRST
            or text in _LONE_MARKS
            or before in _LONE_MARKS
        ):
            return UNIT
        if (
            self._words[at - 1].ends_sentence
            and self._words[at - 1].bare not in self._known.may_end
        ):
            return UNIT  # the full stop of an abbreviation, which belongs to what follows
        tight = max(self._tied_to_following(at, starts_sentence), self._tied_to_preceding(at))
        if tight >= PLAIN:
            return tight
        loose = max(tight, self._between(at, phrase_length))
        # A last word that stands alone looks forgotten.
        if self._words[at].closes:
            return loose + _FORGOTTEN
        return loose

    def _after_clause(self, at: int) -> float:
        known, word = self._known, self._words[at].head
        begins_clause = (
            word in known.conjunctions
            or word in known.coordinating
            or word in known.pronouns
            or word in known.prepositions
            or word in known.determiners
            or word in known.auxiliaries
        )
        if begins_clause or not self._known.conjunctions:
            return CLAUSE
        return LISTED

    def _tied_to_following(self, at: int, starts_sentence: bool) -> float:
        """How tightly the word before belongs to what comes."""
        known = self._known
        word, following = self._words[at - 1].tail, self._words[at].head
        written, next_written = self._texts[at - 1], self._texts[at]
        kind = self._words[at].kind
        begins_phrase = kind in _BEGIN_PHRASES
        if (
            self._tongue not in _CAPITALISES_NOUNS
            and not starts_sentence
            and _look_like_a_name(written, next_written)
        ):
            return UNIT
        if word in known.titles and next_written[:1].isupper():
            return UNIT
        if self._words[at - 1].is_number:
            return self._after_number(at, kind)
        if (word, following) in self._pairs:
            return PAIR - 6
        if word in known.determiners and not (begins_phrase and word in known.conjunctions):
            return UNIT
        if word in known.coordinating:
            joins_numbers = at > 1 and self._words[at - 2].is_number and self._words[at].is_number
            if joins_numbers:
                return UNIT
            return PAIR
        if word in known.conjunctions:
            if kind == "conjunction" and word not in known.prepositions:
                return PHRASE
            return PAIR
        if word in known.of:
            return UNIT
        if word in known.prepositions:
            # `went out in the rain`, `looked after the birds`: some belong to the verb before them
            if begins_phrase:
                return PREPOSITION
            if at > 1 and (self._words[at - 2].tail, word) in self._pairs:
                return PLAIN - 2
            return PAIR
        if word in known.pronouns and not begins_phrase and kind not in ("determiner", "pronoun"):
            return PAIR
        if word in known.auxiliaries:
            return self._after_auxiliary(at, kind)
        if word in known.degree and kind not in ("conjunction", "coordinating", "pronoun"):
            if begins_phrase:
                return LOOSE
            return PAIR - 4
        if word in known.quantifiers and kind not in ("conjunction", "coordinating", "auxiliary"):
            if begins_phrase and kind != "of":
                return LOOSE
            return PAIR - 4
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
        word, following = self._words[at - 1].tail, self._words[at].head
        is_unit = following in UNITS or following in known.behind or self._texts[at] in UNITS
        if is_unit or _is_number(following) or following in known.numbers:
            return UNIT
        if (
            following in known.coordinating
            and at + 1 < len(self._texts)
            and self._words[at + 1].is_number
        ):
            return UNIT
        if following in known.auxiliaries:
            return PHRASE
        if kind in ("content", "adjective", "quantifier", "degree"):
            # `one` and `ein` are articles as well; a number behind a noun, such as `room 12`, ends
            # its phrase
            is_year = len(word) == 4 and word.isdigit()
            if is_year:
                return LOOSE
            return PAIR + 4
        return 0.0

    def _after_auxiliary(self, at: int, kind: str) -> float:
        if kind in ("conjunction", "coordinating"):
            return PREPOSITION
        if kind == "preposition":
            if self._tongue in _VERBS_LAST:
                return PHRASE
            return LOOSE - 4
        if kind in ("determiner", "quantifier", "number"):
            if self._tongue in _VERBS_LAST:
                return PHRASE
            return LOOSE - 4
        if self._tongue in _VERBS_LAST and kind == "content" and self._texts[at][:1].isupper():
            return PHRASE
        return PAIR

    def _tied_to_preceding(self, at: int) -> float:
        """How tightly a word belongs to the one before it."""
        known = self._known
        word, before = self._words[at].head, self._words[at - 1].tail
        if at + 1 < len(self._texts):
            next_word = self._words[at + 1]
        else:
            next_word = None
        following = next_word.head if next_word else ""
        next_kind = next_word.kind if next_word else ""
        if word in known.object_pronouns and word not in known.auxiliaries and self._is_object(at):
            return PAIR
        if word in known.behind and (before in UNITS or before in known.behind):
            return UNIT
        if word in known.particles and following not in known.determiners:
            is_preposition = word in known.prepositions
            ends = self._words[at].closes
            if not is_preposition or ends or next_kind in _BEGIN_PHRASES:
                return PAIR
        if word in known.prepositions and self._words[at].closes:
            return PAIR
        if word in known.pronouns and (
            self._asks(at) or (self._is_verb(before) and self._inverts())
        ):
            return PAIR
        if word in known.coordinating and following:
            after = at + 2 >= len(self._texts) or self._words[at + 1].closes
            is_pair = self._words[at - 1].tail_kind == "content" and next_kind == "content"
            if (before in known.behind and _is_number(following)) or (is_pair and after):
                return LOOSE
        may_be_verb = self._texts[at][:1].islower() and self._words[at].kind in (
            "content",
            "auxiliary",
        )
        if self._tongue in _VERBS_LAST and may_be_verb and self._words[at].closes:
            return LOOSE  # the verb that the clause waited for
        return 0.0

    def _is_object(self, at: int) -> bool:
        """Whether a pronoun such as `her`, which may be an article as well, stands for somebody."""
        if self._words[at].head not in self._known.determiners or at + 1 == len(self._texts):
            return True
        ends = self._words[at].closes
        return ends or self._words[at + 1].kind not in ("content", "adjective", "number", "degree")

    def _asks(self, at: int) -> bool:
        """Whether an auxiliary stands before a pronoun, as in questions."""
        return self._words[at - 1].tail in self._known.auxiliaries

    def _inverts(self) -> bool:
        """Whether a pronoun may stand behind its verb."""
        return self._tongue in _VERBS_LAST

    def _is_verb(self, word: str) -> bool:
        known = self._known
        return word in known.verbs or (
            self._tongue == "en" and word.endswith("ed") and len(word) > 4
        )

    def _between(self, at: int, phrase_length: int) -> float:
        """The penalty where nothing ties two words."""
        known = self._known
        word, before = self._words[at].head, self._words[at - 1].tail
        kind = self._words[at].kind
        match kind:
            case "conjunction" | "coordinating":
                return CONJUNCTION
            case "of":
                if self._tongue == "en":
                    return LOOSE - 2
                return PLAIN
            case "infinitive":
                return self._before_to(at)
            case "preposition":
                return self._before_preposition(at)
            case "pronoun":
                if word not in ("it", "you"):
                    return PREPOSITION
                return PLAIN - 4
            case "auxiliary":
                is_subject = before not in known.auxiliaries
                if is_subject:
                    return PHRASE - 1
                return LOOSE
            case "determiner" | "quantifier" | "number" | "degree":
                if kind == "number" and word[:1].isdigit() and not self._is_verb(before):
                    return PLAIN + 4
                return PHRASE
            case _:
                pass
        if self._tongue in _CAPITALISES_NOUNS:
            is_noun_before, is_noun = (
                self._texts[at - 1][:1].isupper(),
                self._texts[at][:1].isupper(),
            )
            if is_noun_before and not is_noun:
                return PHRASE
            return PLAIN - 4
        if self._is_verb(word):
            return PHRASE
        if self._tongue in _ADJECTIVES_FOLLOW and phrase_length >= 2:
            if phrase_length == 2:
                return LOOSE
            return PLAIN
        if phrase_length >= 2:
            if phrase_length == 2:
                return LOOSE + 4
            return PLAIN
        if self._is_verb(before):
            return PLAIN - 4
        return PLAIN

    def _before_preposition(self, at: int) -> float:
        if at + 1 < len(self._texts):
            following = self._words[at + 1].head
        else:
            following = ""
        if following in self._known.object_pronouns or following in ("it", "that", "this"):
            return PLAIN  # two short words, such as `for us`
        if self._is_verb(self._words[at - 1].tail):
            return PHRASE + 1
        return PREPOSITION

    def _before_to(self, at: int) -> float:
        """Before English `to`: of a place or person as before other prepositions, of a verb a
        little worse.
        """
        has_next = at + 1 < len(self._texts)
        kind = self._words[at + 1].kind if has_next else ""
        is_name = has_next and self._texts[at + 1][:1].isupper()
        is_place = is_name or kind in ("determiner", "number", "quantifier")
        if not is_place or self._is_verb(self._words[at - 1].tail):
            return PHRASE + 1
        return PREPOSITION


def _phrase_length(word: _Facts, length: int) -> int:
    """How many content words a noun phrase has, with one more word."""
    if word.in_phrase == "goes on":
        if length:
            return length + 1
        return 0
    return {"ends": 0, "begins": 1, "fills": 2}[word.in_phrase]


_BEGIN_PHRASES = ("preposition", "infinitive", "of", "conjunction", "coordinating")
"""Kinds of words that begin a phrase of their own."""

_LONE_MARKS = frozenset(("»", "«", "!", "?", ";", ":", "»,", "».", "♪", "♫", "–", "—", "-", "%"))
"""What stands between spaces and yet belongs to the words beside it, as in French or around sung
text.
"""


def _kind_of(word: str, known: LanguageWords) -> str:
    """The kind of a word, of those that its tables give the one that matters most before a
    break.
    """
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
    if _is_number(word):
        return "number"
    return "content"


@cache
def _phrase_pairs(tongue: str) -> frozenset[tuple[str, str]]:
    return words_of_language(tongue).phrase_pairs


def _is_number(word: str) -> bool:
    """Whether a word is written in digits, with its sign or currency."""
    return bool(word) and (word[0].isdigit() or word[-1].isdigit())


def _look_like_a_name(before: str, text: str) -> bool:
    return len(before) > 1 and before[0].isupper() and text[:1].isupper()


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
        # `... he said "Stop!" and left`, and in French `» dit-il`: a quotation that its sentence
        # goes on behind
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
    is_initial = (
        len(word) == 1 and word.isalpha() and text.strip(_AROUND)[:1].isupper() and word != "i"
    )
    return not is_initial


def is_known_language(language: str) -> bool:
    """Whether there are tables of a language, by its tag."""
    return words_of_language(language.split("-")[0].lower()) != LanguageWords()
