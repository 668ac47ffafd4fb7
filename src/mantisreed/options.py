"""Every option of a transcription, declared once: the command line, the HTTP API, its description
and their checks are made from these rows.

Adding one is a row here and its use in `pipeline/options_given.py`. Only the table is here, so that
`--help` stays light.
"""

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Literal

    Kind = Literal["text", "texts", "names", "flag", "number", "count", "duration", "money"]


class Option:
    """One option.

    Attributes:
        name: in Python, in JSON and in queries; on the command line it is `flag`.
        help: what it does, as the help says it.
        kind: what its value is: a text, several texts (given again and again), names with commas
            between, true or false, a number, a whole number from 1, a duration such as `90s`, or
            money in the engine's currency.
        metavar: what stands for the value in the help; None for a flag, and for one with choices.
        default: what holds where it is not given, for people; None where that is nothing.
        choices: the only values; empty for any.
        is_in_api: whether requests of the HTTP API may have it. None that names files or programs
            of this machine may.
    """

    __slots__ = ("choices", "default", "help", "is_in_api", "kind", "metavar", "name")

    def __init__(
        self,
        name: str,
        help: str,  # noqa: A002  as argparse calls it
        kind: "Kind" = "text",
        *,
        metavar: str | None = None,
        default: str | None = None,
        choices: tuple[str, ...] = (),
        is_in_api: bool = False,
    ) -> None:
        self.name, self.help, self.kind = name, help, kind
        self.metavar, self.default, self.choices = metavar, default, choices
        self.is_in_api = is_in_api

    @property
    def flag(self) -> str:
        """On the command line; one of several texts is named at a time there."""
        if self.name == "hints":
            return "--hint"
        return f"--{self.name.replace('_', '-')}"


TRACK = (
    Option(
        "track",
        "Which audio track of a recording, from 1",
        "count",
        metavar="N",
        default="the default track, or the first with speech",
        is_in_api=True,
    ),
)

FOLDERS = (
    Option(
        "include", "Take only files whose names match, such as *.wav", "texts", metavar="PATTERN"
    ),
    Option("exclude", "Leave out files whose names match", "texts", metavar="PATTERN"),
)

TABLES = (
    Option(
        "column", "Column of a table that names the recordings", metavar="NAME", default="source"
    ),
)

FEEDS = (
    Option("newest", "Take only the N newest entries of a feed", "count", metavar="N"),
    Option(
        "since",
        "Take only entries of a feed since this date or age (2026-11-03, 12h, 7d)",
        metavar="TIME",
    ),
)

ENGINE = (
    Option(
        "engine",
        "Engine card, or NAME:PROFILE; `run` tries A,B in turn",
        metavar="NAME",
        default="as in the settings",
        is_in_api=True,
    ),
)

PIECES = (
    Option(
        "channels",
        "Send channels mixed, apart, or only N",
        metavar="mix|apart|N",
        default="mix",
        is_in_api=True,
    ),
    Option(
        "piece_length",
        "Cut into pieces of at most this, such as 10min",
        "duration",
        metavar="DURATION",
        default="by the engine's card",
        is_in_api=True,
    ),
    Option(
        "overlap",
        "Let all neighbouring pieces share this much",
        "duration",
        metavar="DURATION",
        default="4s, only where there is no pause",
    ),
    Option("keep_silence", "Send long silence as well", "flag"),
)

REQUEST = (
    Option(
        "language",
        "Language, such as de-AT",
        metavar="TAG",
        default="as set, else any",
        is_in_api=True,
    ),
    Option(
        "translate_to",
        "Answer in this language, where the engine can translate",
        metavar="TAG",
        is_in_api=True,
    ),
    Option(
        "hints",
        "Name or rare word to expect; can be given again",
        "texts",
        metavar="WORD",
        is_in_api=True,
    ),
)

TRANSLATIONS = (
    Option(
        "translate_with",
        "Write translations by this text service too, in the languages of --translate-to (de,fr)",
        metavar="SERVICE",
    ),
    Option("bilingual", "Write cues in both languages as well", "flag"),
    Option(
        "back_translate_with",
        "Let this service translate back, into a table for checking",
        metavar="SERVICE",
    ),
    Option("no_follow_ups", "Skip the follow-ups ([follow_up.NAME]) of the settings", "flag"),
)

FORMATS = (
    Option(
        "to",
        "Output formats: txt, timed, md, srt, vtt, ttml, ebuttd, html, chapters, csv, tsv, ctm, "
        "json",
        "names",
        metavar="FORMATS",
        default="as in the settings, else txt,srt,vtt,json",
        is_in_api=True,
    ),
)

