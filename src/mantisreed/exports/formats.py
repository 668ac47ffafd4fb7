"""The output formats, by the names that `--to` takes."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from mantisreed.errors import InputError
from mantisreed.subtitles.cues import in_order, lay_out
from mantisreed.subtitles.srt import write_srt
from mantisreed.subtitles.vtt import write_webvtt
from mantisreed.transcript.document import Transcript, to_json


@dataclass(frozen=True, slots=True)
class OutputFormat:
    """One output.

    Attributes:
        name: as `--to` takes it.
        suffix: of the file name, after the recording's stem.
        write: makes the file's bytes from a transcript.
    """

    name: str
    suffix: str
    write: Callable[[Transcript], bytes]


def write_text(transcript: Transcript) -> bytes:
    """Plain text, a passage on each line, with the speaker before it where there is one."""
    lines = (
        f"{passage.speaker}: {passage.text}\n" if passage.speaker is not None else f"{passage.text}\n"
        for passage in transcript.passages
    )
    return "".join(lines).encode()


def _srt(transcript: Transcript) -> bytes:
    return write_srt(in_order(lay_out(transcript.passages))).encode()


def _webvtt(transcript: Transcript) -> bytes:
    return write_webvtt(in_order(lay_out(transcript.passages))).encode()


OUTPUT_FORMATS = {
    form.name: form
    for form in (
        OutputFormat("txt", ".txt", write_text),
        OutputFormat("srt", ".srt", _srt),
        OutputFormat("vtt", ".vtt", _webvtt),
        OutputFormat("json", ".transcript.json", to_json),
    )
}


def chosen_formats(names: Sequence[str]) -> tuple[OutputFormat, ...]:
    """The formats with these names, each once.

    Raises:
        InputError: there is no such format, or none is named.
    """
    unknown = [name for name in names if name not in OUTPUT_FORMATS]
    if unknown or not names:
        what = f"unknown output format {unknown[0]!r}" if unknown else "no output format is named"
        raise InputError(what, advice=f"formats are {', '.join(OUTPUT_FORMATS)}, separated by commas")
    return tuple(OUTPUT_FORMATS[name] for name in dict.fromkeys(names))
