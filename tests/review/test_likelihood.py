"""The models of languages."""

import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import pytest

from mantisreed.review import likelihood


def test_the_models_are_read_once_by_threads_that_want_them_together(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    reads: list[object] = []
    load = np.load

    def slow_load(*given: Any, **named: Any) -> Any:
        reads.append(given)
        time.sleep(0.05)
        return load(*given, **named)

    monkeypatch.setattr(np, "load", slow_load)
    likelihood._read_models.cache_clear()
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _: likelihood.models(), range(4)))
    assert len(reads) == 1 and all(one is found[0] for one in found)
