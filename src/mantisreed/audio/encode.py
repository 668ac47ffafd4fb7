"""Sound out: samples by libsndfile, lossy codecs by PyAV, in memory or to an open file, block by
block.
"""

import io
from collections.abc import Iterable, Mapping
from types import TracebackType
from typing import BinaryIO, Protocol, Self

import av
import numpy as np
import soundfile

from mantisreed.audio.decode import SAMPLE_RATE, IntSamples, Samples, to_int16
from mantisreed.audio.formats import AudioFormat


class Encoder(Protocol):
    """Takes blocks of shape (channels, samples), float32 or int16, and writes them to the file it
    was made for.
    """

    def write(self, block: Samples | IntSamples) -> None:
        """Encode one more block."""

    def close(self) -> None:
        """Write what is still held back. The file itself stays open."""

    def __enter__(self) -> Self: ...

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None: ...


def open_encoder(
    sink: BinaryIO,
    form: AudioFormat,
    *,
    sample_rate: int = SAMPLE_RATE,
    channels: int = 1,
    is_quick: bool = False,
) -> Encoder:
    """An encoder that writes to `sink`, a seekable binary file, which it does not close.

    Args:
        sink: where to.
        form: of the file.
        sample_rate: samples per second.
        channels: how many.
        is_quick: less searching, where the encoder lets us choose.
    """
    if form.codec:
        return _LossyEncoder(sink, form, sample_rate, channels, is_quick=is_quick)
    return _LosslessEncoder(sink, form, sample_rate, channels)


def encode(
    blocks: Iterable[Samples],
    form: AudioFormat,
    *,
    sample_rate: int = SAMPLE_RATE,
    channels: int = 1,
    most_bytes: int | None = None,
) -> bytes | None:
    """All blocks in one file in memory; None as soon as it is clear that it would be over
    `most_bytes`.
    """
    sink = io.BytesIO()
    with open_encoder(sink, form, sample_rate=sample_rate, channels=channels) as encoder:
        for block in blocks:
            encoder.write(block)
            if most_bytes is not None and sink.tell() > most_bytes:
                return None
    encoded = sink.getvalue()
    if most_bytes is not None and len(encoded) > most_bytes:
        return None
    return encoded


def decoded_lossless(audio: bytes, form: AudioFormat) -> IntSamples:
    """The samples of one channel that a lossless encoder has written, exactly."""
    if form.is_headerless:
        return np.frombuffer(audio, ">i2" if form.endian == "BIG" else "<i2").astype(np.int16)
    samples: IntSamples = soundfile.read(io.BytesIO(audio), dtype="int16")[0]
    return samples


_FLAC_LEVEL = 0.2  # a fifth less time than the usual one, for files that are 2 % larger


class _Closing:
    def close(self) -> None:
        raise NotImplementedError

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


class _LosslessEncoder(_Closing):
    def __init__(self, sink: BinaryIO, form: AudioFormat, sample_rate: int, channels: int) -> None:
        level = _FLAC_LEVEL if form.name == "flac" else None
        self._file = soundfile.SoundFile(
            sink,
            "w",
            sample_rate,
            channels,
            subtype=form.subtype,
            endian=form.endian,
            format=form.container,
            compression_level=level,
        )

    def write(self, block: Samples | IntSamples) -> None:
        self._file.write(to_int16(block).T)

    def close(self) -> None:
        self._file.close()


_QUICK: Mapping[str, Mapping[str, str]] = {
    # Level 0 at 24 kbit/s: 18 s for an hour of speech, where the usual level takes 60 s.
    "libopus": {"compression_level": "0", "application": "voip"},
    # 17 s for an hour of speech, where the usual level takes 25 s and more.
    "libmp3lame": {"compression_level": "7"},
}
"""What makes an encoder quicker at the same bit rate."""


class _LossyEncoder(_Closing):
    def __init__(
        self,
        sink: BinaryIO,
        form: AudioFormat,
        sample_rate: int,
        channels: int,
        *,
        is_quick: bool = False,
    ) -> None:
        self._rate = sample_rate
        self._layout = {1: "mono", 2: "stereo"}[channels]
        self._container = av.open(sink, "w", format=form.container)
        stream = self._container.add_stream(form.codec, rate=sample_rate, layout=self._layout)
        assert isinstance(stream, av.AudioStream)
        assert form.bit_rate is not None
        stream.bit_rate = form.bit_rate
        if is_quick:
            stream.options = dict(_QUICK.get(form.codec, {}))
        self._stream = stream
        self._written = 0

    def write(self, block: Samples | IntSamples) -> None:
        samples = block / np.float32(32768) if block.dtype == np.int16 else block
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(samples), format="fltp", layout=self._layout
        )
        frame.sample_rate = self._rate
        frame.pts = self._written
        self._written += block.shape[1]
        self._container.mux(self._stream.encode(frame))

    def close(self) -> None:
        self._container.mux(self._stream.encode(None))
        self._container.close()