OUTPUT = (
    Option(
        "into",
        "Folder or s3:// address for outputs",
        metavar="DIR",
        default="as in the settings, else transcripts/",
    ),
    Option("overwrite", "Overwrite outputs that were edited", "flag"),
)

AFRESH = (Option("afresh", "Ignore kept replies: send, and pay, again", "flag", is_in_api=True),)

SPENDING = (
    *AFRESH,
    Option(
        "second_opinion",
        "Send the doubtful stretches, and only them, to this engine too; keep the better reading "
        "of each",
        metavar="ENGINE",
        is_in_api=True,
    ),
    Option(
        "spend_limit",
        "Pay at most, in engine currency",
        "money",
        metavar="AMOUNT",
        default="no limit",
        is_in_api=True,
    ),
)

ROWS = (
    Option(
        "words",
        "Write a cue for each word, or times inside the cues of WebVTT",
        choices=("cues", "inner"),
    ),
    Option(
        "rows",
        "Write a row of CSV and TSV for each of these",
        choices=("words", "passages", "cues"),
        default="passages",
    ),
    Option("raw_cells", "Leave cells of CSV and TSV that look like formulas as they are", "flag"),
)

WORDING = (
    Option(
        "strong_words",
        "Keep strong words, mask them as d***, or leave them out",
        choices=("keep", "mask", "drop"),
        default="as in the settings, else keep",
    ),
    Option(
        "strong_words_file", "Take strong words from this list, one on each line", metavar="FILE"
    ),
    Option("replace", "Apply these corrections: wrong -> right on each line", metavar="FILE"),
)

REDACTION = (
    Option(
        "redact",
        "Hide mail addresses, numbers of phones, cards and accounts, and digits",
        "flag",
        is_in_api=True,
    ),
    Option("redact_kinds", "Hide only these: mail, phone, card, iban, digits", metavar="KINDS"),
    Option("redact_names", "Hide these names, one on each line", metavar="FILE"),
    Option(
        "redact_pattern",
        "Hide what matches; can be given again",
        "texts",
        metavar="REGEX",
    ),
)

LAYOUT = (
    Option(
        "layout",
        "Layout rules: broadcast, phone, single, slow, children, or your own",
        metavar="NAME",
        default="as in the settings, else broadcast",
        is_in_api=True,
    ),
    Option("line_length", "Characters in a line", "count", metavar="N", default="by the layout"),
    Option("lines", "Lines in a cue", "count", metavar="N", default="by the layout"),
    Option(
        "max_cps",
        "Highest reading speed, in characters a second",
        "number",
        metavar="N",
        default="by the layout",
    ),
    Option(
        "max_wpm",
        "Highest reading speed, in words a minute",
        "number",
        metavar="N",
        default="by the layout",
    ),
    Option(
        "shortest",
        "Shortest time that a cue stands",
        "duration",
        metavar="DURATION",
        default="by the layout",
    ),
    Option(
        "longest",
        "Longest time that a cue stands",
        "duration",
        metavar="DURATION",
        default="by the layout",
    ),
    Option(
        "gap",
        "Shortest time between two cues, such as 80ms or 2f (frames)",
        metavar="DURATION",
        default="by the layout",
    ),
    Option(
        "frame_rate",
        "Put all times on frames of 25, 29.97, ... a second",
        "number",
        metavar="N",
    ),
    Option(
        "longest_pause",
        "Longest silence inside a cue",
        "duration",
        metavar="DURATION",
        default="by the layout",
    ),
    Option(
        "speakers",
        "How to tell speakers apart",
        choices=("dash", "dash-each", "name", "none"),
        default="by the layout",
    ),
    Option(
        "sounds",
        "Give [a door slams] a cue of its own, or leave it out",
        choices=("apart", "drop"),
        default="by the layout",
    ),
)

OPTIONS = (
    *TRACK,
    *FOLDERS,
    *TABLES,
    *FEEDS,
    *ENGINE,
    *PIECES,
    *REQUEST,
    *TRANSLATIONS,
    *FORMATS,
    *OUTPUT,
    *SPENDING,
    *ROWS,
    *WORDING,
    *REDACTION,
    *LAYOUT,
)
"""All of them; no two have the same name."""

API_OPTIONS = {option.name: option for option in OPTIONS if option.is_in_api}
"""Those that a request of the HTTP API may have, by name."""
