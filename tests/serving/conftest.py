"""What tests of the service share."""

from pathlib import Path

import pytest


@pytest.fixture
def trusting(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder the settings of which are trusted, also by processes that are started."""
    monkeypatch.setenv("MANTISREED_TRUST", str(tmp_path))
    return tmp_path
