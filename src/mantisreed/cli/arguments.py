"""Arguments that several commands take, so that they read the same everywhere."""

import argparse

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from typing import Any

    from mantisreed.exports.redaction import Redaction
    from mantisreed.exports.script import WriteOptions
    from mantisreed.exports.word_lists import Strong
    from mantisreed.pipeline.options import RunOptions, Translation
    from mantisreed.pipeline.pieces import PieceOptions
    from mantisreed.sources.recordings import Selection
    from mantisreed.subtitles.rules import LayoutRules
    from mantisreed.workspace import Workspace


def at_least(least: int) -> "Callable[[str], int]":
    """What reads a whole number that is not smaller, for argparse."""

    def number(given: str) -> int:
        if not given.lstrip("+-").isdecimal() or int(given) < least:
            raise argparse.ArgumentTypeError(
                f"a whole number of {least} or more is expected, not {given!r}"
            )
        return int(given)

    return number


def new_file(given: str) -> str:
    """The name of a file that is to be written, for argparse: seen to be possible before anything
    is done.
    """
    from pathlib import Path

    from mantisreed.errors import InputError
    from mantisreed.files import check_new_file

    try:
        check_new_file(Path(given))
    except InputError as error:
        raise argparse.ArgumentTypeError(str(error)) from error
    return given


def new_picture(given: str) -> str:
    """The same for a picture."""
    if not given.lower().endswith(".png"):
        raise argparse.ArgumentTypeError(
            f"a picture is written as PNG: let the name {given!r} end in .png"
        )
    return new_file(given)


def share(given: str) -> float:
    """A number from 0 to 1, for argparse."""
    try:
        number = float(given)
    except ValueError:
        number = -1.0
    if not 0.0 <= number <= 1.0:
        raise argparse.ArgumentTypeError(f"a number from 0 to 1 is expected, not {given!r}")
    return number


def add_sources(parser: argparse.ArgumentParser) -> None:
    """The recordings, and which track of them."""
    parser.add_argument(
        "sources",
        nargs="+",
        metavar="SOURCE",
        help="a recording, a folder, table or feed of them, or an address (https://, s3://, ...); "
        "- is for stdin",
    )
    add_selection(parser)
    parser.add_argument(
        "--column",
        metavar="NAME",
        help="the column of a table that names the recordings (default: source)",
    )
    add_feeds(parser)


def add_feeds(parser: argparse.ArgumentParser) -> None:
    """Which entries of a feed are taken."""
    parser.add_argument(
        "--newest", type=at_least(1), metavar="N", help="of a feed only the N newest entries"
    )
    parser.add_argument(
        "--since", metavar="DATE", help="of a feed only what came since then (2026-11-03, 7d)"
    )


def add_selection(parser: argparse.ArgumentParser) -> None:
    """Which recordings of folders, and which track of them."""
    parser.add_argument(
        "--track",
        type=at_least(1),
        metavar="N",
        help="which track of sound, from 1 (default: the default one)",
    )
    parser.add_argument(
        "--include",
        action="append",
        metavar="PATTERN",
        help="only files in folders whose names are like *.wav",
    )
    parser.add_argument(
        "--exclude",
        action="append",
        metavar="PATTERN",
        help="no files in folders whose names are so",
    )


def selection(
    include: "Sequence[str] | None" = None,
    exclude: "Sequence[str] | None" = None,
    column: str | None = None,
    newest: int | None = None,
    since: str | None = None,
) -> "Selection":
    """What the arguments of `add_sources` say of folders, tables and feeds.

    Raises:
        InputError: a number or a date makes no sense.
    """
    from datetime import date, timedelta

    from mantisreed.errors import InputError
    from mantisreed.sources.recordings import Selection

    try:
        age = (since or "").removesuffix("d")
        if since is not None and age != since and age.isdecimal():
            day: date | None = date.today() - timedelta(days=int(age[:5]))
        else:
            if since is None:
                day = None
            else:
                day = date.fromisoformat(since)
    except (ValueError, OverflowError) as error:
        advice = "a date looks like 2026-11-03, a number of days like 7d"
        raise InputError(f"{since!r} is no date", where="--since", advice=advice) from error
    return Selection(tuple(include or ()), tuple(exclude or ()), column, newest, day)


