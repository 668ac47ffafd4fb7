"""Secrets: where they are kept, and values that never show themselves."""

import base64
import html
import json
import os
import re
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import groupby
from pathlib import Path
from typing import Any
from urllib.parse import quote, quote_plus

from mantisreed.errors import SecretError, guard_messages
from mantisreed.extras import from_extra
from mantisreed.files import printable

REPLACEABLE = ("file", "keyring")
"""Kinds of places that can be written; the variables of a shell cannot."""

HIDDEN = "***"


def _how_to_set(kind: str, place: str) -> str:
    if kind == "env":
        return f"set it in your shell: export {place}=..."
    if kind == "file":
        return "write the key into that file, on a line by itself"
    service, _, user = place.partition("/")
    return f"store it with: python -m keyring set {service} {user}"


class Secret:
    """A value that prints as `***`. Only the transport asks for the value itself.

    Every secret of a process is remembered, so that `redacted` can keep it from coming out.
    """

    def __init__(self, value: str, place: "tuple[SecretSource, Path] | None" = None) -> None:
        """Remember it.

        Args:
            value: the secret itself.
            place: where it is kept, and the folder from which its path counts; None for one that
                an answer gave.
        """
        self._value = value
        self.place = place
        _remember(value)

    def reveal(self) -> str:
        """The value."""
        return self._value

    def __repr__(self) -> str:
        return HIDDEN


class SecretSource:
    """Where a secret is kept.

    `env:NAME` is an environment variable, `file:PATH` a file, relative to the settings file's
    folder, and `keyring:SERVICE/USER` an entry of the operating system's keyring.
    """

    def __init__(self, kind: str, place: str) -> None:
        self.kind = kind
        self.place = place

    @classmethod
    def parse(cls, text: object) -> "SecretSource":
        """Read such a text. A literal secret is refused, and not repeated in the message.

        Raises:
            ValueError: it is neither.
        """
        if isinstance(text, str):
            kind, colon, place = text.partition(":")
        else:
            kind, colon, place = ("", "", "")
        if kind in ("env", "file") and colon and place:
            return cls(kind, place)
        if kind == "keyring" and all(place.partition("/")):
            return cls(kind, place)
        raise ValueError(
            "a secret is never written in the settings\n"
            'keep it elsewhere and write "env:NAME", "file:PATH" or "keyring:SERVICE/USER" here'
        )

    @classmethod
    def from_toml(cls, value: object) -> "SecretSource":
        """As `parse`."""
        return cls.parse(value)

    def __str__(self) -> str:
        return f"{self.kind}:{printable(self.place)}"

    def read(self, folder: Path, environment: Mapping[str, str] = os.environ) -> Secret:
        """The secret.

        Raises:
            SecretError: it is not there, or empty.
        """
        if self.kind == "env":
            value = environment.get(self.place, "")
        else:
            if self.kind == "file":
                value = self._file_content(folder)
            else:
                value = self._keyring_entry()
        if not value.strip():
            raise SecretError(
                "the secret is empty or not set",
                where=str(self),
                advice=_how_to_set(self.kind, self.place),
            )
        if any(ord(character) < 0x20 for character in value.strip()):
            raise SecretError(
                "the secret holds a line break or a control character", where=str(self)
            )
        return Secret(value.strip(), (self, folder))

    def is_open_to_others(self, folder: Path) -> bool:
        """Whether it is a file that other users of the machine can read."""
        if self.kind != "file" or os.name != "posix":
            return False
        try:
            return bool((folder / Path(self.place).expanduser()).stat().st_mode & 0o044)
        except OSError:
            return False

    def _keyring_entry(self) -> str:
        with from_extra("keyring", "what reads the system's keyring", str(self)):
            import keyring
            import keyring.errors

        service, _, user = self.place.partition("/")
        try:
            return keyring.get_password(service, user) or ""
        except keyring.errors.KeyringError as error:
            what = (
                f"the keyring cannot be read ({str(error).splitlines()[0] or type(error).__name__})"
            )
            raise SecretError(
                what, where=str(self), advice="is a keyring set up, and unlocked?"
            ) from error

    def _file_content(self, folder: Path) -> str:
        path = folder / Path(self.place).expanduser()
        try:
            return path.read_text(encoding="utf-8")
        except FileNotFoundError:
            return ""
        except (OSError, UnicodeDecodeError) as error:
            raise SecretError("the secret's file cannot be read", where=str(self)) from error


# characters: shorter ones occur by chance, and are only hidden where they are known to be used
_SHORTEST = 6
_PART = 8  # characters: so much of a secret is one as well
_MOST_REMEMBERED = 512  # texts whose hidden form is kept
# Characters that are searched for parts; in longer texts only whole secrets are found.
_LONGEST_SEARCHED = 1 << 18
_remembered: OrderedDict[str, "_Forms"] = OrderedDict()


