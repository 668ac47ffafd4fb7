"""The audio formats that pieces are sent in. Importing this loads no codec."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class AudioFormat:
    """One way to write sound down.

    Attributes:
        name: as engine cards and options have it.
        extension: of file names, without the dot.
        content_type: the media type for requests.
        lossless: whether the samples come back as they were, to 16 bits.
        container, codec: what the libraries call it; no codec means that libsndfile writes it.
        bit_rate: bits per second; None for lossless ones.
    """

    name: str
    extension: str
    content_type: str
    lossless: bool
    container: str
    codec: str = ""
    bit_rate: int | None = None


FORMATS = {
    form.name: form
    for form in (
        AudioFormat("flac", "flac", "audio/flac", True, "FLAC"),
        AudioFormat("wav", "wav", "audio/wav", True, "WAV"),
        AudioFormat("opus", "opus", "audio/ogg", False, "ogg", "libopus", 32_000),
        AudioFormat("mp3", "mp3", "audio/mpeg", False, "mp3", "libmp3lame", 64_000),
    )
}
"""The formats that pieces are sent in, by name, the best first."""
