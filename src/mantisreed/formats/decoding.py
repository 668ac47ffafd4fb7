"""Bytes of a text file as text, whatever they were written in."""

import codecs
import re

from mantisreed.errors import InputError
from mantisreed.subtitles.remarks import Remark

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
# Those that subtitles are found in; each more makes the detector less sure.
_SINGLE_BYTE = [
    "cp1250",
    "cp1251",
    "cp1252",
    "cp1253",
    "cp1254",
    "iso8859_2",
    "koi8_r",
    "cp1255",
    "cp1256",
]
_CANDIDATES = [*_SINGLE_BYTE, "cp932", "gb18030", "big5", "cp949", "euc_jp"]
_NAMES = {
    "cp1252": "Windows-1252 (Latin-1)",
    "cp932": "Shift-JIS",
    "cp949": "EUC-KR",
    "gb18030": "GB18030",
    "big5": "Big5",
    "euc_jp": "EUC-JP",
    "koi8_r": "KOI8-R",
    "iso8859_2": "ISO 8859-2",
}
_SAMPLE = 20_000  # bytes of lines that tell; a detector needs no more, and its time grows with them
_ASCII, _RUNS = re.compile(rb"[\x00-\x7f]+"), re.compile(rb"[\x80-\xff]{2,}")
_MULTIBYTE = re.compile(
    rb"[\xc2-\xdf][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}|[\xf0-\xf4][\x80-\xbf]{3}"
)

# Bytes by which Western and Central European texts differ, where a detector cannot tell: `å` and
# `à` are frequent letters where `ĺ` and `ŕ` are rare ones, and the other way round for `ř`, `ě`,
# `ů`, `š` and `ž`.
_WESTERN = {0xE0: 2.0, 0xE5: 2.0, 0xF1: 1.0, 0xEA: 1.0, 0xE8: 0.5, 0xBF: 1.0, 0xA1: 2.0, 0xE6: 0.5}
_CENTRAL = {
    0xF8: 1.0,
    0xEC: 2.0,
    0xF9: 1.5,
    0x9A: 2.0,
    0x9E: 2.0,
    0xB3: 2.0,
    0xB9: 2.0,
    0xF2: 1.0,
    0xEF: 0.5,
}


def decoded(content: bytes, encoding: str | None = None) -> tuple[str, list[Remark]]:
    """The text with line feeds only, and what had to be guessed or mended.

    Args:
        content: of the file.
        encoding: what it was written in, by any name that Python knows; None finds out.

    Raises:
        InputError: there is no encoding of this name.
    """
    remarks: list[Remark] = []
    if encoding is not None:
        text = content.decode(known_encoding(encoding), "replace")
    else:
        text, remarks = _found_out(content)
    # A text may hold that sign itself.
    if "\ufffd" in text and "\ufffd".encode() not in content and not remarks:
        remarks.append(Remark("some characters could not be read", "", encoding or "UTF-8"))
    if "\0" in text:
        text = text.replace("\0", "\ufffd")
        remarks.append(Remark("characters of no meaning were replaced", "U+0000", "text"))
    if text.startswith("\ufeff\ufeff") or (
        text.startswith("\ufeff") and content.startswith(_BYTE_ORDER_MARKS)
    ):
        remarks.append(Remark("there are two byte order marks", "", "one, or none"))
    return with_line_feeds(text), remarks


_BYTE_ORDER_MARKS = tuple(mark for mark, _ in _MARKS)


def known_encoding(name: str) -> str:
    """The name under which Python knows an encoding.

    Raises:
        InputError: there is none.
    """
    try:
        found = codecs.lookup(name)
    except (LookupError, ValueError) as error:
        raise InputError(
            f"no encoding is called {name!r}",
            advice="such as utf-8, cp1252, shift_jis, gb18030",
        ) from error
    if not found._is_text_encoding:
        raise InputError(
            f"{name!r} is no encoding of text",
            advice="such as utf-8, cp1252, shift_jis, gb18030",
        )
    return found.name


def with_line_feeds(text: str) -> str:
    """The text without marks of its order of bytes, its lines ended by line feeds."""
    return text.lstrip("\ufeff").replace("\r\r\n", "\n").replace("\r\n", "\n").replace("\r", "\n")


def _found_out(content: bytes) -> tuple[str, list[Remark]]:
    for mark, encoding in _MARKS:
        if content.startswith(mark):
            return content[len(mark) :].decode(encoding, "replace"), []
    head = content[:4096]
    # No text in one byte a character has zeros.
    if len(head) >= 4 and head.count(0) > len(head) // 4:
        # Text of the western kind in two bytes a character has every other one empty.
        if head[1::2].count(0) > head[0::2].count(0):
            encoding = "utf-16-le"
        else:
            encoding = "utf-16-be"
        return content.decode(encoding, "replace"), [_guess("UTF-16 without a mark")]
    try:
        # Hardly anything else is UTF-8 by chance.
        return content.decode("utf-8"), []
    except UnicodeDecodeError as error:
        if _is_damaged_utf8(content):
            return content.decode("utf-8", "replace"), [_stray(content, error)]
    encoding = _detected(content)
    return content.decode(encoding, "replace"), [
        _guess(_NAMES.get(encoding, encoding.replace("cp", "Windows-")))
    ]


def _guess(name: str) -> Remark:
    return Remark(f"the text was read as {name}", "", "UTF-8")


def _stray(content: bytes, error: UnicodeDecodeError) -> Remark:
    """What is said of a byte that is no UTF-8 in a text that is."""
    line = content.count(b"\n", 0, error.start) + 1
    count = content.decode("utf-8", "replace").count("\ufffd") - content.count("\ufffd".encode())
    more = "" if count < 2 else f", the first of {count}"
    return Remark(
        "a byte is no UTF-8 and was replaced",
        f"0x{content[error.start]:02x}{more}",
        "UTF-8",
        line,
    )


def _is_damaged_utf8(content: bytes) -> bool:
    """Whether a text is UTF-8 but for some bytes: more of its characters are whole than bytes are
    none.
    """
    whole = len(_MULTIBYTE.findall(content))
    stray = len(_ASCII.sub(b"", _MULTIBYTE.sub(b"", content)))
    return whole > stray


def _detected(content: bytes) -> str:
    """The likeliest encoding of a text that is not UTF-8."""
    from charset_normalizer import from_bytes  # only for such texts: it takes long to import

    # ASCII is the same in all of them.
    telling = [line for line in content.splitlines() if not line.isascii()]
    sample = b"\n".join(telling)[:_SAMPLE]
    # Single bytes above ASCII between ASCII letters are accents; signs of several bytes come in
    # runs.
    in_runs = sum(map(len, _RUNS.findall(sample)))
    are_signs = in_runs > 0.5 * len(_ASCII.sub(b"", sample))
    matches = list(from_bytes(sample, cp_isolation=_CANDIDATES if are_signs else _SINGLE_BYTE))
    # As most texts without a mark are from the West, and any bytes can be read so.
    if not matches:
        return "cp1252"
    best = matches[0]
    as_good = {
        one.encoding
        for one in matches
        if (one.chaos, one.coherence) == (best.chaos, best.coherence)
    }
    balance = sum(_WESTERN.get(byte, 0.0) - _CENTRAL.get(byte, 0.0) for byte in sample)
    if {"cp1250", "cp1252"} <= as_good | set(best.could_be_from_charset):
        if balance < 0.0:
            return "cp1250"
        return "cp1252"
    if best.encoding in ("cp1252", "cp1254") and balance < 0.0:
        return "cp1250"
    return best.encoding
