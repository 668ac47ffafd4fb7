"""The review page in a real browser: hear, edit, save, read back."""

import dataclasses
import json
from collections.abc import Iterator
from pathlib import Path

import msgspec
import pytest

from browser import BROWSER, CTRL, SHIFT, Browser, Page
from mantisreed.audio.speech import speech_map
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.review.page import NOTE, review_page, rows_of
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.subtitles.rules import LAYOUTS
from mantisreed.transcript.document import (
    Doubt,
    Passage,
    RecordingFacts,
    Transcript,
    Word,
    from_json,
    speakers_of,
)
from mantisreed.workbench.reviewing import reviewed, sound_for_page

in_browser = pytest.mark.skipif(BROWSER is None, reason="no browser is installed")


@pytest.fixture(scope="module")
def made(
    english: list[Phrase], tmp_path_factory: pytest.TempPathFactory
) -> tuple[Transcript, Path]:
    """A recording and its transcript by two speakers, with doubts."""
    folder = tmp_path_factory.mktemp("page")
    composition = compose(english, seed=8, duration=60, pauses=(0.6, 1.4))
    path = folder / "round.flac"
    composition.write(path)
    passages = []
    for number, said in enumerate(composition.truth):
        words = tuple(Word(w.text, round(w.start, 3), round(w.end, 3), 0.9) for w in said.words)
        text = " ".join(word.text for word in words)
        passages.append(
            Passage(
                words[0].start, words[-1].end, text, ("Ada", "Odo")[number % 2], "engine", words
            )
        )
    doubts = tuple(
        Doubt(
            "confidence", passages[at].words[1].start, passages[at].words[2].end, "not as sure", 0.8
        )
        for at in (1, 4)
    )
    missing = Doubt(
        "missing", passages[2].end + 0.1, passages[2].end + 0.4, "0.3 s of speech without text", 0.9
    )
    transcript = Transcript(
        recording=RecordingFacts("round.flac", "", 60.0),
        engine="brook",
        job="1",
        language="en",
        speakers=speakers_of(passages),
        passages=tuple(passages),
        doubts=(doubts[0], missing, doubts[1]),
    )
    assert speech_map(composition.blocks())
    return transcript, path


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Browser]:
    with Browser(tmp_path_factory.mktemp("browser")) as found:
        yield found


@pytest.fixture
def page(browser: Browser, made: tuple[Transcript, Path], tmp_path: Path) -> Page:
    transcript, recording = made
    ready = reviewed(transcript, recording)
    file = tmp_path / "round.review.html"
    file.write_text(
        review_page(ready.transcript, ready.sound, LAYOUTS["broadcast"], stem=tmp_path.name)
    )
    opened = browser.open(file.as_uri())
    opened.wait_for("document.documentElement.dataset.ready === 'true'")
    return opened


def saved(page: Page, form: str, name: str) -> bytes:
    """What the page saves by its menu; the dialog is left open by a download."""
    page.press("s", CTRL)
    page.click(f"#save-{form}")
    content = page.downloaded(name)
    page.value("document.getElementById('save-dialog').close()")
    return content


def row(page: Page, at: int) -> str:
    text = page.value(f"state.rows[{at}].text.replace(/\\s+/g, ' ')")
    assert isinstance(text, str)
    return text


@in_browser
def test_a_word_is_heard_when_it_is_clicked_and_marked_while_it_is_said(page: Page) -> None:
    page.wait_for("hasSound")
    start = page.value("wordsOf(state.rows[1])[2].start")
    page.click(".row:nth-child(3) .word", 2)
    page.wait_for(f"audio.currentTime > {start + 0.2}")
    assert (
        page.value("!audio.paused")
        and page.value("document.querySelectorAll('.word.now').length") <= 1
    )
    page.press(" ")
    page.wait_for("audio.paused")
    page.value(f"seek({start} + 0.01)")
    page.wait_for("!audio.seeking")
    assert page.value("document.querySelector('.word.now').textContent") == page.value(
        "wordsOf(state.rows[1])[2].text"
    )
    page.press("b")
    page.wait_for(f"Math.abs(audio.currentTime - Math.max(0, {start} - 2.99)) < 0.1")
    page.press("s")
    assert page.value("audio.playbackRate") == 0.9
    assert page.problems == []


