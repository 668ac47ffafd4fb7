"""Which words outputs change: lists of strong words and glossaries of corrections, from files."""

import tomllib
from collections.abc import Mapping
from importlib.resources import files as package_files
from pathlib import Path
from typing import Literal

import msgspec

from mantisreed.errors import InputError
from mantisreed.files import printable

Strong = Literal["keep", "mask", "drop"]


class Wording(msgspec.Struct, frozen=True):
    """What is done with words in outputs; the transcript itself stays as it is.

    Attributes:
        strong: what is done with strong words.
        strong_words: them, in lower case; one that ends with `*` stands for all words that begin
            so. None takes the list that ships for the text's language.
        glossary: corrections, wrong to right; whole words and phrases, in any case.
    """

    strong: Strong = "keep"
    strong_words: tuple[str, ...] | None = None
    glossary: tuple[tuple[str, str], ...] = ()


def wording_from(strong: Strong, own_list: Path | None, glossary: Path | None) -> Wording:
    """What is done with words, with the lists read from the user's files where there are some.

    Raises:
        InputError: one of them cannot be read.
    """
    if own_list is None or strong == "keep":
        own = None
    else:
        own = strong_words(None, own_list)
    return Wording(strong, own, () if glossary is None else read_glossary(glossary))


def strong_words(language: str | None, file: Path | None = None) -> tuple[str, ...]:
    """The words of a list, one on each line, `#` before remarks: of the language's own list, or of
    the user's file.

    Raises:
        InputError: the file cannot be read.
    """
    if file is not None:
        return tuple(line.lower() for line in listed_lines(file, "strong words"))
    # Of `de-AT` the list of German will do.
    name = f"strong-words-{(language or 'en').split('-')[0].lower()}.txt"
    bundled = package_files("mantisreed.exports") / name
    if bundled.is_file():
        return tuple(_lines(bundled.read_text(encoding="utf-8").lower()))
    return ()


def listed_lines(file: Path, what: str) -> list[str]:
    """What stands on the lines of a user's list, without remarks behind `#` and spaces around it.

    Args:
        file: the list.
        what: is in it, for the message.

    Raises:
        InputError: it cannot be read.
    """
    try:
        return _lines(file.read_text(encoding="utf-8-sig"))
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(
            f"the list of {what} cannot be read as text", where=printable(file)
        ) from error


def _lines(text: str) -> list[str]:
    lines = (line.partition("#")[0].strip() for line in text.splitlines())
    return [line for line in lines if line]


def read_glossary(file: Path) -> tuple[tuple[str, str], ...]:
    """Corrections from a file with `wrong -> right` on each line, or from TOML with `"wrong" =
    "right"`.

    Raises:
        InputError: it cannot be read, or a line is neither.
    """
    try:
        text = file.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError("the glossary cannot be read as text", where=printable(file)) from error
    if file.suffix.lower() == ".toml":
        try:
            table: Mapping[str, object] = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise InputError(f"the glossary is no TOML ({error})", where=printable(file)) from error
        return tuple((wrong, str(right)) for wrong, right in table.items())
    pairs = []
    for number, line in enumerate(text.splitlines(), 1):
        # A remark may stand behind a correction.
        bare = line.partition("#")[0].strip()
        if not bare:
            continue
        wrong, arrow, right = bare.partition("->")
        if not arrow or not wrong.strip():
            raise InputError("expected: wrong -> right", where=f"{printable(file)}, line {number}")
        pairs.append((wrong.strip(), right.strip()))
    return tuple(pairs)
