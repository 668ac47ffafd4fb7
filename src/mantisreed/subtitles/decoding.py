"""Bytes of a text file as text, whatever they were written in."""

import codecs

from mantisreed.subtitles.remarks import Remark

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


def decoded(content: bytes) -> tuple[str, list[Remark]]:
    """The text with line feeds only, and what had to be guessed or mended."""
    remarks: list[Remark] = []
    for mark, encoding in _MARKS:
        if content.startswith(mark):
            text = content[len(mark) :].decode(encoding, "replace")
            break
    else:
        text, guessed = _without_mark(content)
        if guessed:
            remarks.append(Remark(f"the text was read as {guessed}", "", "UTF-8"))
    if "\ufffd" in text and "\ufffd".encode() not in content:
        remarks.append(Remark("some characters could not be read", "", "UTF-8"))
    if "\0" in text:
        text = text.replace("\0", "\ufffd")
        remarks.append(Remark("characters of no meaning were replaced", "U+0000", "text"))
    return with_line_feeds(text), remarks


def with_line_feeds(text: str) -> str:
    """The text without a mark of its order of bytes, its lines ended by line feeds."""
    return text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")


def _without_mark(content: bytes) -> tuple[str, str | None]:
    """The text, and the encoding if it was guessed."""
    head = content[:4096]
    if len(head) >= 4 and head.count(0) > len(head) // 4:
        # Text of the western kind in two bytes a character has every other one empty.
        encoding = "utf-16-le" if head[1::2].count(0) > head[0::2].count(0) else "utf-16-be"
        return content.decode(encoding, "replace"), "UTF-16 without a mark"
    try:
        return content.decode("utf-8"), None
    except UnicodeDecodeError:
        return content.decode("cp1252", "replace"), "Latin-1"