@in_browser
def test_doubts_are_gone_through_and_settled(page: Page, made: tuple[Transcript, Path]) -> None:
    first, missing, last = made[0].doubts
    page.wait_for("hasSound")
    for expected in (first, missing, last, first):
        page.press("n")
        page.wait_for("!audio.seeking")
        assert abs(page.value("position()") - expected.start) < 0.05
        assert expected.why in page.value("document.getElementById('message').textContent")
    assert page.value("[...document.querySelectorAll('.gap-note')].length") == 1
    page.press("d")
    assert page.value("document.getElementById('doubt-count').textContent") == "2 doubts"
    assert (
        len(from_json(saved(page, "json", f"{page.value('data.stem')}.transcript.json")).doubts)
        == 2
    )


@in_browser
def test_text_is_edited_undone_saved_and_read_back(
    page: Page, made: tuple[Transcript, Path]
) -> None:
    before = made[0]
    texts = [word.text for word in before.passages[1].words]
    at = page.value("state.rows.findIndex(row => row.passage === 1 && row.first === 0)")
    page.value(f"choose({at}, 0); focusRow()")
    page.press("Enter")
    area = "document.querySelector('textarea')"
    assert page.value(f"document.activeElement === {area}")
    corrected = row(page, at).replace(texts[1], "wholly different")
    page.value(f"{area}.select()")
    page.type(corrected)
    assert "characters a second of 17" in page.value(
        "document.querySelector('.editing').textContent"
    )
    page.press("Enter")
    assert row(page, at) == corrected and not page.value("!!document.querySelector('textarea')")
    page.press("z", CTRL)
    assert texts[1] in row(page, at)
    page.press("z", CTRL | SHIFT)
    stem = page.value("data.stem")
    after = from_json(saved(page, "json", f"{stem}.transcript.json"))
    assert "wholly different" in after.passages[1].text and NOTE in after.notes
    # Words that were not touched keep every time; the new ones have the time of the one that they
    # replace.
    own = {word.text: word for word in after.passages[1].words}
    for word in before.passages[1].words:
        if word.text != texts[1]:
            assert (own[word.text].start, own[word.text].end) == (word.start, word.end)
    replaced = before.passages[1].words[1]
    assert own["wholly"].start == replaced.start and own["different"].end == replaced.end
    others = [number for number in range(len(before.passages)) if number != 1]
    assert [after.passages[number] for number in others] == [
        before.passages[number] for number in others
    ]
    assert len(after.doubts) == 2  # who corrected the first has heard it
    for form in ("srt", "vtt"):
        script = OUTPUT_FORMATS[form].read(saved(page, form, f"{stem}.{form}"))
        assert script.cues is not None and script.notes == ()
        assert len(script.cues) == page.value("state.rows.length")
        assert "wholly different" in " ".join(cue.text for cue in script.cues)
        cue = next(cue for cue in script.cues if "wholly" in cue.text)
        assert all(len(line) <= 42 for line in cue.lines)


@in_browser
def test_cues_are_split_joined_and_given_to_others(
    page: Page, made: tuple[Transcript, Path]
) -> None:
    count = page.value("state.rows.length")
    whole = row(page, 0)
    page.value("choose(0, 3); focusRow()")
    page.press("k")
    assert page.value("state.rows.length") == count + 1
    assert f"{row(page, 0)} {row(page, 1)}" == whole and len(row(page, 0).split()) == 3
    page.press("c")
    page.value("document.getElementById('speaker-name').select()")
    page.type("Mim")
    page.click("#speaker-set")
    after = from_json(saved(page, "json", f"{page.value('data.stem')}.transcript.json"))
    assert [passage.speaker for passage in after.passages[:3]] == ["Mim", "Ada", "Odo"]
    assert len(after.passages) == len(made[0].passages) + 1 and "Mim" in after.speakers
    assert [word.text for word in after.words] == [word.text for word in made[0].words]
    page.value("choose(0, 0); focusRow()")
    page.press("j")
    assert page.value("state.rows.length") == count and row(page, 0) == whole
    for _ in range(3):
        page.press("z", CTRL)
    assert page.value("state.rows.length") == count and page.value("state.touched") is False


