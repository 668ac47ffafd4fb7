"""Where sentences end and where only an abbreviation does; what is not torn apart."""

import pytest

from mantisreed.subtitles.language.break_place import LOOSE, SENTENCE, UNIT
from mantisreed.subtitles.language.breaks import break_penalties
from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.subtitles.language.sentence_ends import is_sentence_end
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.rules import LAYOUTS
from mantisreed.transcript.document import Passage, Word


@pytest.mark.parametrize(
    ("tongue", "text", "following", "is_end"),
    [
        *(
            (("en", word, "Reed", False))
            for word in ("Dr.", "Mr.", "Prof.", "St.", "e.g.", "i.e.", "vs.", "J.", '"Dr.')
        ),
        ("en", "No.", "7", False),
        ("en", "fig.", "3", False),
        # Words that are abbreviations as well, which only a number tells.
        ("en", "No.", "We", True),
        ("en", "Dec.", "Then", True),
        ("en", "Dec.", "5", False),
        ("de", "Art.", "Schreib", True),
        ("de", "Art.", "5", False),
        ("de", "so.", "Wir", True),
        ("es", "mar.", "El", True),
        ("it", "set.", "Poi", True),
        ("fr", "P.", "Roseau", False),
        ("en", "a.m.", "we", False),
        ("en", "a.m.", "We", True),
        ("en", "etc.", "Then", True),
        ("en", "etc.", "and", False),
        ("en", "nets.", "We", True),
        ("en", "nets.", "", True),
        ("en", "I.", "Then", True),
        ("en", "seven.", "We", True),
        ("en", "wait...", "We", True),
        ("en", "closed!", "we", True),
        ("de", "3.", "Februar", False),
        ("de", "drei.", "Februar", True),
        ("de", "z.B.", "Kiebitze", False),
        ("de", "Nr.", "8", False),
        ("de", "usw.", "Dann", True),
        ("de", "ca.", "zwanzig", False),
        ("fr", "M.", "Roseau", False),
        ("es", "Sra.", "Junco", False),
        ("pl", "godz.", "7", False),
        ("nl", "bijv.", "Kieviten", False),
        ("hi", "है।", "वह", True),
        ("ar", "نعم؟", "لا", True),
        ("xx", "Net.", "closed", False),
    ],
)
def test_abbreviations_initials_and_ordinals_end_no_sentence(
    tongue: str, text: str, following: str, is_end: bool
) -> None:
    assert is_sentence_end(text, following, tongue) is is_end


@pytest.mark.parametrize(
    ("language", "said", "torn"),
    [
        ("en", "we have seen the nets", ("have", "seen")),
        ("en", "they were gone at dawn", ("were", "gone")),
        ("en", "there is a hole", ("is",)),
        ("en", "please pick it up", ("it", "up")),
        ("en", "I want to go home", ("want", "to")),
        ("de", "wir haben gezählt", ("haben", "gezählt")),
        ("fr", "nous avons vu", ("avons", "vu")),
    ],
)
def test_what_belongs_together_is_hardly_ever_torn(
    language: str, said: str, torn: tuple[str, ...]
) -> None:
    words = said.split()
    penalties = break_penalties(words, language)
    assert all(penalties[words.index(word)] >= LOOSE for word in torn)


def test_an_abbreviation_stays_with_what_it_belongs_to() -> None:
    penalties = break_penalties(["Ask", "Dr.", "Reed", "at", "five.", "We", "wait."], "en")
    assert penalties[2] == UNIT and penalties[5] == SENTENCE


def test_a_language_that_is_not_known_has_no_words() -> None:
    assert not words_of_language("xx").pronouns and words_of_language("en").particles


def test_a_cue_ends_with_its_sentence_where_the_rules_allow() -> None:
    text = (
        "We closed the nets at nine. The wind had turned by then. Nobody saw the owl again before "
        "the boats came in. "
        "It was late. Everybody went home over the long causeway."
    )
    words, at = [], 0.0
    for said in text.split():
        words.append(Word(said, at, at + 0.3))
        at += 0.34
    passage = Passage(0.0, at, text, None, "engine", tuple(words))
    for cue in lay_out([passage], LAYOUTS["broadcast"], language="en"):
        assert cue.text.endswith(".") or "." not in cue.text
