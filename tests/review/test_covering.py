"""Stretches of sound are covered to the sample."""

import numpy as np
import pytest

from mantisreed.review.covering import Cover, covered, spans_in_samples


@pytest.mark.parametrize("kind", ["int16", "int32", "float32"])
@pytest.mark.parametrize("cover", ["tone", "silence"])
@pytest.mark.parametrize("channels", [1, 2])
def test_what_is_covered_is_gone_and_nothing_else_changed(
    kind: str, cover: Cover, channels: int
) -> None:
    sound = (np.random.default_rng(1).uniform(-0.5, 0.5, (8000, channels)) * 32767).astype(kind)
    sound = sound[:, 0] if channels == 1 else sound
    if kind == "float32":
        sound = sound / np.float32(32767)
    spans = spans_in_samples([(0.2, 0.3), (0.35, 0.4)], 8000, 0.05, 8000)
    assert spans == [(1200, 3600)]
    blocks = [covered(sound[at : at + 1000], at, spans, cover, 8000) for at in range(0, 8000, 1000)]
    whole = np.concatenate(blocks)
    assert np.array_equal(whole[:1200], sound[:1200]) and np.array_equal(whole[3600:], sound[3600:])
    again = covered(sound[::-1].copy(), 0, spans, cover, 8000)
    # It follows from the place alone, not from the sound.
    assert np.array_equal(whole[1200:3600], again[1200:3600])
    assert bool(whole[1200:3600].any()) == (cover == "tone")


def test_stretches_are_cut_at_the_ends_and_joined_where_they_touch() -> None:
    assert spans_in_samples([(0.0, 0.1), (0.9, 2.0), (0.95, 1.0)], 100, 0.05, 100) == [
        (0, 15),
        (85, 100),
    ]
    assert spans_in_samples([(5.0, 6.0)], 100, 0.0, 100) == []
