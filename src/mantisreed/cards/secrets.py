"""Secrets: where they are kept, and values that never show themselves."""

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

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
    """A value that prints as `***`. Only the transport asks for the value itself."""

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The value."""
        return self._value

    def __repr__(self) -> str:
        return HIDDEN


class SecretSource:
    """Where a secret is kept.

    `env:NAME` is an environment variable, `file:PATH` a file, relative to the settings file's folder, and
    `keyring:SERVICE/USER` an entry of the operating system's keyring.
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
                "the secret is empty or not set", where=str(self), advice=_how_to_set(self.kind, self.place)
            )
        if any(ord(character) < 0x20 for character in value.strip()):
            raise SecretError("the secret holds a line break or a control character", where=str(self))
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
            what = f"the keyring cannot be read ({str(error).splitlines()[0] or type(error).__name__})"
            raise SecretError(what, where=str(self), advice="is a keyring set up, and unlocked?") from error

    def _file_content(self, folder: Path) -> str:
        path = folder / Path(self.place).expanduser()
        try:
            return path.read_text(encoding="utf-8")
        except FileNotFoundError:
            return ""
        except (OSError, UnicodeDecodeError) as error:
            raise SecretError("the secret's file cannot be read", where=str(self)) from error


def without_secrets(text: str, secrets: Iterable[Secret]) -> str:
    """The text with every occurrence of a secret's value replaced by `***`."""
    for secret in secrets:
        text = text.replace(secret.reveal(), HIDDEN)
    return text