@in_browser
def test_a_word_is_found_and_replaced_everywhere_at_once(
    page: Page, made: tuple[Transcript, Path]
) -> None:
    times = sum(word.text.strip(".,!?").lower() == "the" for word in made[0].words)
    assert times > 3
    page.press("f", CTRL)
    page.type("the ")
    page.value("document.getElementById('replace-text').focus()")
    page.type("one ")
    page.click("#replace-all")
    assert page.value("document.getElementById('message').textContent").endswith("replaced")
    after = from_json(saved(page, "json", f"{page.value('data.stem')}.transcript.json"))
    assert len(after.words) == len(made[0].words)
    assert [word.start for word in after.words] == [word.start for word in made[0].words]
    page.value("undo()")
    assert page.value("state.touched") is False


@in_browser
@pytest.mark.parametrize(("width", "is_dark"), [(1280, False), (400, True)])
def test_axe_finds_nothing_and_nothing_is_wider_than_the_window(
    page: Page, width: int, is_dark: bool
) -> None:
    page.view(width, 800, is_dark=is_dark)
    page.wait_for("!!document.querySelector('.word.doubt')")
    assert page.faults() == []
    assert page.value("document.documentElement.scrollWidth") <= width
    page.value("choose(1, 0); beginEdit(1)")
    assert page.faults() == []
    page.press("Escape")
    for dialog in ("save-dialog", "speaker-dialog", "help-dialog"):
        page.value(f"document.getElementById('{dialog}').showModal()")
        assert page.faults() == []
        page.value(f"document.getElementById('{dialog}').close()")
    page.value("showFind()")
    assert page.faults() == [] and page.problems == []


@in_browser
def test_everything_can_be_reached_by_keys(page: Page) -> None:
    page.value("focusRow()")
    page.press("ArrowDown")
    page.press("ArrowRight")
    assert page.value("[here, cursor]") == [1, 1]
    assert page.value("document.activeElement.matches('.row.here')")
    for _ in range(30):
        page.press("ArrowDown")
    assert page.value("here") == min(31, page.value("state.rows.length") - 1)
    box = page.value(
        "(() => { const box = document.activeElement.getBoundingClientRect(); return [box.top, "
        "box.bottom]; })()"
    )
    assert 0 < box[0] < box[1] <= 801


@in_browser
def test_an_hour_is_drawn_only_where_it_is_seen(
    browser: Browser, made: tuple[Transcript, Path], tmp_path: Path
) -> None:
    transcript, recording = made
    passages = []
    for number in range(60):
        for one in transcript.passages:
            words = tuple(
                Word(w.text, w.start + 60.0 * number, w.end + 60.0 * number, 0.9) for w in one.words
            )
            passages.append(
                Passage(words[0].start, words[-1].end, one.text, one.speaker, "engine", words)
            )
    hour = msgspec.structs.replace(transcript, passages=tuple(passages), doubts=())
    sound = reviewed(transcript, recording).sound
    long = dataclasses.replace(sound, duration=3600.0, content=None)
    file = tmp_path / "hour.review.html"
    file.write_text(review_page(hour, long, LAYOUTS["broadcast"], stem="hour"))
    page = browser.open(file.as_uri())
    assert page.value("state.rows.length") > 800
    assert page.value("document.querySelectorAll('.row').length") < 60
    page.value("goTo(3000.5)")
    page.wait_for(
        "document.querySelector('.row.here') && "
        "Number(document.querySelector('.row.here').dataset.at) === here"
    )
    assert abs(page.value("state.rows[here].start") - 3000) < 10
    assert page.value("document.querySelectorAll('.row').length") < 60
    # Without the sound in it, the page asks for the recording, and tells when it is another one.
    assert page.value("!document.getElementById('choose').hidden")


