"""Secrets: where they are kept, and values that never show themselves."""

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from mantisreed.errors import SecretError
from mantisreed.files import shown

HIDDEN = "***"


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
    """Where a secret is kept: `env:NAME` or `file:PATH`, the path relative to the settings file's folder."""

    def __init__(self, kind: str, place: str) -> None:
        self.kind = kind
        self.place = place

    @classmethod
    def parse(cls, text: object) -> "SecretSource":
        """Read `env:NAME` or `file:PATH`. A literal secret is refused, and not repeated in the message.

        Raises:
            ValueError: it is neither.
        """
        kind, colon, place = text.partition(":") if isinstance(text, str) else ("", "", "")
        if kind in ("env", "file") and colon and place:
            return cls(kind, place)
        raise ValueError(
            "a secret is never written in the settings\n"
            'put it in an environment variable and write "env:NAME" here, or in a file and write "file:PATH"'
        )

    def __str__(self) -> str:
        return f"{self.kind}:{shown(self.place)}"

    def read(self, folder: Path, environment: Mapping[str, str] = os.environ) -> Secret:
        """The secret.

        Raises:
            SecretError: it is not there, or empty.
        """
        value = environment.get(self.place, "") if self.kind == "env" else self._file_content(folder)
        if not value.strip():
            advice = (
                f"set it in your shell, e.g. export {self.place}=..."
                if self.kind == "env"
                else "write the key into that file, on a line by itself"
            )
            raise SecretError("the secret is empty or not set", where=str(self), advice=advice)
        if any(ord(character) < 0x20 for character in value.strip()):
            raise SecretError("the secret holds a line break or a control character", where=str(self))
        return Secret(value.strip())

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
