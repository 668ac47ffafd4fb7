"""The formats, by the names that `--to` takes, each with its writer and its reader."""

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import PurePath

from mantisreed.errors import InputError, reason_of
from mantisreed.exports import tables, texts
from mantisreed.exports.losses import EVERYTHING, NAMES, OVERLAPS, SAID_BY_ALL, WITHOUT_PLACES
from mantisreed.exports.pages import chapters, write_page
from mantisreed.exports.script import Script, WriteOptions, with_single_lines
from mantisreed.formats.decoding import decoded
from mantisreed.formats.ebuttd import write_ebuttd
from mantisreed.formats.srt import read_srt, write_srt
from mantisreed.formats.ttml import write_ttml
from mantisreed.formats.ttml_reading import read_ttml
from mantisreed.formats.vtt import read_webvtt
from mantisreed.formats.vtt_writing import words_as_cues, write_webvtt
from mantisreed.subtitles.cues import Cue, Subtitles
from mantisreed.subtitles.overlaps import without_overlaps
from mantisreed.subtitles.remarks import Remark, notes_of
from mantisreed.subtitles.shots import on_shots
from mantisreed.transcript.document import from_json, to_json

Writer = Callable[[Script, WriteOptions, str], str]
Reader = Callable[[str], Script]


@dataclass(frozen=True, slots=True)
class OutputFormat:
    """One format.

    Attributes:
        name: as `--to` takes it.
        suffix: of the file name, after the recording's stem.
        write_text: makes the file's text of a script, options and the recording's name.
        read_text: makes a script of the file's text; None where times cannot be had from it.
        media_type: of the file.
        says: what it can say of cues besides their text, as `losses` calls it; everything else is
            told as dropped.
        other_suffixes: that files of it may have too.
        sign: finds out whether a text is of this format; None where its text does not tell.
        is_subtitles: whether a file of it may be named as one of another format of subtitles.
    """

    name: str
    suffix: str
    write_text: Writer
    read_text: Reader | None = None
    media_type: str = "text/plain"
    says: frozenset[str] = WITHOUT_PLACES
    other_suffixes: tuple[str, ...] = ()
    sign: re.Pattern[str] | None = None
    is_subtitles: bool = False

    def write(self, script: Script, options: WriteOptions | None = None, name: str = "") -> bytes:
        """The whole file; `name` is that of the recording where the script does not know it."""
        if script.transcript:
            facts = script.transcript.recording.name
        else:
            facts = ""
        # No format has a place for a line break in a name.
        script = with_single_lines(script)
        return self.write_text(script, options or WriteOptions(), facts or name).encode(
            "utf-8", "replace"
        )

    def read(self, content: bytes, encoding: str | None = None) -> Script:
        """What a file holds, with notes about what was repaired.

        A file that is another format of subtitles than its name says is read as what it is.

        Args:
            content: of the file.
            encoding: of its text; None finds out.

        Raises:
            InputError: it cannot be read as this format, or holds text and no cue.
        """
        text, remarks = decoded(content, encoding)
        # Files are often called by a format that they are not in.
        other = _other_subtitles(self.name, text)
        own = self.read_text if other is None else other.read_text
        if own is None:
            raise InputError(
                f"a file of the format {self.name} has no times",
                advice="`mantisreed convert --recording FILE` times it by its speech",
            )
        if other is not None:
            # A name such as `marsh.txt` is not wrong: it says nothing of subtitles.
            allowed = other.suffix if self.read_text is not None else ""
            remarks.append(
                Remark(f"this is {other.name}, and was read as that", self.suffix, allowed)
            )
        try:
            script = own(text)
        except (RecursionError, ArithmeticError, ValueError) as error:
            # Readers forgive what they know; this is for what nobody has thought of.
            if isinstance(error, RecursionError):
                why = "it has too many levels"
            else:
                why = reason_of(error)
            raise InputError(f"this cannot be read as {self.name} ({why})") from error
        remarks += script.remarks
        if not (script.passages if script.cues is None else script.cues):
            self._check_empty(text, script)
            remarks.append(Remark("there are no cues in it"))
        notes = (*notes_of(remarks), *script.notes)
        if len(notes) > _MOST_NOTES:
            notes = (*notes[:_MOST_NOTES], f"{len(notes) - _MOST_NOTES} more things like these")
        return replace(script, notes=notes, remarks=tuple(remarks))

    def _check_empty(self, text: str, script: Script) -> None:
        """See that a file in which nothing is said holds nothing: an empty file without an error
        would hide that all of it was left out.

        Raises:
            InputError: something in it could not be read.
        """
        wrong = [remark for remark in script.remarks if remark.allowed]
        # An SRT file has nothing but cues; others may have styles or comments alone.
        is_srt = self.name == "srt" and bool(text.strip())
        if not (is_srt or wrong or script.notes):
            return
        told = next(iter((*notes_of(wrong), *script.notes)), "")
        why = f" ({told})" if told else ""
        raise InputError(
            f"no cue could be read in it{why}",
            advice="`mantisreed convert --read-as FORMAT` reads it as that format",
        )


