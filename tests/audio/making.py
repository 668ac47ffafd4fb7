"""Files of every kind that recordings come in, made with PyAV."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np


def write_sound(
    path: Path,
    codec: str,
    samples: np.ndarray,
    *,
    rate: int = 16_000,
    container: str | None = None,
    tracks: int = 1,
    video: bool = False,
    delay: float = 0.0,
) -> None:
    """Write mono float samples, shape (n,), with one codec; track k is the samples times k / tracks."""
    with av.open(path, "w", format=container) as output:
        pictures = _add_pictures(output) if video else None
        streams = [output.add_stream(codec, rate=rate, layout="mono") for _ in range(tracks)]
        for number, stream in enumerate(streams, 1):
            assert isinstance(stream, av.AudioStream)
            scaled = np.ascontiguousarray(samples[np.newaxis] * number / tracks, np.float32)
            frame = av.AudioFrame.from_ndarray(scaled, format="fltp", layout="mono")
            frame.sample_rate = rate
            frame.time_base = Fraction(1, rate)
            frame.pts = round(delay * rate)
            output.mux(stream.encode(frame))
            output.mux(stream.encode(None))
        if pictures is not None:
            _write_pictures(output, pictures, delay + len(samples) / rate)


def _add_pictures(output: "av.container.OutputContainer") -> "av.VideoStream":
    stream = output.add_stream("mpeg4" if "webm" not in output.format.name else "libvpx", rate=10)
    assert isinstance(stream, av.VideoStream)
    stream.width = stream.height = 64
    stream.pix_fmt = "yuv420p"
    return stream


def _write_pictures(output: "av.container.OutputContainer", stream: "av.VideoStream", seconds: float) -> None:
    for number in range(round(seconds * 10)):
        frame = av.VideoFrame(64, 64, "yuv420p")
        frame.pts = number
        frame.time_base = Fraction(1, 10)
        output.mux(stream.encode(frame))
    output.mux(stream.encode(None))