def add_config(parser: argparse.ArgumentParser, default: str | None = None) -> None:
    """The settings file."""
    parser.add_argument(
        "--config",
        metavar="FILE",
        default=default,
        help="settings file (default: mantisreed.toml here or above)",
    )


def add_engine(parser: argparse.ArgumentParser) -> None:
    """The settings file and the engine."""
    add_config(parser)
    parser.add_argument(
        "--engine",
        metavar="NAME",
        help="engine card, or NAME:PROFILE (default: as in the settings)",
    )


def add_pieces(parser: argparse.ArgumentParser) -> None:
    """How recordings are cut and what of them is sent."""
    parser.add_argument(
        "--channels",
        metavar="mix|apart|N",
        help="all channels as one, each alone, or only number N (default: mix)",
    )
    parser.add_argument(
        "--piece-length", metavar="DURATION", help="cut into pieces of at most this, such as 10min"
    )
    parser.add_argument(
        "--overlap",
        metavar="DURATION",
        help="let all neighbouring pieces share this much (default: 4s, only where there is no "
        "pause)",
    )
    parser.add_argument("--keep-silence", action="store_true", help="send long silence as well")


def add_sending(parser: argparse.ArgumentParser) -> None:
    """What is asked of an engine, where the outputs go, and what it may cost."""
    add_engine(parser)
    parser.add_argument(
        "--language", metavar="TAG", help="language spoken, such as en or de-AT (default: any)"
    )
    parser.add_argument(
        "--translate-to", metavar="TAG", help="answer in this language, where the engine can"
    )
    parser.add_argument(
        "--hint",
        action="append",
        dest="hints",
        metavar="WORD",
        help="a name or rare word to expect",
    )
    add_translating(parser)
    add_formats(parser, "txt,srt,vtt,json by the settings")
    add_writing(parser)
    add_layout(parser)
    parser.add_argument(
        "--into", metavar="DIR", help="folder for outputs (default: transcripts/ by the settings)"
    )
    add_overwrite(parser)
    parser.add_argument(
        "--afresh", action="store_true", help="ignore kept replies: send, and pay, again"
    )
    parser.add_argument(
        "--second-opinion",
        metavar="ENGINE",
        help="Send the doubtful stretches, and only them, to this engine too; keep the better "
        "reading of each",
    )
    parser.add_argument(
        "--spend-limit",
        metavar="AMOUNT",
        help="stop before these recordings have cost more than this, in the engine's currency",
    )


def add_translating(parser: argparse.ArgumentParser) -> None:
    """What is done with each transcript."""
    group = parser.add_argument_group("what is done with each transcript")
    group.add_argument(
        "--translate-with",
        metavar="SERVICE",
        help="write translations by this text service too, in the languages of --translate-to "
        "(de,fr)",
    )
    group.add_argument(
        "--two-languages", action="store_true", help="write cues in both languages as well"
    )
    group.add_argument(
        "--back-with",
        metavar="SERVICE",
        help="let this service translate back, into a table for checking",
    )
    group.add_argument(
        "--no-follow-ups",
        action="store_true",
        help="leave out what [after.NAME] in the settings says",
    )


def translations(
    workspace: "Workspace",
    translate_with: str | None,
    translate_to: str | None,
    language: str | None,
    *,
    two_languages: bool,
    back_with: str | None,
) -> "tuple[Translation, ...]":
    """What the arguments of `add_translating` say.

    Raises:
        InputError: a language is missing or none, or an argument has no effect.
    """
    from mantisreed.errors import InputError
    from mantisreed.pipeline.options import Translation
    from mantisreed.workspace import check_language

    if translate_with is None:
        for option, is_given in (
            ("--two-languages", two_languages),
            ("--back-with", back_with is not None),
        ):
            if is_given:
                raise InputError("has no effect without --translate-with", where=option)
        return ()
    targets = [part.strip() for part in (translate_to or "").split(",") if part.strip()]
    if not targets:
        # Where only one other language can be meant, it need not be named.
        accepts = workspace.service(translate_with).accepts
        spoken = (language or workspace.settings.language or "").partition("-")[0].lower()
        targets = [
            tag
            for tag in accepts.targets or accepts.languages
            if tag.partition("-")[0].lower() != spoken
        ]
    if len(targets) != 1 and not translate_to:
        raise InputError("say into which language: --translate-to de", where="--translate-with")
    return tuple(
        Translation(translate_with, check_language(tag), two_languages, back_with)
        for tag in targets
    )