# sentences on one file; nobody reads more, and a file may give cause for as many as it has lines
_MOST_NOTES = 50

_HEAD = 4000  # characters that tell a format


def _cues(script: Script, options: WriteOptions, *, mark: bool) -> Sequence[Cue]:
    cues = script.laid_out(options.rules, mark_speakers=mark)
    # Before words become cues of their own, which are too short to move.
    if options.cuts:
        cues = on_shots(cues, options.cuts, options.rules)
    if options.each_word:
        return words_as_cues(cues)
    return cues


def _one_by_one(script: Script, options: WriteOptions) -> Sequence[Cue]:
    """Cues for a format that has no places on the screen, where those of several speakers would
    cover each other.

    What was read as cues keeps its times: somebody has chosen them.
    """
    cues = _cues(script, options, mark=True)
    if script.cues is not None:
        return cues
    return without_overlaps(cues, options.rules.for_language(script.tongue))


def _webvtt(script: Script, options: WriteOptions, name: str) -> str:
    has_inner = bool(options.inner_times)
    return write_webvtt(_cues(script, options, mark=False), inner_times=has_inner, head=script.head)


def _of_cues(read: Callable[[str], Subtitles]) -> Reader:
    def reader(text: str) -> Script:
        found = read(text)
        return Script(
            None, tuple(found.cues), (), found.language, tuple(found.head), tuple(found.remarks)
        )

    return reader


FORMATS = (
    OutputFormat(
        "txt",
        ".txt",
        lambda script, options, name: texts.write_plain(script),
        other_suffixes=(".text",),
    ),
    OutputFormat(
        "timed",
        ".timed.txt",
        lambda script, options, name: texts.write_timed(script),
        texts.read_timed,
    ),
    OutputFormat(
        "md",
        ".md",
        lambda script, options, name: texts.write_markdown(script, name),
        texts.read_markdown,
        media_type="text/markdown",
        other_suffixes=(".markdown",),
    ),
    OutputFormat(
        "srt",
        ".srt",
        lambda script, options, name: write_srt(_one_by_one(script, options)),
        _of_cues(read_srt),
        media_type="application/x-subrip",
        says=SAID_BY_ALL,
        sign=re.compile(r"^\d+[ \t]*\n\s*\d{1,2}:\d\d:\d\d,\d{1,3} *-->", re.MULTILINE),
        is_subtitles=True,
    ),
    OutputFormat(
        "vtt",
        ".vtt",
        _webvtt,
        _of_cues(read_webvtt),
        media_type="text/vtt",
        says=EVERYTHING,
        sign=re.compile(r"\AWEBVTT(?:[ \t\n]|$)"),
        is_subtitles=True,
    ),
    OutputFormat(
        "ttml",
        ".ttml",
        lambda script, options, name: write_ttml(
            _cues(script, options, mark=True), script.tongue, script.head
        ),
        _of_cues(read_ttml),
        media_type="application/ttml+xml",
        says=SAID_BY_ALL | {NAMES, OVERLAPS, "region", "regions"},
        other_suffixes=(".xml", ".dfxp"),
        sign=re.compile(r"\A<(?s:.*)<?(?:\w+:)?tt[\s>]"),
        is_subtitles=True,
    ),
    OutputFormat(
        "ebuttd",
        ".ebuttd.xml",
        lambda script, options, name: write_ebuttd(
            _cues(script, options, mark=True), script.tongue
        ),
        _of_cues(read_ttml),
        media_type="application/ttml+xml",
        says=SAID_BY_ALL | {OVERLAPS},
    ),
    OutputFormat(
        "html",
        ".html",
        lambda script, options, name: write_page(script, name),
        media_type="text/html",
    ),
    OutputFormat(
        "chapters",
        ".chapters.vtt",
        lambda script, options, name: write_webvtt(chapters(script.passages)),
        _of_cues(read_webvtt),
        media_type="text/vtt",
    ),
    OutputFormat(
        "csv",
        ".csv",
        lambda script, options, name: tables.write_table(script, options, delimiter=","),
        lambda text: tables.read_table(text, delimiter=","),
        media_type="text/csv",
    ),
    OutputFormat(
        "tsv",
        ".tsv",
        lambda script, options, name: tables.write_table(script, options, delimiter="\t"),
        lambda text: tables.read_table(text, delimiter="\t"),
        media_type="text/tab-separated-values",
    ),
    OutputFormat(
        "ctm", ".ctm", lambda script, options, name: tables.write_ctm(script, name), tables.read_ctm
    ),
    OutputFormat(
        "json",
        ".transcript.json",
        lambda script, options, name: to_json(script.as_transcript(name)).decode(),
        lambda text: Script(from_json(text.encode())),
        media_type="application/json",
        other_suffixes=(".json",),
        sign=re.compile(r'\A\{(?s:.*)"mantisreed-transcript"'),
    ),
)
"""Everything about a format is its row: the command line, the HTTP API, what is told as dropped and
what a file is taken for are made of it.
"""

