"""Subtitles laid on their recording again, and cues laid on shot changes."""

import random
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from composed.film import compose_film, write_film
from mantisreed.audio.shots import shot_changes
from mantisreed.errors import InputError, RecordingError
from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.subtitles.shots import on_shots
from mantisreed.subtitles.sync import by_cues, by_speech, by_two_points
from mantisreed.transcript.document import Word

RULES = LayoutRules()


def talk(seed: int, count: int = 200) -> list[Cue]:
    chance, at, cues = random.Random(seed), 5.0, []
    for number in range(count):
        length = chance.uniform(0.8, 4.0)
        cues.append(Cue(round(at, 3), round(at + length, 3), ("x" * int(14 * length), str(number))))
        at += length + chance.uniform(0.1, 2.5)
    return cues


def distorted(cues: list[Cue], change: Callable[[float], float]) -> list[Cue]:
    return [replace(cue, start=change(cue.start), end=change(cue.end)) for cue in cues]


CHANGES: dict[str, Callable[[float], float]] = {
    "nothing": lambda t: t,
    "shift": lambda t: t + 21.7,
    "rate": lambda t: t * 25 * 1001 / 24000,
    "shift, rate and a cut": lambda t: (t + (30.0 if t > 300 else 0.0)) * 25 * 1001 / 24000 + 4.2,
    "a small drift": lambda t: t * 1.0008 + 0.3,
}


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES)
def test_cues_that_drifted_are_back_within_a_tenth_of_a_second(
    change: Callable[[float], float],
) -> None:
    cues, chance = talk(1), random.Random(2)
    speech = [
        (cue.start + chance.uniform(-0.06, 0.06), cue.end + chance.uniform(-0.1, 0.1))
        for cue in cues
    ]
    for synced in (
        by_speech(distorted(cues, change), speech),
        by_cues(distorted(cues, change), cues),
    ):
        errors = [abs(one.start - cue.start) for one, cue in zip(synced.cues, cues, strict=True)]
        assert float(np.median(errors)) < 0.1 and max(errors) < 0.5
        assert synced.fit_after > 0.9 and synced.fit_after >= synced.fit_before


def test_a_cut_is_found_where_it_is() -> None:
    cues = talk(3)
    synced = by_cues(distorted(cues, lambda t: t + (30.0 if t > 300 else 0.0)), cues)
    (first, second) = synced.stretches
    assert second.first == sum(cue.start <= 300 for cue in cues)
    assert abs(first.offset) < 0.05 and abs(second.offset + 30.0) < 0.05


def test_subtitles_of_another_recording_are_refused() -> None:
    for count in (30, 200):
        speech = [(cue.start, cue.end) for cue in talk(5, count)]
        with pytest.raises(InputError, match="do not fit"):
            by_speech(talk(4, count), speech)
    with pytest.raises(InputError, match="too little"):
        by_speech(talk(4), [])


def test_two_points_lay_the_first_and_the_last_cue() -> None:
    moved = by_two_points(talk(1), 1.2, 500.0)
    assert (moved[0].start, moved[-1].start) == (1.2, 500.0)
    with pytest.raises(InputError):
        by_two_points(talk(1), 5.0, 5.0)
    with pytest.raises(InputError):
        by_two_points(talk(1, 1), 1.0, 5.0)


def test_shot_changes_are_found_and_flashes_and_fades_are_none(tmp_path: Path) -> None:
    film = compose_film(seed=7, seconds=10.0)
    write_film(film, tmp_path / "film.mp4")
    found = shot_changes(tmp_path / "film.mp4")
    assert len(found) == len(film.cuts) and np.allclose(found, film.cuts, atol=1.5 / film.rate)
    (tmp_path / "no.mp4").write_bytes(b"mud")
    with pytest.raises(RecordingError):
        shot_changes(tmp_path / "no.mp4")


def test_cues_begin_and_end_with_shots_and_hang_over_none() -> None:
    words = (Word("Tea?", 1.1, 1.9),)
    cue = Cue(1.1, 2.4, ("Tea?",), words=words)
    (snapped,) = on_shots([cue], [0.9, 2.2], RULES)
    assert snapped.start == 0.9 and snapped.end == pytest.approx(2.2 - RULES.gap)
    (late,) = on_shots([cue], [1.95], RULES)
    assert late.end == 2.4  # its last word ends too near to the cut for a gap before it
    assert on_shots([cue], [], RULES) == [cue] and on_shots([cue], [5.0], RULES) == [cue]


def test_no_cue_comes_too_near_to_another_for_a_shot() -> None:
    cues = [Cue(0.0, 2.0, ("a",)), Cue(2.3, 4.0, ("b",))]
    first, second = on_shots(cues, [2.1], RULES)
    assert second.start - first.end >= RULES.gap - 1e-6 and (first.start, second.end) == (0.0, 4.0)
