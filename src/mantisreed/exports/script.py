"""What formats are written from and read into: a transcript, or cues as they stand."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace

import msgspec

from mantisreed.exports.redaction import Redaction
from mantisreed.exports.word_lists import Wording
from mantisreed.subtitles.check import has_dash
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.layout import lay_out
from mantisreed.subtitles.overlaps import DASH, shared, with_mark
from mantisreed.subtitles.remarks import Remark
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.subtitles.tokens import mark_of
from mantisreed.subtitles.voices import joined_voices, single_voices, voices_of
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript, Word, speakers_of
from mantisreed.transcript.estimate import estimated_words, spoken_length
from mantisreed.transcript.writing import joined, one_line, words_of

# Seconds; what a cue's words take at most, the second for each unit of their length.
_LATE, _SLOWEST = (
    0.5,
    0.5,
)
_ONE_SPEECH = 1.0  # seconds; what is nearer, by the same speaker, is one passage


class WriteOptions(msgspec.Struct, frozen=True, kw_only=True):
    """How formats are written.

    Attributes:
        rules: how cues are laid out.
        each_word: a cue for each word.
        inner_times: timestamps inside WebVTT cues, word by word; None keeps those that were read.
        rows: what a row of CSV and TSV is; None for passages, or cues where there is nothing else.
        raw_cells: whether cells of tables that look like formulas are written as they are.
        cuts: when shots of the video begin, in seconds; starts and ends of cues go to those that
            are near.
        wording: which words are changed, in all formats but the transcript's own.
        redaction: what is hidden in all formats, and in the transcript itself; None for nothing.
    """

    rules: LayoutRules = LayoutRules()
    each_word: bool = False
    inner_times: bool | None = None
    rows: str | None = None
    raw_cells: bool = False
    cuts: tuple[float, ...] = ()
    wording: Wording = Wording()
    redaction: Redaction | None = None


@dataclass(frozen=True, slots=True)
class Script:
    """A text with times.

    Attributes:
        transcript: its words, passage by passage; None when only cues are known.
        cues: as they were read, with their lines; None when they are to be laid out.
        notes: what was changed in reading, or afterwards.
        language: a tag; None when nobody said.
        head: WebVTT blocks of styles, regions and comments, as they were read.
        remarks: what a reader of cues had to say; `notes` has it as well.
    """

    transcript: Transcript | None = None
    cues: tuple[Cue, ...] | None = None
    notes: tuple[str, ...] = ()
    language: str | None = None
    head: tuple[str, ...] = ()
    remarks: tuple[Remark, ...] = ()
    # Several formats are written of one script; laying its words out takes longer than writing
    # them.
    _laid: dict[tuple[LayoutRules, bool], Sequence[Cue]] = field(
        default_factory=dict, init=False, repr=False, compare=False
    )

    @property
    def passages(self) -> tuple[Passage, ...]:
        """The passages; made from cues where there is no transcript."""
        if self.transcript is not None:
            return self.transcript.passages
        return tuple(passages_of_cues(self.cues or ()))

    @property
    def tongue(self) -> str | None:
        """The language, from wherever it is known."""
        return self.language or (self.transcript.language if self.transcript else None)

    def laid_out(self, rules: LayoutRules, *, mark_speakers: bool) -> Sequence[Cue]:
        """The cues as they were read, or laid out by the rules."""
        if self.cues is None:
            # One speaker needs no marks: there is nobody to be told from.
            speakers = {passage.speaker for passage in self.passages if passage.speaker is not None}
            marks = mark_speakers and len(speakers) > 1 and rules.speakers in ("dash-each", "name")
            # Laying out depends on nothing else.
            key = (rules, marks)
            if key not in self._laid:
                self._laid[key] = lay_out(
                    self.passages, rules, language=self.tongue, mark_speakers=marks
                )
            return self._laid[key]
        speakers = {cue.speaker for cue in single_voices(self.cues) if cue.speaker is not None}
        if mark_speakers and len(speakers) > 1:
            return with_marks_at_changes(self.cues, rules)
        return self.cues

    def as_transcript(self, name: str) -> Transcript:
        """The transcript; made from the cues where there is none."""
        if self.transcript is not None:
            return self.transcript
        return bare_transcript(self.passages, name=name, language=self.language, notes=self.notes)


def with_marks_at_changes(cues: Sequence[Cue], rules: LayoutRules) -> list[Cue]:
    """Cues with a mark at each change of the speaker, as the rules have it."""
    marked: list[Cue] = []
    before: Cue | None = None
    for cue in cues:
        if cue.turns:
            marked.append(with_marks_of_voices(cue, rules))
            before = voices_of(cue)[-1]
            continue
        is_new = cue.speaker is not None and (before is None or cue.speaker != before.speaker)
        one = with_mark(cue, mark_of(cue.speaker, rules) if is_new else "")
        # WebVTT has a cue for each voice; in a format with one text they share a cue.
        are_two_voices = (
            is_new and before is not None and (cue.start, cue.end) == (before.start, before.end)
        )
        if are_two_voices and rules.speakers != "none":
            marked[-1] = shared(marked[-1], one)
        else:
            marked.append(one)
        before = cue
    return marked


def with_marks_of_voices(cue: Cue, rules: LayoutRules) -> Cue:
    """A cue of several speakers with a mark before what each says, as the rules have it."""
    parts = voices_of(cue)
    # What has dashes already would get them twice.
    if rules.speakers == "none" or any(map(has_dash, cue.lines)):
        return cue
    return joined_voices([with_mark(part, mark_of(part.speaker, rules) or DASH) for part in parts])


def with_single_lines(script: Script) -> Script:
    """The script with speakers and languages on single lines, and no passage or cue with a control
    character.

    Names come from engines and files, and stand in headings, cells and tags, where a line break
    would end them.
    """
    names = {cue.speaker for cue in single_voices(script.cues or ())} | {script.language}
    if script.transcript is not None:
        names |= {passage.speaker for passage in script.transcript.passages} | {
            script.transcript.language
        }
    # Most transcripts have none, and are given back as they are.
    odd = {name: one_line(name) or None for name in names if name and one_line(name) != name}
    if not odd:
        return script

    def named(name: str | None) -> str | None:
        return odd.get(name or "", name)

    transcript, cues = script.transcript, script.cues
    if transcript is not None:
        passages = tuple(
            msgspec.structs.replace(passage, speaker=named(passage.speaker))
            for passage in transcript.passages
        )
        transcript = msgspec.structs.replace(
            transcript,
            passages=passages,
            speakers=speakers_of(passages),
            language=named(transcript.language),
        )
    if cues is not None:
        cues = tuple(_with_names(cue, named) for cue in cues)
    return replace(script, transcript=transcript, cues=cues, language=named(script.language))


def _with_names(cue: Cue, named: Callable[[str | None], str | None]) -> Cue:
    """A cue with other names for its speakers."""
    turns = tuple(replace(turn, speaker=named(turn.speaker)) for turn in cue.turns)
    return replace(cue, speaker=named(cue.speaker), turns=turns)


def bare_transcript(
    passages: Iterable[Passage],
    *,
    name: str = "",
    duration: float | None = None,
    language: str | None = None,
    notes: Iterable[str] = (),
) -> Transcript:
    """A transcript that no engine made; `duration` is in seconds, None for where its last passage
    ends.
    """
    passages = tuple(passages)
    if duration is None:
        duration = round(max((passage.end for passage in passages), default=0.0), 3)
    return Transcript(
        recording=RecordingFacts(name, "", duration),
        engine="",
        job="",
        language=language,
        speakers=speakers_of(passages),
        passages=passages,
        notes=tuple(notes),
    )


def passages_of_cues(cues: Iterable[Cue]) -> list[Passage]:
    """Neighbouring cues of one speaker as passages, their words timed within each cue where nothing
    else is known.
    """
    return [
        passage_of_cues(group) for group in groups_of_cues(cues) if any(cue.lines for cue in group)
    ]


def groups_of_cues(cues: Iterable[Cue]) -> list[list[Cue]]:
    """The cues of each passage, in order of time."""
    groups: list[list[Cue]] = []
    # By time, as files may have cues in any order.
    for cue in sorted(single_voices(cues), key=lambda cue: (cue.start, cue.end)):
        last = groups[-1][-1] if groups else None
        if (
            last
            and cue.speaker == last.speaker
            and cue.start - last.end < _ONE_SPEECH
            and _goes_on(last, cue)
        ):
            groups[-1].append(cue)
        else:
            groups.append([cue])
    return groups


def _goes_on(before: Cue, cue: Cue) -> bool:
    """Whether a cue may be the rest of the one before: what has no full stop and is followed by a
    capital is not.
    """
    last, first = before.text[-1:], cue.text[:1]
    # Without a stop and with a capital, two sentences stand beside each other that do not belong
    # together, such as captions.
    return bool(last) and bool(first) and not (last.isalnum() and first.isupper())


def passage_of_cues(cues: Sequence[Cue]) -> Passage:
    """One passage of its cues."""
    words: list[Word] = []
    has_times = all(cue.words for cue in cues)
    for cue in cues:
        if cue.words:
            words += cue.words
        elif texts := words_of(cue.text):
            # A cue may stand for long after its speech.
            longest = _LATE + _SLOWEST * sum(map(spoken_length, texts))
            words += estimated_words(
                texts, [(cue.start, min(max(cue.end, cue.start + 0.01), cue.start + longest))]
            )
    return Passage(
        cues[0].start,
        max(cue.end for cue in cues),
        joined(cue.text for cue in cues),
        cues[0].speaker,
        "engine" if has_times else "estimated",
        tuple(words),
    )