@dataclass(frozen=True, slots=True)
class _Forms:
    """A secret as it may be written.

    Attributes:
        whole: ways to write all of it, longest first.
        pattern: any of them, in any letters.
        small_whole: the same in small letters.
        small_parts: all stretches of eight characters of them.
    """

    whole: tuple[str, ...]
    pattern: re.Pattern[str]
    small_whole: tuple[str, ...]
    small_parts: frozenset[str]


@lru_cache(maxsize=_MOST_REMEMBERED)
def _forms_of(value: str) -> _Forms:
    content = value.encode("utf-8", "surrogateescape")
    written = {
        value,
        json.dumps(value)[1:-1],
        json.dumps(value, ensure_ascii=False)[1:-1],
        content.hex(),
    }
    written |= {
        quote(value, safe=""),
        quote(value),
        quote_plus(value),
        value.encode("unicode_escape").decode(),
    }
    for before in range(3):
        # What stands before it in base64 (a user's name in Basic) moves it by up to two bytes; the
        # letters at the edges, which it shares with its neighbours, are left out.
        encoded = base64.b64encode(b"\0" * before + content).decode().rstrip("=")
        first, last = -(-before * 8 // 6), len(encoded) - (1 if (before + len(content)) % 3 else 0)
        inner = encoded[first:last]
        if len(inner) >= _SHORTEST:
            written |= {inner, inner.translate(_URL_SAFE)}
    written.add(content.hex().upper())
    whole = tuple(sorted((text for text in written if text), key=len, reverse=True))
    small = tuple(dict.fromkeys("".join(map(_small, text)) for text in whole))
    parts: set[str] = set()
    for text in small:
        parts |= {text[n : n + _PART] for n in range(len(text) - _PART + 1)}
    pattern = re.compile("|".join(map(re.escape, whole)), re.IGNORECASE)
    return _Forms(whole, pattern, small, frozenset(parts))


_URL_SAFE, _NOT_URL_SAFE = str.maketrans("+/", "-_"), str.maketrans("-_", "+/")

_MARK_BEGINS, _MARK_ENDS = "\ue000", "\ue001"  # letters that nobody uses

_LAYERS = 4  # of encodings around each other that are undone
_ENCODED = re.compile(
    r"%(?P<hex>[0-9A-Fa-f]{2})|=(?P<quoted>[0-9A-Fa-f]{2})|=\r?\n"
    r"|(?P<entity>&(?:#\d{1,7}|#[xX][0-9A-Fa-f]{1,6}|[A-Za-z]{2,8});)"
    r"|\\x(?P<x>[0-9A-Fa-f]{2})|\\u(?P<u>[0-9A-Fa-f]{4})|\\[\"/\\]"
)
"""A character that is written in another way: in addresses, mails, pages and JSON."""

_BASE64 = re.compile(r"[A-Za-z0-9+/_-]{12,}={0,2}")


def _remember(value: str) -> None:
    if len(value) < _SHORTEST:
        return
    _remembered[value] = _forms_of(value)
    _remembered.move_to_end(value)
    while len(_remembered) > _MOST_REMEMBERED:
        _remembered.popitem(last=False)


def forget_all() -> None:
    """Forget which secrets this process has known; for programs that go on to something else."""
    _remembered.clear()


def without_secrets(text: str, secrets: Iterable[Secret]) -> str:
    """The text with `***` in place of secrets, however they are written, and of any eight
    characters of one.
    """
    known = []
    for secret in secrets:
        value = secret.reveal()
        if len(value) < _SHORTEST:
            text = text.replace(value, HIDDEN)
        else:
            known.append(_forms_of(value))
    return _hidden(text, known)


def redacted(text: str) -> str:
    """The text without any secret that this process knows: for everything that leaves it."""
    return _hidden(text, list(_remembered.values()))


def marked(value: Any, secrets: Mapping[str, Secret]) -> Any:
    """A JSON value as it may be kept: a mark stands for each secret that an answer has echoed, so
    that it can be filled in again.
    """
    return _replaced(
        value,
        [
            (secret.reveal(), f"{_MARK_BEGINS}{name}{_MARK_ENDS}")
            for name, secret in secrets.items()
            if len(secret.reveal()) >= _SHORTEST
        ],
    )


def unmarked(value: Any, secrets: Mapping[str, Secret]) -> Any:
    """The same with the secrets as they are now."""
    return _replaced(
        value,
        [
            (f"{_MARK_BEGINS}{name}{_MARK_ENDS}", secret.reveal())
            for name, secret in secrets.items()
        ],
    )


def _replaced(value: Any, pairs: Sequence[tuple[str, str]]) -> Any:
    if isinstance(value, str):
        for old, new in pairs:
            value = value.replace(old, new)
        return value
    if isinstance(value, Mapping):
        return {_replaced(key, pairs): _replaced(one, pairs) for key, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [_replaced(one, pairs) for one in value]
    return value


def redacted_body(body: bytes) -> bytes:
    """An engine's answer as it may be kept: whole secrets that it echoes are hidden, in whatever
    letters and encodings, and nothing else is touched.
    """
    text = body.decode("utf-8", "surrogateescape")
    hidden = _hidden(text, list(_remembered.values()), is_whole=True)
    if hidden == text:
        return body
    return hidden.encode("utf-8", "surrogateescape")


def _hidden(text: str, known: Sequence[_Forms], *, is_whole: bool = False) -> str:
    """The text without these secrets, in whatever letters and encodings they stand there; also
    without eight characters of one, unless only whole ones are looked for.
    """
    if not known or not text:
        return text
    if len(text) > _LONGEST_SEARCHED:
        for forms in known:
            text = forms.pattern.sub(HIDDEN, text)
        return text
    if is_whole:
        known = [replace(forms, small_parts=frozenset()) for forms in known]
    is_hidden = bytearray(len(text))
    for view in _views(text):
        for forms in known:
            for first, last in _found_in(view.text, forms):
                begin, end = view.places[first][0], view.places[last - 1][1]
                is_hidden[begin:end] = b"\1" * (end - begin)
    for token in _BASE64.finditer(text):
        said = _decoded_base64(token[0])
        if any(_is_in(said, forms) for forms in known):
            is_hidden[token.start() : token.end()] = b"\1" * len(token[0])
    return _with_gaps(text, is_hidden)


_Place = tuple[int, int]


@dataclass(frozen=True, slots=True)
class _View:
    """A text in small letters, with some of its encodings undone.

    Attributes:
        text: it.
        places: where each character of it stands in the text that was given: first, and behind it.
    """

    text: str
    places: Sequence[_Place]


def _views(text: str) -> Iterator[_View]:
    """The text as it is, and with encodings undone: once, twice and three times."""
    letters, places = list(text), [(at, at + 1) for at in range(len(text))]
    for _ in range(_LAYERS):
        yield _View("".join(map(_small, letters)), places)
        written = "".join(letters)
        if _ENCODED.search(written) is None:
            return
        letters, places = _undone(written, places)


def _undone(text: str, places: Sequence[_Place]) -> tuple[list[str], list[_Place]]:
    """One layer of encodings undone: percent, quoted-printable, entities and escapes."""
    letters: list[str] = []
    found: list[_Place] = []
    at = 0
    for unit in _ENCODED.finditer(text):
        for place in range(at, unit.start()):
            letters.append(text[place])
            found.append(places[place])
        whole = (places[unit.start()][0], places[unit.end() - 1][1])
        for sign in _meant(unit):
            letters.append(sign)
            found.append(whole)
        at = unit.end()
    for place in range(at, len(text)):
        letters.append(text[place])
        found.append(places[place])
    return letters, found


def _meant(unit: "re.Match[str]") -> str:
    """The character that an encoded one means; nothing for a soft line break."""
    if digits := (unit["hex"] or unit["quoted"] or unit["x"] or unit["u"]):
        return chr(int(digits, 16))
    if unit["entity"]:
        return html.unescape(unit["entity"])[:1]
    if unit[0] in ('\\"', "\\/", "\\\\"):
        return unit[0][1:]
    return ""


def _small(letter: str) -> str:
    small = letter.lower()
    if len(small) == 1:
        return small
    return letter


def _found_in(text: str, forms: _Forms) -> Iterator[tuple[int, int]]:
    """Where a secret, or eight characters of it, stands in a text in small letters."""
    for form in forms.small_whole:
        at = text.find(form)
        while at >= 0:
            yield at, at + len(form)
            at = text.find(form, at + 1)
    if forms.small_parts:
        for at in range(len(text) - _PART + 1):
            if text[at : at + _PART] in forms.small_parts:
                yield at, at + _PART


def _is_in(text: str, forms: _Forms) -> bool:
    return next(_found_in(text, forms), None) is not None


def _decoded_base64(token: str) -> str:
    """What a stretch of base64 may say, from whichever of its letters it begins."""
    plain = token.rstrip("=").translate(_NOT_URL_SAFE)
    said = []
    for first in range(4):
        part = plain[first:]
        part = part[: len(part) - len(part) % 4]
        said.append(base64.b64decode(part).decode("latin-1").lower())
    return "\n".join(said)


def _with_gaps(text: str, is_hidden: bytearray) -> str:
    if not any(is_hidden):
        return text
    pieces = []
    for hidden, run in groupby(range(len(text)), key=is_hidden.__getitem__):
        places = list(run)
        pieces.append(HIDDEN if hidden else text[places[0] : places[-1] + 1])
    return "".join(pieces)


# Whatever is raised is clean before anything shortens it, notes it or shows it.
guard_messages(redacted)
