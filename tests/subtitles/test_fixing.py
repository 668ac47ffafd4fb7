"""`check --fix` repairs what it can, and harms nothing."""

from dataclasses import replace

from hypothesis import example, given, settings
from hypothesis import strategies as st

from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.subtitles.check import SLACK, check_cues
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.fixing import fixed
from mantisreed.subtitles.rules import LAYOUTS

RULES = LAYOUTS["broadcast"]
LINES = st.sampled_from(
    (
        "Tern.",
        "Eleven of them, all asleep on the raft.",
        "We ringed the last one at the creek and then the rain came in from the marsh",
        "- Any tern?",
        "and the nets",
    )
)


@st.composite
def files(draw: st.DrawFn) -> list[Cue]:
    """Cues as somebody might have left them: too short, too long, over each other, elsewhere."""
    cues, at = [], 0.0
    for _ in range(draw(st.integers(1, 6))):
        start = at + draw(st.sampled_from((0.0, 0.02, 0.3, 2.0)))
        length = draw(st.sampled_from((0.2, 0.9, 2.5, 9.0)))
        lines = tuple(draw(st.lists(LINES, min_size=1, max_size=3)))
        place = draw(st.sampled_from(("", "", "", "line:0")))
        cues.append(Cue(start, round(start + length, 3), lines, settings=place))
        at = start + draw(st.sampled_from((0.1, length)))
    return cues


def speed(cue: Cue) -> float:
    """Characters a second without blanks, which lines that are joined have more of."""
    return len("".join("".join(cue.lines).split())) / (cue.end - cue.start)


@given(files())
# A small letter behind a full stop: the longer cue stood beside what goes on with its sentence.
@example([Cue(0.0, 2.5, ("Asleep on the raft.",) * 2), Cue(4.5, 7.0, ("and the nets",))])
@settings(max_examples=150)
def test_fixing_harms_no_cue_and_once_is_enough(cues: list[Cue]) -> None:
    form = OUTPUT_FORMATS["vtt"]
    written = form.write(Script(None, tuple(cues)), WriteOptions(rules=RULES))
    read = form.read(written)
    once = fixed(read.cues or (), RULES, "en")
    for cue in once:
        was = [
            one
            for one in read.cues or ()
            if one.start <= cue.start + SLACK
            and one.settings == cue.settings
            and set(cue.text.split()) <= set(one.text.split())
        ][-1]
        length, was_length = cue.end - cue.start, was.end - was.start
        assert length >= min(RULES.shortest, was_length) - SLACK
        # Parts of a cue give the gaps between them some of its time.
        assert speed(cue) <= max(RULES.speed, speed(was) * 1.1) + 0.1
    kept = form.write(Script(None, tuple(once)), WriteOptions(rules=RULES))
    again = fixed(form.read(kept).cues or (), RULES, "en")
    assert form.write(Script(None, tuple(again)), WriteOptions(rules=RULES)) == kept
    before, after = (check_cues(cues, RULES, "en") for cues in (read.cues or (), once))
    # One cue that nobody could read is several after it was parted, each as bad as it was.
    assert len(after) <= len(before) + 2 * max(0, len(once) - len(read.cues or ()))


def test_what_stands_elsewhere_keeps_its_time_and_is_no_fault() -> None:
    title = Cue(0.0, 4.0, ("SALTMARSH",), settings="line:0")
    talk = [Cue(0.5, 2.5, ("Any terns on the raft?",)), Cue(2.58, 4.4, ("Eleven, all asleep.",))]
    cues = [title, *talk]
    assert [one.rule for one in check_cues(cues, RULES)] == []
    assert fixed(cues, RULES) == cues
    assert [one.rule for one in check_cues([replace(title, settings=""), *talk], RULES)] != []
