"""In which form a sample reply is."""

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any

from mantisreed.cards.documents import (
    DocumentError,
    events_in,
    lines_in,
    looks_like_xml,
    parse_json,
    parse_xml,
)
from mantisreed.errors import InputError
from mantisreed.formats.srt import read_srt
from mantisreed.formats.vtt import read_webvtt
from mantisreed.learning.found_lists import joined_path

_CTM = re.compile(r"(\S+)\s+(\S+)\s+(\d+\.?\d*)\s+(\d+\.?\d*)\s+(\S+)(\s+\S+)?")

# The commonest first: a line of text with one comma is a table of two columns too.
_DELIMITERS = (",", "\t", ";", "|")
_DEEPEST = 2  # documents inside documents


def innermost(sample: bytes) -> tuple[list[str], dict[str, Any], str, list[Any] | None]:
    """The paths to a document inside of others, what its format needs to be read, its format, and
    its documents.
    """
    inside: list[str] = []
    keys: dict[str, Any] = {}
    form, documents = _form_of(sample, keys)
    while documents and len(inside) < _DEEPEST and (found := _document_inside(documents)):
        path, text = found
        inside.append(path)
        keys = {}
        form, documents = _form_of(text.encode(), keys)
    return inside, keys, form, documents


def _form_of(sample: bytes, keys: dict[str, Any]) -> tuple[str, list[Any] | None]:
    """Which format it is, and its documents; None for files that have none."""
    text = sample.decode("utf-8-sig", "replace")
    try:
        return "json", [parse_json(sample)]
    except DocumentError:  # it is something else
        pass
    if looks_like_xml(sample):
        document = _xml(sample)
        # By its first name, whatever its namespace is called here.
        is_ttml = next(iter(document), "").rpartition(":")[2] == "tt"
        return ("ttml", None) if is_ttml else ("xml", [document])
    lines = list(lines_in(sample))
    form: tuple[str, list[Any] | None] | None = None
    if text.lstrip().startswith("WEBVTT"):
        form = ("vtt", None)
    # Before all that only looks at beginnings: a number and an arrow are nobody else's.
    elif read_srt(text).cues:
        form = ("srt", None)
    elif any(line.startswith("data:") for line in text.splitlines()):
        form = ("events", _streamed([event.data for event in events_in(sample)], keys))
    elif lines and all(line.lstrip().startswith(("{", "[", '"')) for line in lines[:3]):
        form = ("lines", _streamed(lines, keys))
    elif read_webvtt(text).cues:
        form = ("vtt", None)
    elif _is_ctm(text):
        form = ("ctm", None)
    return form or _table_of(text, keys) or ("text", None)


def _is_ctm(text: str) -> bool:
    """Whether a text has a word on each line, with channel, start and length before it."""
    spoken = [
        _CTM.fullmatch(line.strip())
        for line in text.splitlines()
        if line.strip() and not line.startswith(";;")
    ]
    if not spoken or not all(line and re.search(r"[^\W\d_]", line[5]) for line in spoken):
        return False
    # The channel is one of few; where it differs from line to line, this is another table.
    return len(spoken) < 3 or len({line[2] for line in spoken if line}) <= 2


def _xml(sample: bytes) -> Mapping[str, Any]:
    try:
        document = parse_xml(sample)
    except DocumentError as error:
        raise InputError(f"the sample looks like XML, but {error}") from None
    assert isinstance(document, dict)
    return document


def _streamed(parts: Sequence[str], keys: dict[str, Any]) -> list[Any]:
    documents = []
    for part in parts:
        try:
            documents.append(parse_json(part.encode()))
        except DocumentError:
            keys["end_mark"] = part
    return documents


def _is_heading(row: Sequence[str]) -> bool:
    """It names things: there is no number and no time in it, and nothing twice."""
    if any(re.fullmatch(r"[-+]?[\d:.]+", cell) for cell in row):
        return False
    return len(set(row)) == len(row)


def _table_of(text: str, keys: dict[str, Any]) -> tuple[str, list[Any]] | None:
    """Rows of CSV, where every one has as many cells as the first."""
    for delimiter in _DELIMITERS:
        try:
            reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
            rows = list(filter(any, reader))
        except csv.Error:  # another delimiter may fit
            continue
        # Prose has commas too, and not the same number of them in each line.
        if len(rows) < 2 or len(rows[0]) < 2 or len(set(map(len, rows))) > 1:
            continue
        cells = [[cell.strip() for cell in row] for row in rows]
        columns = cells[0]
        if _is_heading(columns):
            cells = cells[1:]
        else:
            columns = [f"column_{number}" for number in range(1, len(columns) + 1)]
            keys["columns"] = columns
        if delimiter != ",":
            keys["delimiter"] = delimiter
        return "csv", [[dict(zip(columns, row, strict=True)) for row in cells]]
    return None


def _document_inside(documents: Sequence[Any]) -> tuple[str, str] | None:
    """A text that is a document of its own: where it is, and it."""
    # All of a stream are alike.
    for document in documents[:1]:
        for path, value in leaves(document, ""):
            # A shorter text holds no document worth looking at, and `[]` is a common value.
            if not isinstance(value, str) or len(value) < 20:
                continue
            stripped = value.lstrip("\ufeff \r\n\t")
            if stripped.startswith(("{", "[")):
                try:
                    if isinstance(parse_json(stripped.encode()), (dict, list)):
                        return path, value
                except DocumentError:  # it is a plain text
                    continue
            if stripped.startswith("WEBVTT") or ("-->" in stripped and read_srt(stripped).cues):
                return path, value
    return None


def leaves(value: Any, path: str) -> Iterator[tuple[str, Any]]:
    """Values outside lists, and inside the first item of lists."""
    if isinstance(value, dict):
        for name, item in value.items():
            yield from leaves(item, joined_path(path, name))
    elif isinstance(value, list):
        # Of a list the first stands for all: paths lead to what a card can name.
        if value:
            yield from leaves(value[0], f"{path}[0]")
    elif path:
        yield path, value


def whole_text_of(documents: Sequence[Any], is_stream: bool) -> tuple[str, bool] | None:
    """Where the longest text stands outside any list, and whether each document brings all of it so
    far.
    """
    texts: dict[str, list[str]] = {}
    for document in documents:
        for path, value in leaves(document, ""):
            if isinstance(value, str) and value.strip():
                texts.setdefault(path, []).append(value)
    if not is_stream:
        # A single word is rather a name or a state.
        texts = {path: parts for path, parts in texts.items() if " " in parts[0].strip()}
    judged = {
        path: sum(map(len, parts)) for path, parts in texts.items() if _is_speech("".join(parts))
    }
    best = max(judged, key=lambda path: judged[path], default=None)
    if best is None:
        return None
    parts = texts[best]
    # Each document then repeats what was said before.
    grows = len(parts) > 1 and all(after.startswith(before) for before, after in pairwise(parts))
    return best, grows


def _is_speech(text: str) -> bool:
    return bool(re.search(r"[^\W\d_]", text)) and not text.startswith(("http://", "https://"))
