"""Secrets that a service replaces, such as refresh tokens: the new one is put where the old one was
kept, and processes that use it take turns.
"""

import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from secrets import token_hex

from filelock import FileLock, Timeout

from mantisreed.errors import SecretError, reason_of
from mantisreed.extras import from_extra
from mantisreed.files import user_folder
from mantisreed.folders import opened, remove
from mantisreed.secrets import REPLACEABLE, Secret, SecretSource

_LONGEST_TURN = 120.0  # seconds for which another process's login is waited for
_OWN_ONLY = 0o600  # permissions: nobody else reads a secret


class KeptSecret:
    """A secret and its place."""

    def __init__(self, source: SecretSource, folder: Path) -> None:
        """Read nothing yet.

        Args:
            source: a file or an entry of the keyring.
            folder: of the settings, from which the file's path counts.
        """
        self._source, self._folder = source, folder

    @classmethod
    def of(cls, secret: Secret) -> "KeptSecret | None":
        """Where a secret is kept; None where it cannot be replaced."""
        if secret.place is None or secret.place[0].kind not in REPLACEABLE:
            return None
        return cls(*secret.place)

    @contextmanager
    def held(self) -> Iterator[None]:
        """Keep other processes from using the secret meanwhile: most services take each one once.

        Raises:
            SecretError: another process has it for too long, or the lock cannot be made.
        """
        lock = self._lock_file
        try:
            lock.parent.mkdir(parents=True, exist_ok=True)
            # Whoever waits for it does so on a thread, and lets it go on another one.
            holding = FileLock(lock, timeout=_LONGEST_TURN, mode=_OWN_ONLY, thread_local=False)
            holding.acquire()
        except Timeout as error:
            what = f"another process has been using it for {_LONGEST_TURN:.0f} s"
            raise SecretError(what, where=str(self._source)) from error
        except OSError as error:
            what = f"{lock} cannot be locked ({reason_of(error)})"
            raise SecretError(what, where=str(self._source)) from error
        try:
            yield
        finally:
            holding.release()

    def read(self) -> Secret:
        """The secret as it is now.

        Raises:
            SecretError: it is not there.
        """
        return self._source.read(self._folder)

    def replace(self, value: str) -> None:
        """Put another one in its place.

        Raises:
            SecretError: that cannot be done.
        """
        try:
            if self._source.kind == "file":
                self._write(value)
            else:
                self._store(value)
        except OSError as error:
            what = f"the new secret cannot be kept ({reason_of(error)})"
            raise SecretError(what, where=str(self._source)) from error

    @property
    def _file(self) -> Path:
        # Through links: what is replaced is the file itself, not the link that a user has made.
        return (self._folder / Path(self._source.place).expanduser()).resolve()

    @property
    def _lock_file(self) -> Path:
        if self._source.kind == "file":
            return self._file.with_name(f".{self._file.name}.lock")
        name = hashlib.sha256(str(self._source).encode()).hexdigest()[:16]
        return user_folder() / "locks" / f"{name}.lock"

    def _write(self, value: str) -> None:
        file = self._file
        beside = file.with_name(f".{token_hex(8)}.part")
        try:
            descriptor = opened(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, _OWN_ONLY)
            with os.fdopen(descriptor, "w", encoding="utf-8") as sink:
                sink.write(f"{value}\n")
                sink.flush()
                # A token that is lost with the power cannot be had again.
                os.fsync(sink.fileno())
            beside.replace(file)
        except BaseException:
            with suppress(OSError):  # what failed before is raised
                remove(beside)
            raise

    def _store(self, value: str) -> None:
        with from_extra("keyring", "what writes to the system's keyring", str(self._source)):
            import keyring
            import keyring.errors

        service, _, user = self._source.place.partition("/")
        try:
            keyring.set_password(service, user, value)
        except keyring.errors.KeyringError as error:
            raise OSError(str(error).splitlines()[0] if str(error) else "keyring") from error