OUTPUT_FORMATS = {form.name: form for form in FORMATS}

TRANSCRIPT_FORMAT = "json"
"""The format of transcripts themselves."""


def media_types() -> dict[str, str]:
    """The media types of texts, each with the name of its format; the best first where anything
    will do.
    """
    found: dict[str, str] = {}
    # What most people mean by a text, and what has everything.
    for name in ("txt", TRANSCRIPT_FORMAT, *OUTPUT_FORMATS):
        # The first of several formats with one type is the one that is meant.
        found.setdefault(OUTPUT_FORMATS[name].media_type, name)
    return found


def _other_subtitles(name: str, text: str) -> OutputFormat | None:
    """The format of subtitles that a text is in, where it is not the one that its name says; None
    where it is. A name such as `marsh.txt` says none.
    """
    if not OUTPUT_FORMATS[name].is_subtitles and OUTPUT_FORMATS[name].read_text is not None:
        return None
    # A text that begins as its name says is that, whatever its times look like.
    sign = OUTPUT_FORMATS[name].sign
    found = _sniffed(text)
    if found is None or not found.is_subtitles or (sign and sign.search(_head(text))):
        return None
    return found


def _head(text: str) -> str:
    """What tells a format: a byte order mark and blank lines do not."""
    return text.lstrip("\ufeff \t\n")[:_HEAD]


def _sniffed(text: str) -> OutputFormat | None:
    """The format that a text looks like; None where it could be any."""
    head = _head(text)
    for form in OUTPUT_FORMATS.values():
        if form.sign is not None and form.sign.search(head):
            return form
    return None


def format_of_text(content: bytes, encoding: str | None = None) -> OutputFormat:
    """The format of a file whose name is not known, such as standard input.

    Raises:
        InputError: the text looks like none that can be told by its text.
    """
    found = _sniffed(decoded(content, encoding)[0])
    if found is None:
        raise InputError(
            "the format of standard input is not known by its text",
            advice="`mantisreed convert --read-as FORMAT` reads it as that format",
        )
    return found


def chosen_formats(names: Sequence[str]) -> tuple[OutputFormat, ...]:
    """The formats with these names, each once.

    Raises:
        InputError: there is no such format, or none is named.
    """
    unknown = [name for name in names if name not in OUTPUT_FORMATS]
    if unknown or not names:
        if unknown:
            what = f"unknown output format {unknown[0]!r}"
        else:
            what = "there is no output format"
        raise InputError(
            what, advice=f"formats are {', '.join(OUTPUT_FORMATS)}, separated by commas"
        )
    return tuple(OUTPUT_FORMATS[name] for name in dict.fromkeys(names))


def format_in(file: PurePath, content: bytes) -> OutputFormat:
    """The format that a file is repaired in: what its name says or, where a file of that has no
    times, what its text is: subtitles in `marsh.txt` stay what they are.

    Raises:
        InputError: its name says no format.
    """
    said = format_of(file)
    if said.read_text is not None:
        return said
    return _other_subtitles(said.name, decoded(content)[0]) or said


def format_of(file: PurePath) -> OutputFormat:
    """The format that a file's name says.

    Raises:
        InputError: it says none.
    """
    name = file.name.lower()
    forms = OUTPUT_FORMATS.values()
    # `.timed.txt` ends in `.txt` too.
    for form in sorted(forms, key=lambda form: -len(form.suffix)):
        if name.endswith(form.suffix):
            return form
    for form in forms:
        if file.suffix.lower() in form.other_suffixes:
            return form
    suffixes = ", ".join(form.suffix for form in forms)
    raise InputError(
        f"the format of {file.name!r} is not known by its ending", advice=f"endings are {suffixes}"
    )