def add_overwrite(parser: argparse.ArgumentParser, what: str = "outputs that were edited") -> None:
    """Whether files that are there already may be written over."""
    parser.add_argument("--overwrite", action="store_true", help=f"overwrite {what}")


def add_formats(parser: argparse.ArgumentParser, default: str) -> None:
    """The output formats."""
    formats = "txt,timed,md,srt,vtt,ttml,csv,tsv,ctm,json"
    parser.add_argument(
        "--to", metavar="FORMATS", help=f"output formats, of {formats} (default: {default})"
    )


def add_layout(parser: argparse.ArgumentParser) -> None:
    """How cues are laid out."""
    group = parser.add_argument_group("how cues are laid out")
    group.add_argument(
        "--layout",
        metavar="NAME",
        help="a set of rules: broadcast, phone, single, slow, children, or your own",
    )
    group.add_argument(
        "--line-length", type=int, metavar="N", help="characters of a line (default: by the layout)"
    )
    group.add_argument("--lines", type=int, metavar="N", help="lines of a cue")
    group.add_argument(
        "--max-cps", type=float, metavar="N", help="characters a second that have to be read"
    )
    group.add_argument("--max-wpm", type=float, metavar="N", help="the same in words a minute")
    group.add_argument("--shortest", metavar="DURATION", help="how long a cue stands at least")
    group.add_argument("--longest", metavar="DURATION", help="how long a cue stands at most")
    group.add_argument(
        "--gap", metavar="DURATION", help="between two cues at least, such as 80ms or 2f (frames)"
    )
    group.add_argument(
        "--frame-rate",
        type=float,
        metavar="N",
        help="put all times on frames of 25, 29.97, ... a second",
    )
    group.add_argument("--longest-pause", metavar="DURATION", help="silence that a cue may bridge")
    group.add_argument(
        "--speakers",
        choices=("dash", "dash-each", "name", "none"),
        help="How to tell speakers apart",
    )
    group.add_argument(
        "--sounds",
        choices=("apart", "drop"),
        help="Give [a door slams] a cue of its own, or leave it out",
    )


def layout_rules(
    workspace: "Workspace | None", layout: str | None = None, **changes: "Any"
) -> "LayoutRules":
    """What the arguments of `add_layout` say, over the settings where there are some.

    Raises:
        InputError: there is no such layout, or a number makes no sense.
    """
    import msgspec

    from mantisreed.errors import InputError
    from mantisreed.subtitles.rules import DEFAULT_LAYOUT, LAYOUTS

    if workspace is not None:
        rules = workspace.layout(layout)
    elif (layout or DEFAULT_LAYOUT) in LAYOUTS:
        rules = LAYOUTS[layout or DEFAULT_LAYOUT]
    else:
        raise InputError(
            f"no layout is called {layout!r}", advice=f"there are: {', '.join(LAYOUTS)}"
        )
    changes["gap"] = _without_frames(
        changes.get("gap"), changes.get("frame_rate") or rules.frame_rate
    )
    for name in ("shortest", "longest", "gap", "longest_pause"):
        changes[name] = duration(changes.get(name), f"--{name.replace('_', '-')}")
    known = {name: value for name, value in changes.items() if value is not None}
    try:
        return rules.changed(known)
    except msgspec.ValidationError as error:
        raise InputError(f"the layout makes no sense: {str(error).lower()}") from error


def _without_frames(gap: str | None, rate: float | None) -> str | None:
    """A duration in frames, such as `2f`, in seconds; any other as it is.

    Raises:
        InputError: nobody says how many frames a second has.
    """
    from mantisreed.errors import InputError
    from mantisreed.subtitles.frames import exact_rate

    number = (gap or "").strip().removesuffix("f").strip()
    if gap is None or not gap.strip().endswith("f") or not number.isdecimal():
        return gap
    if rate is None:
        raise InputError(
            "frames need a frame rate", where="--gap", advice="say --frame-rate 25 as well"
        )
    return f"{float(int(number[:4]) / exact_rate(rate)):.6f}s"


