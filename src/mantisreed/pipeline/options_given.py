"""From what somebody gave, on the command line or over HTTP, to what a run wants.

Values have the names of `mantisreed.options`, and are texts, numbers or lists as those rows say.
None, or nothing, takes what the settings say. Wherever they come from, they are understood here.
"""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from mantisreed.audio.shots import shot_changes
from mantisreed.errors import InputError, SettingsError
from mantisreed.exports.redaction import Redaction, redaction_from
from mantisreed.exports.script import WriteOptions
from mantisreed.exports.word_lists import wording_from
from mantisreed.options import OPTIONS
from mantisreed.pipeline.options import RunOptions, Translation
from mantisreed.pipeline.preparing.cut_limits import PieceOptions, piece_options_given
from mantisreed.settings import check_language
from mantisreed.sources.recordings import Selection
from mantisreed.subtitles.frames import exact_rate
from mantisreed.subtitles.rules import DEFAULT_LAYOUT, LAYOUTS, LayoutRules
from mantisreed.units import duration_given, moment_given, money_given
from mantisreed.workspace import Workspace, open_workspace

Given = Mapping[str, Any]
"""Values by the names of their options; one that is not there was not given."""

_FLAGS = {option.name: option.flag for option in OPTIONS}
_DURATIONS = ("shortest", "longest", "gap", "longest_pause")
_LAYOUT = (
    "line_length",
    "lines",
    "max_cps",
    "max_wpm",
    *_DURATIONS,
    "frame_rate",
    "speakers",
    "sounds",
)


def flag_of(name: str) -> str:
    """How the command line calls an option."""
    return _FLAGS[name]


def run_options(
    workspace: Workspace,
    given: Given,
    *,
    wait: bool = True,
    called: Callable[[str], str] = flag_of,
) -> RunOptions:
    """What a run wants.

    Args:
        workspace: with the settings that stand where an option is not given.
        given: the options.
        wait: until all replies are there.
        called: how whoever gave them calls an option, for errors.

    Raises:
        InputError: one of them makes no sense.
    """
    service = given.get("translate_with")
    translate_to = given.get("translate_to")
    wanted = _translations(workspace, given)
    if service is not None:
        translate_to = None  # the service translates, not the engine
    return RunOptions(
        engine=given.get("engine"),
        language=given.get("language"),
        translate_to=translate_to,
        hints=given.get("hints"),
        into=given.get("into"),
        selection=selection(given),
        to=format_names(given.get("to"), called("to")),
        pieces=piece_options(given, called),
        overwrite=bool(given.get("overwrite")),
        afresh=bool(given.get("afresh")),
        second_opinion=given.get("second_opinion"),
        spend_limit=money_given(given.get("spend_limit"), called("spend_limit")),
        wait=wait,
        translations=wanted,
        is_followed=not given.get("no_follow_ups"),
        writing=write_options(workspace, given),
    )


def selection(given: Given) -> Selection:
    """Which recordings of folders, tables and feeds are taken.

    Raises:
        InputError: a date or an age makes no sense.
    """
    return Selection(
        tuple(given.get("include") or ()),
        tuple(given.get("exclude") or ()),
        given.get("column"),
        given.get("newest"),
        moment_given(given.get("since"), "--since"),
    )


def piece_options(given: Given, called: Callable[[str], str] = flag_of) -> PieceOptions:
    """How recordings are prepared.

    Raises:
        InputError: an option makes no sense.
    """
    return piece_options_given(
        called,
        track=given.get("track"),
        channels=given.get("channels"),
        piece_length=given.get("piece_length"),
        overlap=given.get("overlap"),
        keep_silence=bool(given.get("keep_silence")),
    )


def _translations(workspace: Workspace, given: Given) -> tuple[Translation, ...]:
    """The translations that a text service is to make.

    Raises:
        InputError: a language is missing or none, or an option has no effect.
    """
    service = given.get("translate_with")
    if service is None:
        for name in ("bilingual", "back_translate_with"):
            if given.get(name):
                raise InputError("has no effect without --translate-with", where=flag_of(name))
        return ()
    named = given.get("translate_to")
    targets = _names(named)
    if not targets:
        targets = _only_target(workspace, service, given.get("language"))
    # Several, and nobody said which.
    if len(targets) != 1 and not named:
        raise InputError("say into which language: --translate-to de", where="--translate-with")
    return tuple(
        Translation(
            service,
            check_language(tag),
            bool(given.get("bilingual")),
            given.get("back_translate_with"),
        )
        for tag in targets
    )


def _only_target(workspace: Workspace, service: str, language: str | None) -> list[str]:
    """The languages that a service translates into, other than the one that is spoken: where it is
    only one, it need not be named.
    """
    accepts = workspace.service(service).accepts
    spoken = (language or workspace.settings.language or "").partition("-")[0].lower()
    known = accepts.targets or accepts.languages
    return [tag for tag in known if tag.partition("-")[0].lower() != spoken]


