"""`mantisreed plan`: what it promises is what a run does."""

import json
from pathlib import Path

import pytest

from conftest import Command
from mantisreed.cards.tables import Seconds
from mantisreed.engines.card import RateLimit
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.workbench.plan import shortest_time


def test_a_plan_names_pieces_seams_sizes_and_cost(
    mantisreed: Command, settings: Path, english: list[Phrase], tmp_path: Path
) -> None:
    composition = compose(english, seed=61, duration=100, pauses=(0.5, 1.5))
    composition.write(tmp_path / "talk.mp3")
    (tmp_path / "standin.key").unlink()  # nothing is sent, so no key is needed
    text = settings.read_text().replace(
        'currency = "credits"', 'currency = "credits"\nbilling_step = "15 s"', 1
    )
    settings.write_text(text)

    result = mantisreed("plan", "talk.mp3", "--piece-length", "30s", "--json")

    assert result.returncode == 0, result.stderr
    (plan,) = json.loads(result.stdout)["recordings"]
    assert plan["name"] == "talk.mp3" and plan["duration"] == pytest.approx(100, abs=0.1)
    assert 50 < plan["speech"] < 100 and plan["requests"] == len(plan["pieces"]) >= 4
    for piece in plan["pieces"]:
        assert (
            0 < piece["end"] - piece["start"] <= 30
            and piece["format"] == "flac"
            and piece["bytes"] > 10_000
        )
    assert [piece["seam"] for piece in plan["pieces"]] == [
        "start",
        *["clean"] * (plan["requests"] - 1),
    ]
    assert plan["billed_seconds"] % 15 == 0 and plan["cost"] == pytest.approx(
        plan["billed_seconds"] / 60 * 0.004
    )
    assert not (tmp_path / "transcripts").exists()


def test_a_plan_can_be_read(
    mantisreed: Command, settings: Path, english: list[Phrase], tmp_path: Path
) -> None:
    compose(english, seed=62, duration=40).write(tmp_path / "talk.wav")
    whole = mantisreed("plan", "talk.wav")
    assert "talk.wav: 0:40" in whole.stdout and "start" in whole.stdout
    assert whole.stdout.splitlines()[-1] == "1 request to brook, 0.7 minutes billed, 0.0026 credits"
    settings.write_text(settings.read_text().replace("requests = 120", "requests = 1", 1))
    cut = mantisreed("plan", "talk.wav", "--piece-length", "15s")
    assert (
        "brook's rate limit makes it last 2:00 or more" in cut.stdout
        or "3:00 or more" in cut.stdout
    )
    assert "price not in the card" in mantisreed("plan", "talk.wav", "--engine", "plover").stdout


@pytest.mark.parametrize(
    ("requests", "seconds"), [(0, 0), (1, 0), (15, 0), (16, 60), (30, 60), (31, 120)]
)
def test_the_shortest_time_follows_the_pace(requests: int, seconds: float) -> None:
    assert shortest_time(RateLimit(requests=15, window=Seconds(60)), requests) == seconds
    assert shortest_time(None, requests) == 0
