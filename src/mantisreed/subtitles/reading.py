"""Subtitle files of any kind as cues, for engines whose reply is such a file."""

from mantisreed.subtitles.cues import Cue
from mantisreed.subtitles.decoding import with_line_feeds
from mantisreed.subtitles.srt import read_srt as _read_srt
from mantisreed.subtitles.vtt import read_webvtt


def read_srt(text: str) -> list[Cue]:
    """The cues of SRT text; what was mended does not matter here."""
    return _read_srt(with_line_feeds(text))[0]


def read_vtt(text: str) -> list[Cue]:
    """The cues of WebVTT text."""
    return read_webvtt(with_line_feeds(text))[0]