def layout_rules(workspace: Workspace | None, given: Given) -> LayoutRules:
    """How cues are laid out: as given, over the settings where there are some.

    Raises:
        InputError: there is no such layout, or a number makes no sense.
    """
    layout = given.get("layout")
    if workspace is not None:
        rules = workspace.layout(layout)
    elif (layout or DEFAULT_LAYOUT) in LAYOUTS:
        rules = LAYOUTS[layout or DEFAULT_LAYOUT]
    else:
        raise InputError(
            f"there is no layout {layout!r}", advice=f"there are: {', '.join(LAYOUTS)}"
        )
    changes = {name: given[name] for name in _LAYOUT if given.get(name) is not None}
    # Before the durations, as frames are no unit of time by themselves.
    if "gap" in changes:
        changes["gap"] = _without_frames(
            changes["gap"], changes.get("frame_rate") or rules.frame_rate
        )
    for name in _DURATIONS:
        if name in changes:
            changes[name] = duration_given(changes[name], flag_of(name))
    try:
        return rules.changed(changes)
    except msgspec.ValidationError as error:
        raise InputError(f"the layout makes no sense: {str(error).lower()}") from error


def _without_frames(gap: str, rate: float | None) -> str:
    """A duration in frames, such as `2f`, in seconds; any other as it is.

    Raises:
        InputError: nobody says how many frames a second has.
    """
    number = gap.strip().removesuffix("f").strip()
    if not gap.strip().endswith("f") or not number.isdecimal():
        return gap
    if rate is None:
        raise InputError(
            "frames need a frame rate", where="--gap", advice="say --frame-rate 25 as well"
        )
    return f"{float(int(number[:4]) / exact_rate(rate)):.6f}s"


def write_options(workspace: Workspace | None, given: Given) -> WriteOptions:
    """How formats are written: as given, over the settings where there are some.

    Raises:
        InputError: as `layout_rules` does, or a list of words cannot be read.
    """
    strong_words = given.get("strong_words")
    own_list, glossary = _path(given.get("strong_words_file")), _path(given.get("replace"))
    if workspace is not None:
        wording = workspace.wording(strong_words, own_list, glossary)
    else:
        wording = wording_from(strong_words or "keep", own_list, glossary)
    words = given.get("words")
    return WriteOptions(
        rules=layout_rules(workspace, given),
        each_word=words == "cues",
        inner_times=True if words == "inner" else None,
        rows=given.get("rows"),
        raw_cells=bool(given.get("raw_cells")),
        wording=wording,
        redaction=_redaction(workspace, given),
    )


def _redaction(workspace: Workspace | None, given: Given) -> Redaction | None:
    """What is hidden: as given, and what the settings say besides; None for nothing.

    Raises:
        InputError: there is no such kind, or a list cannot be read.
    """
    is_asked, kinds = given.get("redact"), given.get("redact_kinds")
    names, patterns = given.get("redact_names"), tuple(given.get("redact_pattern") or ())
    of_settings = None
    if workspace is not None:
        of_settings = workspace.redaction()
    # Whoever says nothing gets what the settings say.
    if not (is_asked or kinds or names or patterns):
        return of_settings
    known: tuple[str, ...] = ()
    if of_settings is not None:
        known = of_settings.names
    if not kinds:
        kinds = "all"
        if of_settings is not None and not is_asked:
            kinds = ",".join(of_settings.kinds)
    return redaction_from(kinds, _path(names), patterns, more_names=known)


def _path(given: str | None) -> Path | None:
    if given:
        return Path(given)
    return None


def with_shots(options: WriteOptions, video: str | None) -> WriteOptions:
    """The options with the shot changes of a video, if one is named.

    Raises:
        RecordingError: it cannot be read, or has no picture.
    """
    if video is None:
        return options
    return msgspec.structs.replace(options, cuts=tuple(shot_changes(video)))


def format_names(given: str | Sequence[str] | None, where: str = "--to") -> list[str] | None:
    """The names of formats, with commas between or one by one; None where nothing is given.

    Raises:
        InputError: it is given and names none.
    """
    if given is None:
        return None
    names = _names(given)
    if not names:
        raise InputError("there is no output format", where=where, advice=f"{where} srt,txt")
    return names


def _names(given: str | Sequence[str] | None) -> list[str]:
    """Names with commas between, or one by one."""
    if isinstance(given, str):
        given = given.split(",")
    return [name.strip() for name in given or () if name.strip()]


def workspace_if_any(config: str | None) -> Workspace | None:
    """The workspace; None where there is none here, and none is named.

    Raises:
        InputError: the one that is named is not there.
        SettingsError: something in its settings is wrong.
    """
    try:
        return open_workspace(config)
    except InputError as error:
        # Settings that are there and wrong are told, and not passed over.
        if config or isinstance(error, SettingsError):
            raise
        return None
