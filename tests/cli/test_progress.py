"""How a batch stands, in one line."""

from decimal import Decimal

import pytest

from mantisreed.cli.progress import whole_line
from mantisreed.pipeline.events import BatchProgress, Event
from mantisreed.sources.finding import find_recordings


def progress(**counts: object) -> BatchProgress:
    return BatchProgress(9, 1000.0, **counts)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("counts", "until", "line"),
    [
        ({}, 0.0, "0 of 9 recordings · 0 of 0 pieces · 0.0 s of sound"),
        (
            {
                "recordings_done": 6,
                "pieces": 9,
                "pieces_done": 6,
                "seconds_done": 449.0,
                "share": 0.75,
            }
            | {"owed": Decimal("0.0301"), "currency": "credits"},
            0.0,
            "6 of 9 recordings · 6 of 9 pieces · 7:29 of sound · 0.0301 credits · about 0:20 left",
        ),
        (
            {"pieces": 2, "sending": 1, "out": 1, "share": 0.5},
            1180.0,
            "0 of 9 recordings · 0 of 2 pieces · 0.0 s of sound · 1 on their way, 1 at the engine "
            "· about 2:00 left",
        ),
    ],
)
def test_a_batch_is_told_with_what_is_done_spent_and_left(
    counts: dict[str, object], until: float, line: str
) -> None:
    assert whole_line(progress(**counts), 1060.0, until) == line


def test_a_wait_counts_down() -> None:
    (link,) = find_recordings(["http://marsh.example/note.wav"])
    event = Event(link, "waiting", "brook allows 6 per 20 s: next", None, 1012.0, 1000.0)
    assert event.text() == "waiting (brook allows 6 per 20 s: next in 12 s)"
    assert (
        event.text(1011.6).endswith("next in 0 s)") and Event(link, "working").text() == "working"
    )
