"""The audio formats that pieces are sent in. Importing this loads no codec."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class AudioFormat:
    """One way to write sound down.

    Attributes:
        name: as engine cards and options have it.
        extension: of file names, without the dot.
        content_type: the media type for requests; `{rate}` is the sample rate.
        lossless: whether the samples come back as they were, to 16 bits.
        container, codec: what the libraries call it; no codec means that libsndfile writes it.
        bit_rate: bits per second; None where that follows from the samples.
        subtype, endian: what libsndfile calls the samples.
        share_of_raw, hoped_share: most bytes, and bytes of clean speech, for each byte of 16-bit
            samples; where there is no bit rate.
        bytes_per_sample: where there is no container; 0 where there is one.
        sample_rates: those that it can have; empty for any.
    """

    name: str
    extension: str
    content_type: str
    lossless: bool
    container: str
    codec: str = ""
    bit_rate: int | None = None
    subtype: str = "PCM_16"
    endian: str | None = None
    share_of_raw: float = 1.0
    hoped_share: float = 1.0
    bytes_per_sample: int = 0
    sample_rates: tuple[int, ...] = ()

    @property
    def is_headerless(self) -> bool:
        """Whether there are only samples, and nothing that says what they are."""
        return self.bytes_per_sample > 0

    def content_type_at(self, sample_rate: int) -> str:
        """The media type for a request."""
        return self.content_type.replace("{rate}", str(sample_rate))


_OPUS_RATES = (8_000, 12_000, 16_000, 24_000, 48_000)  # RFC 6716, 2
# ISO 11172-3 and 13818-3.
_MP3_RATES = (
    8_000,
    11_025,
    12_000,
    16_000,
    22_050,
    24_000,
    32_000,
    44_100,
    48_000,
)

# At most a hundredth larger than its samples, and a bit less than half of them for clean speech.
_FLAC_SHARE, _HOPED_FLAC_SHARE = 1.01, 0.45

FORMATS = {
    form.name: form
    for form in (
        AudioFormat(
            "flac",
            "flac",
            "audio/flac",
            True,
            "FLAC",
            share_of_raw=_FLAC_SHARE,
            hoped_share=_HOPED_FLAC_SHARE,
        ),
        AudioFormat("wav", "wav", "audio/wav", True, "WAV"),
        AudioFormat(
            "opus", "opus", "audio/ogg", False, "ogg", "libopus", 32_000, sample_rates=_OPUS_RATES
        ),
        AudioFormat(
            "mp3", "mp3", "audio/mpeg", False, "mp3", "libmp3lame", 64_000, sample_rates=_MP3_RATES
        ),
        AudioFormat(
            "webm", "webm", "audio/webm", False, "webm", "libopus", 32_000, sample_rates=_OPUS_RATES
        ),
        AudioFormat("aiff", "aiff", "audio/aiff", True, "AIFF"),
        AudioFormat("au", "au", "audio/basic", True, "AU"),
        AudioFormat("caf", "caf", "audio/x-caf", True, "CAF"),
        AudioFormat(
            "wav-mulaw",
            "wav",
            "audio/wav",
            False,
            "WAV",
            subtype="ULAW",
            share_of_raw=0.5,
            hoped_share=0.5,
        ),
        AudioFormat(
            "wav-alaw",
            "wav",
            "audio/wav",
            False,
            "WAV",
            subtype="ALAW",
            share_of_raw=0.5,
            hoped_share=0.5,
        ),
        AudioFormat(
            "pcm-s16le", "raw", "audio/pcm", True, "RAW", endian="LITTLE", bytes_per_sample=2
        ),
        # RFC 2586: samples of the media type L16 are in network byte order.
        AudioFormat(
            "pcm-s16be",
            "raw",
            "audio/L16;rate={rate};channels=1",
            True,
            "RAW",
            endian="BIG",
            bytes_per_sample=2,
        ),
        AudioFormat(
            "mulaw",
            "raw",
            "audio/PCMU;rate={rate}",
            False,
            "RAW",
            subtype="ULAW",
            bytes_per_sample=1,
            share_of_raw=0.5,
            hoped_share=0.5,
        ),
        AudioFormat(
            "alaw",
            "raw",
            "audio/PCMA;rate={rate}",
            False,
            "RAW",
            subtype="ALAW",
            bytes_per_sample=1,
            share_of_raw=0.5,
            hoped_share=0.5,
        ),
    )
}
"""The formats that pieces are sent in, by name. The last four are samples without a container."""
