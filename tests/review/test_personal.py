"""Personal data is found by what it is, and no trace of it is left."""

import re

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.errors import InputError
from mantisreed.exports.formats import FORMATS
from mantisreed.exports.redaction import KINDS, Redaction, redaction_from
from mantisreed.exports.script import Script, bare_transcript
from mantisreed.review.personal import (
    found_in,
    hidden_script,
    hidden_text,
    hidden_transcript,
    places_in,
)
from mantisreed.subtitles.cues import Cue
from mantisreed.transcript.document import (
    Passage,
    Replacement,
    SoundEvent,
    Transcript,
    Word,
    to_json,
)
from strategies import transcripts

NAMES = Redaction(names=("Mara Reedham", "Odo"), patterns=(r"ring \w{3}\b",))


def found(text: str, language: str | None = "en") -> list[tuple[str, str]]:
    words = text.split()
    return [
        (one.kind, " ".join(words[one.first : one.last]))
        for one in found_in(words, NAMES, language)
    ]


@pytest.mark.parametrize(
    ("marked", "language", "kind"),
    [
        ("Write to <mara.reed@hut.example,> please", "en", "mail"),
        ("write to <mara dot reed at hut dot example> please", "en", "mail"),
        ("schreib an <mara punkt reed ät hütte punkt example>", "de", "mail"),
        ("call <+44 20 7946 0958> today", "en", "phone"),
        ("Tel. <030/123456-78> oder <0171-2345678>", "de", "phone"),
        ("card <4111 1111 1111 1111> it is", "en", "card"),
        (f"it is <four {'one ' * 14}one>", "en", "card"),
        ("account <GB82 WEST 1234 5698 7654 32> and that is it", "en", "iban"),
        ("Konto <DE89370400440532013000.>", "de", "iban"),
        ("dial <zero seven nine four double two, three one>", "en", "digits"),
        ("<null eins sieben zwo einundzwanzig vier> danke", "de", "digits"),
        ("<zéro six douze trente-quatre cinquante-six> merci", "fr", "digits"),
        ("<MARA REEDHAM'S> boat and <Odo,> too", "en", "name"),
        ("Zoë and <Mará Rëedham's> net, <Mara Reedham> says", "en", "name"),
        ("the <ring ABC> is torn", "en", "pattern"),
        ("call <+44 20 7946\u20110958> today", "en", "phone"),
        ("电话 <０３０－１２３４５６７８> 谢谢", "zh", "phone"),
        ("please phone me at <555-0123,> after ten", "en", "phone"),
        ("Durchwahl ist <4711 0>", "de", "phone"),
        ("write to <m a r a dot reed at hut dot example> please", "en", "mail"),
        ("it is <zero seven nine, um, four double two dash three one> thanks", "en", "digits"),
        ("<4 1 1 1 1 1 1 1 1 1 1 1 1 1 1 1> is the card", "en", "card"),
    ],
)
def test_each_kind_is_found(marked: str, language: str, kind: str) -> None:
    expected = [(kind, text) for text in re.findall("<(.*?)>", marked)]
    assert found(re.sub("[<>]", "", marked), language) == expected


@pytest.mark.parametrize(
    "text",
    [
        "We counted three hundred and twelve dunlin and forty one knots on 2026-11-26 at 10.30.",
        "One, two, three, go! Ring eight two six, wing sixty one.",
        "Modoc and modern are no names here; I was at home. Then we left.",
        "Call me when 41 birds are ringed, and the mobile nets are at 10.30 on 26.11.2026.",
        "One, two, um, dash it, three, four, er, five, six.",
        "From 1998 to 2004 there were 1,250 pairs, 12 of them on 3.5 hectares.",
    ],
)
def test_numbers_of_birds_are_no_personal_data(text: str) -> None:
    assert found(text) == []