@in_browser
def test_keys_keep_the_focus_in_a_text_of_sixty_thousand_words(
    browser: Browser, made: tuple[Transcript, Path], tmp_path: Path
) -> None:
    transcript, recording = made
    words = [word for passage in transcript.passages for word in passage.words]
    times = -(-60_000 // len(words))
    passages = []
    for number in range(times):
        for one in transcript.passages:
            later = tuple(
                Word(w.text, w.start + 60 * number, w.end + 60 * number) for w in one.words
            )
            passages.append(Passage(later[0].start, later[-1].end, one.text, None, "engine", later))
    long = msgspec.structs.replace(transcript, passages=tuple(passages), doubts=(), speakers=())
    sound = dataclasses.replace(
        reviewed(transcript, recording).sound, duration=60.0 * times, content=None
    )
    file = tmp_path / "long.review.html"
    file.write_text(review_page(long, sound, LAYOUTS["broadcast"], stem="long"))
    page = browser.open(file.as_uri())
    page.wait_for("document.documentElement?.dataset.ready === 'true'", 60.0)
    last = page.value("state.rows.length") - 1
    page.value("focusRow()")

    def focused() -> int:
        found = page.value(
            "document.activeElement.classList.contains('row') "
            "? Number(document.activeElement.dataset.at) : -1"
        )
        assert found == page.value("here")
        return int(found)

    places = [focused()]
    for key in ("PageDown", "PageDown", "End", "PageUp", "ArrowUp", "Home", "ArrowDown"):
        page.press(key)
        places.append(focused())
    assert 0 == places[0] < places[1] < places[2] < places[3] == last
    assert places[4] < last and places[5] == places[4] - 1 and places[6:] == [0, 1]
    # Whoever turns the wheel does not fall out of the text either.
    page.value("scroller.scrollTop = scroller.scrollHeight")
    page.wait_for("!shown.has(state.rows[1])")
    assert page.value("scroller.contains(document.activeElement)")
    page.press("ArrowDown")
    assert focused() == 2


@in_browser
@pytest.mark.parametrize(
    ("language", "direction"),
    [("he", "rtl"), ("en", "ltr"), ("pa-Arab", "rtl"), ("ar-Latn", "ltr")],
)
def test_text_runs_as_its_language_does(
    browser: Browser,
    made: tuple[Transcript, Path],
    tmp_path: Path,
    language: str,
    direction: str,
) -> None:
    transcript, recording = made
    ready = reviewed(msgspec.structs.replace(transcript, language=language), recording)
    file = tmp_path / "text.review.html"
    file.write_text(review_page(ready.transcript, ready.sound, LAYOUTS["broadcast"], stem="text"))
    page = browser.open(file.as_uri())
    page.wait_for("document.documentElement?.dataset.ready === 'true'", 60.0)
    seen = "getComputedStyle(document.querySelector('{}')).direction"
    assert page.value(seen.format(".row .text")) == direction
    assert page.value(seen.format("header")) == "ltr"
    page.value("choose(0, 1)")
    page.press("ArrowLeft" if direction == "rtl" else "ArrowRight")
    assert page.value("cursor") == 2
    page.value("beginEdit(0)")
    assert page.value(seen.format("textarea")) == direction


@in_browser
@pytest.mark.parametrize("width", [1280, 1024, 400])
def test_no_button_leaves_its_row(page: Page, width: int) -> None:
    page.view(width, 800)
    outside = page.value(
        "[...document.querySelectorAll('button, #rate, #clock, #doubt-count')]"
        ".filter(one => one.offsetParent && !one.closest('.row'))"
        ".filter(one => one.getBoundingClientRect().right > innerWidth + 0.5 "
        "|| one.scrollWidth > one.clientWidth + 1 && getComputedStyle(one).display !== 'inline')"
        ".map(one => one.id || one.textContent)"
    )
    assert outside == [] and page.value("document.documentElement.scrollWidth") <= width
    if width == 1280:
        tops = page.value(
            "[...document.querySelectorAll('header > .tools button')]"
            ".map(one => Math.round(one.getBoundingClientRect().top))"
        )
        assert len(set(tops)) == 1


@in_browser
def test_a_page_that_is_given_another_recording_says_so(
    browser: Browser, made: tuple[Transcript, Path], english: list[Phrase], tmp_path: Path
) -> None:
    transcript, recording = made
    ready = reviewed(transcript, recording, sound_for_page(recording, "never"))
    file = tmp_path / "empty.review.html"
    file.write_text(review_page(ready.transcript, ready.sound, LAYOUTS["broadcast"], stem="empty"))
    other = tmp_path / "other.wav"
    compose(english, seed=9, duration=10).write(other)
    page = browser.open(file.as_uri())
    for chosen, told in ((other, "it is another one"), (recording, "the recording is here")):
        node = page.call("Runtime.evaluate", expression="document.getElementById('file')")[
            "result"
        ]["objectId"]
        page.call("DOM.setFileInputFiles", files=[str(chosen)], objectId=node)
        page.wait_for(
            f"document.getElementById('message').textContent.includes({json.dumps(told)})"
        )
    assert page.value("hasSound")


@in_browser
def test_another_reading_of_a_passage_is_taken_while_its_text_is_edited(
    browser: Browser, made: tuple[Transcript, Path], tmp_path: Path
) -> None:
    transcript, recording = made
    first, *others = transcript.passages
    said = first.text.rstrip(".?!")
    readings = (said.upper(), "Eleven turns <b>of</b> tide.", "Eleven terms of tide.")
    short = Passage(
        first.start,
        first.words[2].end,
        "One two three",
        words=first.words[:3],
        alternatives=readings,
    )
    shown = msgspec.structs.replace(transcript, passages=(short, *others), doubts=())
    ready = reviewed(shown, recording)
    file = tmp_path / "readings.review.html"
    file.write_text(review_page(ready.transcript, ready.sound, LAYOUTS["broadcast"], stem="r"))
    page = browser.open(file.as_uri())
    page.wait_for("document.documentElement.dataset.ready === 'true'")
    page.value("beginEdit(0)")
    listed = page.value(
        "[...document.querySelectorAll('.readings li')].map(one => one.textContent)"
    )
    assert listed[-2:] == list(readings[1:])
    page.click(".readings li:last-child button")
    page.press("Enter")
    assert row(page, 0) == "Eleven terms of tide." and page.problems == []


def test_all_words_are_in_rows_once_and_rows_point_to_them(made: tuple[Transcript, Path]) -> None:
    transcript, _ = made
    rows = list(rows_of(transcript, LAYOUTS["broadcast"]))
    places = [(passage, at) for passage, first, last, *_ in rows for at in range(first, last)]
    assert sorted(places) == [
        (number, at)
        for number, passage in enumerate(transcript.passages)
        for at in range(len(passage.words))
    ]


def test_nothing_in_a_transcript_can_end_the_script(made: tuple[Transcript, Path]) -> None:
    transcript, recording = made
    evil = "</script><script>document.title='owned'</script>@sound@"
    words = (Word(evil, 1.0, 2.0),)
    hostile = msgspec.structs.replace(
        transcript, passages=(Passage(1.0, 2.0, evil, evil, "engine", words),), doubts=()
    )
    page = review_page(
        hostile, reviewed(transcript, recording).sound, LAYOUTS["broadcast"], stem='"><b>'
    )
    assert page.count("</script>") == 3 and 'id="sound">@' not in page and '"><b>' not in page


def test_a_name_is_taken_for_no_part_of_the_page(made: tuple[Transcript, Path]) -> None:
    transcript, recording = made
    ready = reviewed(transcript, recording, sound_for_page(recording, "never"))
    page = review_page(ready.transcript, ready.sound, LAYOUTS["broadcast"], stem="@data@ @style@")
    assert page.count("@data@ @style@: review</") == 2 and '"use strict"' in page
    assert page.count('<script type="application/json" id="data">{') == 1
