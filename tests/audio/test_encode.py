"""Writing sound in memory."""

import io
from collections.abc import Callable, Iterator

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mantisreed.audio.decode import Samples, decode, to_int16
from mantisreed.audio.encode import decoded_lossless, encode
from mantisreed.audio.formats import FORMATS


@pytest.mark.parametrize("name", [name for name, form in FORMATS.items() if form.lossless])
@given(
    values=st.lists(st.integers(-32768, 32767), min_size=1, max_size=300), cut=st.integers(0, 300)
)
def test_lossless_formats_give_back_16_bit_samples_exactly(
    name: str, values: list[int], cut: int
) -> None:
    samples = (np.array([values]) / 32768).astype(np.float32)
    blocks = [block for block in (samples[:, :cut], samples[:, cut:]) if block.size]

    content = encode(blocks, FORMATS[name])

    assert content is not None
    assert (decoded_lossless(content, FORMATS[name]) == values).all()
    if not FORMATS[name].is_headerless:
        back = np.concatenate(list(decode(io.BytesIO(content))), axis=1)
        assert (to_int16(back) == values).all()


@pytest.mark.parametrize("name", FORMATS)
@pytest.mark.parametrize("length", [16_000, 100_003])
def test_every_format_keeps_the_length_to_the_sample(name: str, length: int) -> None:
    content = encode([np.zeros((1, length), np.float32)], FORMATS[name])

    assert content is not None
    if FORMATS[name].is_headerless:
        assert len(content) == length * FORMATS[name].bytes_per_sample
    else:
        assert sum(block.shape[1] for block in decode(io.BytesIO(content))) == length


def mulaw(sample: int) -> int:
    """The mu-law code of a 16-bit sample, after the tables of ITU-T G.711."""
    magnitude = min(abs(sample) + 0x84, 0x7FFF)
    segment = max(0, magnitude.bit_length() - 8)
    code = (0x80 if sample < 0 else 0) | segment << 4 | (magnitude >> (segment + 3)) & 0x0F
    return ~code & 0xFF


def alaw(sample: int) -> int:
    """The A-law code of a 16-bit sample, after the tables of ITU-T G.711."""
    magnitude = abs(sample) >> 4
    segment = max(0, magnitude.bit_length() - 4)
    mantissa = magnitude & 0x0F if segment < 2 else (magnitude >> (segment - 1)) & 0x0F
    return ((0x80 if sample >= 0 else 0) | segment << 4 | mantissa) ^ 0x55


@pytest.mark.parametrize(("name", "code"), [("mulaw", mulaw), ("alaw", alaw)])
def test_telephone_samples_are_those_of_the_standard(name: str, code: Callable[[int], int]) -> None:
    values = np.arange(-32_700, 32_700, 37, dtype=np.int16)
    content = encode([(values.reshape(1, -1) / 32768).astype(np.float32)], FORMATS[name])
    assert content is not None
    assert sum(a != code(int(value)) for a, value in zip(content, values, strict=True)) == 0


def test_samples_without_a_container_have_the_byte_order_of_their_name() -> None:
    values = np.array([[1, -2, 0x1234]], np.int16)
    samples = (values / 32768).astype(np.float32)
    assert encode([samples], FORMATS["pcm-s16le"]) == values.astype("<i2").tobytes()
    assert encode([samples], FORMATS["pcm-s16be"]) == values.astype(">i2").tobytes()


def test_encoding_stops_as_soon_as_the_size_is_passed() -> None:
    given_out = 0

    def noise() -> Iterator[Samples]:
        nonlocal given_out
        for seed in range(1000):
            given_out += 1
            yield np.random.default_rng(seed).uniform(-0.5, 0.5, (1, 16_000)).astype(np.float32)

    assert encode(noise(), FORMATS["flac"], most_bytes=200_000) is None
    assert given_out < 20


def test_samples_over_full_scale_are_clipped_not_wrapped() -> None:
    assert to_int16(np.array([[1.5, -1.5, 0.99999]], np.float32)).tolist() == [
        [32767, -32768, 32767]
    ]
