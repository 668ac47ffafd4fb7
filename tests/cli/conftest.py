"""What the tests of jobs need: an engine that counts, and recordings to send to it."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from cli.ferry import Ferry
from cli.shelf import Shelf, standing
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose


@pytest.fixture
def ferry() -> Ferry:
    return Ferry()


@pytest.fixture
def shelf() -> Iterator[Shelf]:
    with standing() as found:
        yield found


@pytest.fixture
def recordings(english: list[Phrase], tmp_path: Path) -> Path:
    folder = tmp_path / "recordings"
    folder.mkdir()
    for number in range(2):
        compose(english, seed=200 + number, duration=60, pauses=(0.8, 1.5)).write(
            folder / f"note {number}.flac"
        )
    return folder
