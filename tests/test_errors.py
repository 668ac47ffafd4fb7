"""Errors of this package, as things."""

import copy

from mantisreed.errors import SlowDownError


def test_a_copy_of_an_error_is_like_it_and_another() -> None:
    error = SlowDownError("it asks for fewer requests", engine="brook", status=429, answer="slower")
    error.retry_after = 3.0
    twin = copy.copy(error)
    assert type(twin) is SlowDownError and vars(twin) == vars(error) and str(twin) == str(error)
    twin.retry_after = 4.0
    assert error.retry_after == 3.0