def add_writing(parser: argparse.ArgumentParser) -> None:
    """Which words are written, and how; taken by `write_options`."""
    parser.add_argument(
        "--words",
        choices=("cues", "inner"),
        help="a cue for each word, or times inside the cues of WebVTT",
    )
    parser.add_argument(
        "--rows",
        choices=("words", "passages", "cues"),
        help="what a row of CSV and TSV is (default: passages)",
    )
    parser.add_argument(
        "--raw-cells",
        action="store_true",
        help="cells of CSV and TSV that look like formulas as they are",
    )
    group = parser.add_argument_group("words that are changed in what is written")
    group.add_argument(
        "--strong-words",
        choices=("keep", "mask", "drop"),
        help="write them, as d***, or not at all (default: keep)",
    )
    group.add_argument(
        "--strong-words-file", metavar="FILE", help="your own list, one word on each line"
    )
    group.add_argument("--replace", metavar="FILE", help="corrections: wrong -> right on each line")
    group = parser.add_argument_group("personal data, hidden in everything that is written")
    group.add_argument(
        "--redact",
        action="store_true",
        help="hide mail addresses, numbers of phones, cards and accounts, and digits",
    )
    group.add_argument(
        "--redact-kinds", metavar="KINDS", help="only these: mail, phone, card, iban, digits"
    )
    group.add_argument("--redact-names", metavar="FILE", help="names to hide, one on each line")
    group.add_argument(
        "--redact-pattern",
        action="append",
        default=[],
        metavar="REGEX",
        help="hide what is like this (can be given again)",
    )


def add_video(parser: argparse.ArgumentParser) -> None:
    """The picture that cues are laid on."""
    parser.add_argument(
        "--video",
        metavar="FILE",
        help="Find the shot changes in this, and let cues begin and end with them",
    )


def with_shots(options: "WriteOptions", video: str | None) -> "WriteOptions":
    """The options with the shot changes of a video, if one is named.

    Raises:
        RecordingError: it cannot be read, or has no picture.
    """
    if video is None:
        return options
    import msgspec

    from mantisreed.audio.shots import shot_changes

    return msgspec.structs.replace(options, cuts=tuple(shot_changes(video)))


def format_names(given: str | None) -> "list[str] | None":
    """The names in `--to`; None where it is not given.

    Raises:
        InputError: it is given and names none.
    """
    from mantisreed.errors import InputError

    if given is None:
        return None
    names = [name.strip() for name in given.split(",") if name.strip()]
    if not names:
        raise InputError("no output format is named", where="--to", advice="--to srt,txt")
    return names


def workspace_if_any(config: str | None) -> "Workspace | None":
    """The workspace; None where there is none here, and none is named.

    Raises:
        InputError: the one that is named is not there.
        SettingsError: something in its settings is wrong.
    """
    from pathlib import Path

    from mantisreed.errors import InputError, SettingsError
    from mantisreed.workspace import open_workspace

    try:
        return open_workspace(Path(config) if config else None)
    except InputError as error:
        if config or isinstance(error, SettingsError):
            raise
        return None


def write_options(
    workspace: "Workspace | None",
    *,
    words: str | None = None,
    rows: str | None = None,
    raw_cells: bool = False,
    strong_words: "Strong | None" = None,
    strong_words_file: str | None = None,
    replace: str | None = None,
    redact: bool = False,
    redact_kinds: str | None = None,
    redact_names: str | None = None,
    redact_pattern: "Sequence[str]" = (),
    **layout: "Any",
) -> "WriteOptions":
    """What the arguments of `add_writing` and `add_layout` say, over the settings where there are
    some.

    Raises:
        InputError: as `layout_rules` does, or a list of words cannot be read.
    """
    from pathlib import Path

    from mantisreed.exports.script import WriteOptions
    from mantisreed.exports.word_lists import wording_from

    if strong_words_file:
        own_list = Path(strong_words_file)
    else:
        own_list = None
    if replace:
        glossary = Path(replace)
    else:
        glossary = None
    if workspace is not None:
        wording = workspace.wording(strong_words, own_list, glossary)
    else:
        wording = wording_from(strong_words or "keep", own_list, glossary)
    return WriteOptions(
        rules=layout_rules(workspace, **layout),
        each_word=words == "cues",
        inner_times=True if words == "inner" else None,
        rows=rows,
        raw_cells=raw_cells,
        wording=wording,
        redaction=_redaction(workspace, redact, redact_kinds, redact_names, tuple(redact_pattern)),
    )


