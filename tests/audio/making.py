"""Files of every kind that recordings come in, made with PyAV."""

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np


@dataclass(frozen=True)
class Container:
    """What a file is like besides its sound."""

    rate: int = 16_000
    container: str | None = None
    tracks: int = 1
    video: bool = False
    delay: float = 0.0
    pictures_last: float | None = None
    tags: dict[str, str] | None = None


def write_sound(path: Path, codec: str, samples: np.ndarray, **given: Any) -> None:
    """Write mono float samples, shape (n,), with one codec; track k is the samples times k /
    tracks.
    """
    kind = Container(**given)
    rate, tracks, delay = kind.rate, kind.tracks, kind.delay
    with av.open(path, "w", format=kind.container) as output:
        output.metadata.update(kind.tags or {})
        pictures = _add_pictures(output) if kind.video else None
        streams = [output.add_stream(codec, rate=rate, layout="mono") for _ in range(tracks)]
        for number, stream in enumerate(streams, 1):
            assert isinstance(stream, av.AudioStream)
            if codec == "wmav2":
                stream.bit_rate = 64_000  # it has no default
            scaled = np.ascontiguousarray(samples[np.newaxis] * number / tracks, np.float32)
            frame = av.AudioFrame.from_ndarray(scaled, format="fltp", layout="mono")
            frame.sample_rate = rate
            frame.time_base = Fraction(1, rate)
            frame.pts = round(delay * rate)
            output.mux(stream.encode(frame))
            output.mux(stream.encode(None))
        if pictures is not None:
            _write_pictures(output, pictures, kind.pictures_last or delay + len(samples) / rate)


def write_film(
    path: Path, codec: str, samples: np.ndarray, *, seconds: float, rate: int = 16_000
) -> None:
    """Sound, and pictures that may last longer."""
    write_sound(path, codec, samples, rate=rate, video=True, pictures_last=seconds)


def _add_pictures(output: "av.container.OutputContainer") -> "av.VideoStream":
    codecs = {"webm": "libvpx", "mxf": "mpeg2video", "mpegts": "mpeg2video"}
    rate = 25 if output.format.name in ("mxf", "mpegts") else 10
    stream = output.add_stream(codecs.get(output.format.name, "mpeg4"), rate=rate)
    assert isinstance(stream, av.VideoStream)
    stream.width = stream.height = 64
    stream.pix_fmt = "yuv420p"
    return stream


def _write_pictures(
    output: "av.container.OutputContainer", stream: "av.VideoStream", seconds: float
) -> None:
    rate = stream.codec_context.framerate or Fraction(10)
    for number in range(round(seconds * rate)):
        # A frame that is not filled has whatever was in memory, which may look like a cut.
        grey = np.full((96, 64), 128, np.uint8)
        frame = av.VideoFrame.from_ndarray(grey, format="yuv420p")
        frame.pts = number
        frame.time_base = 1 / rate
        output.mux(stream.encode(frame))
    output.mux(stream.encode(None))


def several_tracks(path: Path, *tracks: np.ndarray, rate: int = 16_000) -> Path:
    """A file of several mono tracks of sound, float samples, shape (n,)."""
    with av.open(path, "w") as output:
        streams = [output.add_stream("flac", rate=rate, layout="mono") for _ in tracks]
        for stream, samples in zip(streams, tracks, strict=True):
            assert isinstance(stream, av.AudioStream)
            scaled = (samples[np.newaxis] * 32767).astype(np.int16)
            frame = av.AudioFrame.from_ndarray(
                np.ascontiguousarray(scaled), format="s16", layout="mono"
            )
            frame.sample_rate, frame.time_base, frame.pts = rate, Fraction(1, rate), 0
            output.mux(stream.encode(frame))
            output.mux(stream.encode(None))
    return path
