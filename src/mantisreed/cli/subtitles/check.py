"""`mantisreed check`: what in subtitles breaks the layout rules or the format."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import count
from pathlib import Path
from typing import Any

from mantisreed.cli.console import Console
from mantisreed.errors import InputError
from mantisreed.exports.formats import format_in
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.files import printable, write_new, write_whole
from mantisreed.pipeline.options_given import layout_rules, workspace_if_any
from mantisreed.subtitles.check import Finding, check_cues, check_format, check_speech
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.fixing import fixed
from mantisreed.subtitles.remarks import notes_of
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.units import clock, count_of, counts_of
from mantisreed.workbench.exporting import ReadOptions, read_script, speech_of

_SAMPLE = 50  # cues that tell the script


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `check` is asked for; its arguments tell the same."""

    files: Sequence[str]
    config: str | None = None
    fix: bool = False
    language: str | None = None
    recording: str | None = None
    encoding: str | None = None
    plot: str | None = None
    as_json: bool = False
    options: dict[str, Any] = field(default_factory=dict)


def run(console: Console, asked: Arguments) -> int:
    """List what is found; 1 when something is, and was not fixed."""
    rules = layout_rules(workspace_if_any(asked.config), asked.options)
    if asked.recording:
        speech = speech_of(Path(asked.recording))[0]
    else:
        speech = ()
    described, is_clean, drawn = [], True, []
    for name in asked.files:
        script = read_script(Path(name), ReadOptions(encoding=asked.encoding))
        if script.cues is None:
            raise InputError(
                "there are no cues in it",
                where=printable(name),
                advice="`mantisreed convert` makes some",
            )
        cues: Sequence[Cue] = script.cues
        # The script tells where the file does not: full-width signs have other lengths.
        own = rules.for_language(script.language, " ".join(cue.text for cue in cues[:_SAMPLE]))
        tongue = asked.language or script.language
        found = [
            *check_format(script.remarks),
            *check_cues(cues, own, tongue),
            *check_speech(cues, speech),
        ]
        # Format, cues and speech are judged apart, and read together.
        findings = sorted(found, key=lambda one: one.cue)
        notes = notes_of(remark for remark in script.remarks if not remark.allowed)
        drawn.append((Path(name).name, cues))
        if asked.fix and findings:
            repair = _fixed(Path(name), script, own, tongue, findings)
            _tell_repair(console, name, findings, repair)
            cues, findings = repair.cues, repair.findings
            notes = ()
        is_clean = is_clean and not findings
        if asked.as_json:
            described.append(_described(name, cues, findings, notes))
        else:
            _print(console, name, cues, findings, notes)
    if asked.plot is not None:
        from mantisreed.exports.plots import draw_cues

        draw_cues(drawn, rules, Path(asked.plot))
    if asked.as_json:
        console.document({"files": described})
    if is_clean:
        return 0
    return 1


@dataclass(frozen=True, slots=True)
class _Repair:
    """What came of repairing a file.

    Attributes:
        cues, findings: as they are now.
        before: where the file as it was is kept; None when nothing was changed.
    """

    cues: Sequence[Cue]
    findings: list[Finding]
    before: Path | None


def _fixed(
    file: Path,
    script: Script,
    rules: LayoutRules,
    language: str | None,
    findings: Sequence[Finding],
) -> _Repair:
    """Repair what breaks a rule, write, and check again."""
    cues = fixed(script.cues or (), rules, language, findings)
    content = file.read_bytes()
    form = format_in(file, content)
    written = form.write(replace(script, cues=tuple(cues)), WriteOptions(rules=rules))
    before = None
    # Nothing is kept and nothing is told where nothing changes.
    if written != content:
        before = _kept_before(file)
        write_whole(file, written)
    return _Repair(cues, check_cues(cues, rules, language), before)


_WHY_NOT = {
    **dict.fromkeys(
        ("overlap", "gap", "longest"),
        "a shorter time would be too short to read",
    ),
    **dict.fromkeys(
        ("shortest", "max-cps", "max-wpm", "flicker"), "there is no room before the next cue"
    ),
    **dict.fromkeys(
        ("lines", "line-length"), "its lines are those of its speakers, or a word is too long"
    ),
    **dict.fromkeys(("split", "stranded", "orphan"), "no better place to break fits"),
    "dash": "nobody but you knows who speaks",
}
"""Why a rule may stay broken."""


def _tell_repair(console: Console, name: str, findings: Sequence[Finding], repair: _Repair) -> None:
    """Say what was repaired, rule by rule, and why the rest was not."""
    before = Counter(one.rule for one in findings)
    after = Counter(one.rule for one in repair.findings)
    if repair.before is None:
        console.note(f"{printable(name)}: nothing could be fixed, and nothing was changed")
    else:
        console.note(
            f"{printable(name)}: fixed; the file as it was is kept as {printable(repair.before)}"
        )
    for rule in sorted(before | after):
        why = f": {_WHY_NOT[rule]}" if after[rule] and rule in _WHY_NOT else ""
        console.note(f"  {rule}: {before[rule]} before, {after[rule]} now{why}")


def _kept_before(file: Path) -> Path:
    """Keep a file as it is under a name that no earlier version has."""
    content = file.read_bytes()
    for number in count(1):
        before = file.with_name(
            f"{file.name}.before" if number == 1 else f"{file.name}.before-{number}"
        )
        try:
            write_new(before, content)
        except FileExistsError:  # an earlier version has that name
            continue
        return before
    raise AssertionError("unreachable")


def _described(
    name: str, cues: Sequence[Cue], findings: Sequence[Finding], notes: Sequence[str]
) -> dict[str, Any]:
    return {
        "file": printable(name),
        "cues": len(cues),
        "findings": list(map(_as_json, findings)),
        "notes": list(notes),
    }


def _as_json(finding: Finding) -> dict[str, Any]:
    """A finding with its numbers as numbers, their unit in their names."""
    if finding.unit:
        unit = f"_{finding.unit}"
    else:
        unit = ""
    return {
        "cue": finding.cue,
        "start_seconds": round(finding.start, 3),
        "rule": finding.rule,
        f"found{unit}": finding.value if finding.unit else finding.found,
        f"allowed{unit}": finding.limit if finding.unit else finding.allowed,
        "text": finding.text,
        "line": finding.line,
    }


_HEADINGS = (">cue", "time", "rule", "found", "allowed", "text")


def _row_of(finding: Finding) -> tuple[str, ...]:
    return (
        str(finding.cue or (f"line {finding.line}" if finding.line else "file")),
        clock(finding.start) if finding.cue else "",
        finding.rule,
        finding.found,
        finding.allowed,
        finding.text,
    )


def _print(
    console: Console,
    name: str,
    cues: Sequence[Cue],
    findings: Sequence[Finding],
    notes: Sequence[str],
) -> None:
    for note in notes:
        console.note(f"note: {printable(name)}: {note}")
    if findings:
        console.rows(_HEADINGS, list(map(_row_of, findings)))
    rules = counts_of(one.rule for one in findings)
    broken = len({one.cue for one in findings} - {0})
    count = count_of(len(cues), "cue")
    summary = f"{count}, no problems found"
    if findings:
        if broken:
            summary = f"{broken} of {count} break a rule: {rules}"
        else:
            summary = f"problems found: {rules}"
    console.result(f"{printable(name)}: {summary}")