def _redaction(
    workspace: "Workspace | None",
    is_asked: bool,
    kinds: str | None,
    names: str | None,
    patterns: tuple[str, ...],
) -> "Redaction | None":
    """What is hidden: as given, and what the settings say besides; None for nothing.

    Raises:
        InputError: there is no such kind, or a list cannot be read.
    """
    from pathlib import Path

    from mantisreed.exports.redaction import redaction_from

    if workspace is not None:
        of_settings = workspace.redaction()
    else:
        of_settings = None
    if not (is_asked or kinds or names or patterns):
        return of_settings
    chosen = kinds or ("all" if is_asked or of_settings is None else ",".join(of_settings.kinds))
    if of_settings is not None:
        known = of_settings.names
    else:
        known = ()
    return redaction_from(chosen, Path(names) if names else None, patterns, more_names=known)


def described_changes(changes: "Mapping[str, int]") -> list[str]:
    """How often each word was changed, for people."""
    return [
        f"{change}, {count} time{'s' if count > 1 else ''}" for change, count in changes.items()
    ]


def add_report(parser: argparse.ArgumentParser) -> None:
    """How results are given out."""
    parser.add_argument(
        "--json", action="store_true", dest="as_json", help="results as JSON on stdout"
    )
    parser.add_argument(
        "--report",
        type=new_file,
        metavar="FILE.csv",
        help="write a row for each recording to FILE.csv as well",
    )


def add_jobs(parser: argparse.ArgumentParser, default: str) -> None:
    """Jobs by their ids; `default` says which are meant without."""
    parser.add_argument(
        "jobs",
        nargs="*",
        metavar="ID",
        help=f"a job, by any beginning of its id (default: {default})",
    )


def run_options(workspace: "Workspace", *, wait: bool = True, **given: "Any") -> "RunOptions":
    """What the arguments of `add_sources`, `add_sending` and `add_pieces` say.

    Args:
        workspace: with the settings that stand where an argument is not given.
        wait: until all replies are there.
        given: the arguments by their names.

    Raises:
        InputError: one of them makes no sense.
    """
    from mantisreed.pipeline.options import RunOptions
    from mantisreed.units import money_given

    pieces = {
        name: given.pop(name, None)
        for name in ("track", "channels", "piece_length", "overlap", "keep_silence")
    }
    direct = {
        name: given.pop(name, None)
        for name in ("engine", "language", "translate_to", "hints", "into")
    }
    service = given.pop("translate_with", None)
    wanted = translations(
        workspace,
        service,
        direct["translate_to"],
        direct["language"],
        two_languages=bool(given.pop("two_languages", False)),
        back_with=given.pop("back_with", None),
    )
    if service is not None:
        direct["translate_to"] = None  # the service translates, not the engine
    chosen = selection(
        *(given.pop(name, None) for name in ("include", "exclude", "column", "newest", "since"))
    )
    return RunOptions(
        **direct,
        selection=chosen,
        to=format_names(given.pop("to", None)),
        pieces=piece_options(**pieces),
        overwrite=bool(given.pop("overwrite", False)),
        afresh=bool(given.pop("afresh", False)),
        second_opinion=given.pop("second_opinion", None),
        spend_limit=money_given(given.pop("spend_limit", None), "--spend-limit"),
        wait=wait,
        translations=wanted,
        is_followed=not given.pop("no_follow_ups", False),
        writing=write_options(workspace, **given),
    )


def piece_options(
    track: int | None = None,
    channels: str | None = None,
    piece_length: str | None = None,
    overlap: str | None = None,
    keep_silence: bool | None = None,
) -> "PieceOptions":
    """What the arguments of `add_sources` and `add_pieces` say.

    Raises:
        InputError: one of them makes no sense.
    """
    from mantisreed.pipeline.pieces import piece_options_given

    return piece_options_given(
        lambda name: f"--{name.replace('_', '-')}",
        track=track,
        channels=channels,
        piece_length=piece_length,
        overlap=overlap,
        keep_silence=bool(keep_silence),
    )


def duration(given: str | None, option: str) -> float | None:
    """Seconds; None where nothing is given.

    Raises:
        InputError: it is no duration.
    """
    from mantisreed.units import duration_given

    return duration_given(given, option)