@pytest.mark.parametrize(
    "part", ["a ", "a.", "1 ", "12", "at dot ", "call 1 ", "mara ", "0-", "+1 ", "de12 ", "one um "]
)
def test_a_text_that_is_made_to_take_long_does_not(part: str) -> None:
    # Whatever hangs is ended by the test's limit.
    assert len(hidden_text(part * (100_000 // len(part)), NAMES, "en")) > 1


def test_an_accent_that_stands_by_itself_is_none() -> None:
    assert found("It was Ma\u0301ra Re\u0308edham.") == [("name", "Ma\u0301ra Re\u0308edham.")]


def test_check_digits_tell_cards_and_accounts_from_other_numbers() -> None:
    only = Redaction(kinds=("card", "iban"))
    assert found_in(["4111", "1111", "1111", "1112"], only, "en") == []
    assert found_in(["DE89370400440532013001"], only, "de") == []


def a_transcript(text: str) -> Transcript:
    words = tuple(Word(word, 0.5 * at, 0.5 * at + 0.4, 0.9) for at, word in enumerate(text.split()))
    passage = Passage(0.0, words[-1].end, text, "Mara Reedham", "engine", words, (f"Or {text}",))
    return bare_transcript(
        [passage], name="call_Mara-Reedham.wav", language="en", notes=["Odo called"]
    )


SECRETS = ("mara", "reedham", "odo", "7946", "0958", "nine four")


def no_trace(content: str) -> bool:
    return not any(secret in content.lower() for secret in SECRETS)


def test_no_trace_is_left_in_any_format() -> None:
    said = (
        "Mara Reedham here. Call +44 20 7946 0958, or ask Odo for seven nine four two two one, "
        "thanks."
    )
    full = msgspec.structs.replace(
        a_transcript(said),
        events=(SoundEvent("Odo laughs", 1.0, 2.0),),
        replacements=(Replacement(0.0, 1.0, "Mara", "Mara Reedham", "heron", "rule"),),
        recording=msgspec.structs.replace(
            a_transcript(said).recording, about={"title": "Odo and Mara Reedham"}
        ),
    )
    redaction = Redaction(names=("Mara Reedham", "Mara", "Odo"))
    clean = hidden_transcript(full, redaction)
    assert (
        clean.passages[0].text == "[name] here. Call [phone], or ask [name] for [digits], thanks."
    )
    assert [word.text for word in clean.words] == clean.passages[0].text.split()
    assert (clean.words[3].start, clean.words[3].end) == (2.0, 3.9)  # the whole number's time
    for form in FORMATS:
        assert no_trace(form.write(Script(clean), None, "x").decode()), form.name


def test_what_goes_over_cues_and_lines_is_hidden_in_all_of_them() -> None:
    cues = (
        Cue(0.0, 2.0, ("Call zero seven", "nine four"), speaker="Odo"),
        Cue(2.5, 4.0, ("two two one, please",), name="Odo"),
        Cue(5.0, 6.0, ("Mara", "Reedham did")),
    )
    clean = hidden_script(Script(cues=cues), NAMES)
    assert clean.cues is not None
    assert [cue.lines for cue in clean.cues] == [
        ("Call [digits],",),
        ("[digits], please",),
        ("[name]", "did"),
    ]
    assert no_trace(" ".join(f"{cue.text} {cue.speaker} {cue.name}" for cue in clean.cues))


def test_places_have_times_and_the_text_keeps_its_line_breaks() -> None:
    (place, *_) = places_in(a_transcript("It was Mara Reedham, I think"), NAMES)
    assert (place.kind, place.start, place.end, place.text) == ("name", 1.0, 1.9, "Mara Reedham,")
    assert hidden_text("Odo\n  and  Odo's boat\n", NAMES) == "[name]\n  and  [name] boat\n"


def test_strong_words_are_places_too() -> None:
    strong = Redaction(kinds=(), strong_words=("bloody", "damn*"))
    assert [
        one.text for one in places_in(a_transcript("The bloody gate is damned heavy"), strong)
    ] == [
        "bloody",
        "damned",
    ]


@given(transcripts, st.integers(0, 10))
def test_a_word_that_is_hidden_is_nowhere_in_the_document(
    transcript: Transcript, number: int
) -> None:
    words = [word.text for word in transcript.words if len(word.text) > 4 and word.text.isalnum()]
    if not words:
        return
    secret = words[number % len(words)]
    clean = hidden_transcript(transcript, Redaction(kinds=("name",), names=(secret,)))
    assert secret not in [word.text for word in clean.words]
    assert secret not in " ".join(passage.text for passage in clean.passages).split()
    assert to_json(clean)


@pytest.mark.parametrize(("kinds", "pattern"), [("mail,shoe size", ()), ("all", ("(",))])
def test_what_is_no_kind_or_pattern_is_refused(kinds: str, pattern: tuple[str, ...]) -> None:
    with pytest.raises(InputError):
        redaction_from(kinds, None, pattern)
    assert redaction_from("all", None, ()).kinds == KINDS
