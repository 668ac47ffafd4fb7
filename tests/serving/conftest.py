"""What tests of the service share."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from mantisreed.standin.hearing import Listener
from postgres import postgresql
from serving.running import Running, serving, standins

__all__ = ["postgresql"]


@pytest.fixture
def trusting(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder the settings of which are trusted, also by processes that are started."""
    monkeypatch.setenv("MANTISREED_TRUST", str(tmp_path))
    return tmp_path


@pytest.fixture(scope="module")
def service(listener: Listener, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    folder = tmp_path_factory.mktemp("service")
    (folder / "allowed").mkdir()
    patch = pytest.MonkeyPatch()
    patch.setenv("MANTISREED_TRUST", str(tmp_path_factory.getbasetemp()))
    with (
        standins(listener, folder),
        serving(folder, "--allow", "allowed", "--max-size", "4 MB") as running,
    ):
        yield running
    patch.undo()
