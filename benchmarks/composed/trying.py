"""Trying the program on strangers: what comes out differs from what they said, or it does not."""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from composed.stranger import Stranger
from composed.truth import differences

KEY_VARIABLE = "STRANGER_KEY"
"""The environment variable in which cards of strangers expect the key."""

HINTS = ("dunlin", "knot")
"""What strangers expect as hints; the language is English."""


@dataclass(frozen=True, slots=True)
class Ended:
    """How a command ended.

    Attributes:
        code: its exit code.
        printed, told: what it wrote to its two outputs.
    """

    code: int
    printed: str
    told: str


RunCommand = Callable[[Sequence[str]], Ended]
"""Runs the program with these arguments in the folder, with the stranger's key in the
environment.
"""


def faults_of(
    stranger: Stranger, address: str, sound: Path, folder: Path, run: RunCommand
) -> list[str]:
    """What is wrong with the transcript of a recording that a stranger heard; empty when all is as
    it said.

    Args:
        stranger: who hears it.
        address: where strangers are served.
        sound: a recording.
        folder: an empty one, to work in.
        run: runs the program there.
    """
    (folder / "mantisreed.toml").write_text(
        f"[settings]\nmax_attempts = 3\n\n{stranger.card(address)}"
    )
    for name, content in stranger.files.items():
        (folder / name).write_text(content)
    files = ["note.wav", "copy.wav"][: stranger.recordings]
    for name in files:
        (folder / name).write_bytes(sound.read_bytes())
    planned = run(["plan", files[0], "--engine", stranger.name, "--json"])
    if planned.code:
        return [f"exit {planned.code} of plan: {planned.told.strip()}"]
    start = json.loads(planned.printed)["recordings"][0]["pieces"][0]["start"]
    hints = list(chain.from_iterable(("--hint", hint) for hint in HINTS))
    ended = run(
        ["run", *files, "--engine", stranger.name, "--language", "en", "--to", "json", *hints]
    )
    if ended.code:
        return [f"exit {ended.code}: {ended.told.strip()}", *stranger.troubles]
    truth = next(iter(stranger.truths.values()))
    found: list[str] = []
    for name in files:
        file = folder / "transcripts" / f"{Path(name).stem}.transcript.json"
        transcript = json.loads(file.read_text(encoding="utf-8"))
        found += differences(truth, transcript, start)
        found += [f"note: {note}" for note in transcript.get("notes") or ()]
    if stranger.reports_its_bill:
        rows = json.loads(run(["costs", "--json"]).printed)["costs"]
        said = sum(row["reported_seconds"] or 0.0 for row in rows)
        if abs(said - stranger.billed * len(files)) > 0.001 * len(files):
            found.append(f"billed: expected {stranger.billed * len(files)}, found {said}")
    return found
