"""Secrets: where they are kept, and values that never show themselves."""

import base64
import json
import os
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from urllib.parse import quote, quote_plus

from mantisreed.errors import SecretError
from mantisreed.files import printable

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

    def __init__(self, value: str) -> None:
        self._value = value
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
        kind, colon, place = text.partition(":") if isinstance(text, str) else ("", "", "")
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
            value = self._file_content(folder) if self.kind == "file" else self._keyring_entry()
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
        return Secret(value.strip())

    def is_open_to_others(self, folder: Path) -> bool:
        """Whether it is a file that other users of the machine can read."""
        if self.kind != "file" or os.name != "posix":
            return False
        try:
            return bool((folder / Path(self.place).expanduser()).stat().st_mode & 0o044)
        except OSError:
            return False

    def _keyring_entry(self) -> str:
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
_MOST_REMEMBERED = 512
# Characters that are searched for parts; in longer texts only whole secrets are found.
_LONGEST_SEARCHED = 1 << 18
_remembered: OrderedDict[str, "_Forms"] = OrderedDict()


@dataclass(frozen=True, slots=True)
class _Forms:
    """A secret as it may be written.

    Attributes:
        whole: ways to write all of it, longest first.
        parts: all stretches of eight characters of them.
    """

    whole: tuple[str, ...]
    parts: frozenset[str]


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
    parts = frozenset(text[n : n + _PART] for text in whole for n in range(len(text) - _PART + 1))
    return _Forms(whole, parts)


_URL_SAFE = str.maketrans("+/", "-_")


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
    for secret in secrets:
        value = secret.reveal()
        text = (
            text.replace(value, HIDDEN)
            if len(value) < _SHORTEST
            else _hidden(text, _forms_of(value))
        )
    return text


def redacted(text: str) -> str:
    """The text without any secret that this process knows: for everything that leaves it."""
    for forms in list(_remembered.values()):
        text = _hidden(text, forms)
    return text


def redacted_body(body: bytes) -> bytes:
    """An engine's answer as it may be kept: whole secrets that it echoes are hidden, and nothing
    else is touched.
    """
    for forms in list(_remembered.values()):
        for form in forms.whole:
            written = form.encode("utf-8", "surrogateescape")
            if written in body:
                body = body.replace(written, HIDDEN.encode())
    return body


def _hidden(text: str, forms: _Forms) -> str:
    for form in forms.whole:
        if form in text:
            text = text.replace(form, HIDDEN)
    if len(text) > _LONGEST_SEARCHED or not forms.parts:
        return text
    return _without_parts(text, forms.parts)


def _without_parts(text: str, parts: frozenset[str]) -> str:
    found = [n for n in range(len(text) - _PART + 1) if text[n : n + _PART] in parts]
    if not found:
        return text
    pieces, at = [], 0
    for first, last in _runs(found):
        pieces += [text[at:first], HIDDEN]
        at = last + _PART
    return "".join([*pieces, text[at:]])


def _runs(places: list[int]) -> Iterator[tuple[int, int]]:
    """Places that touch each other, as first and last."""
    first = last = places[0]
    for place in places[1:]:
        if place > last + _PART:
            yield first, last
            first = place
        last = place
    yield first, last
