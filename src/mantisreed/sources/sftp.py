"""SFTP with keys of hosts that are looked at: a server that shows another key than before is not
spoken to, as it may be somebody else.
"""

import logging
from typing import Any

import paramiko
from fsspec import register_implementation
from fsspec.implementations.sftp import SFTPFileSystem

from mantisreed.errors import InputError
from mantisreed.files import printable, user_folder

_log = logging.getLogger(__name__)

PROTOCOLS = ("sftp", "ssh")


class CheckedSftp(SFTPFileSystem):  # type: ignore[misc]
    """Files of a server that is who it was."""

    def _connect(self) -> None:
        """Connect. A host that was never seen is remembered, as `ssh` does after a question.

        Raises:
            InputError: it shows another key than the known one.
        """
        known = user_folder() / "known_hosts"
        known.parent.mkdir(parents=True, exist_ok=True)
        known.touch(mode=0o600)
        self.client = paramiko.SSHClient()
        self.client.load_system_host_keys()
        # What is added goes into this file, as it was read last.
        self.client.load_host_keys(str(known))
        self.client.set_missing_host_key_policy(_Remembering())
        try:
            self.client.connect(self.host, **self.ssh_kwargs)
        except paramiko.BadHostKeyException as error:
            raise InputError(
                f"{self.host} shows another key than before: it may be another server",
                where=f"sftp://{printable(self.host)}",
                advice=f"if that is right, remove its line from {known} or ~/.ssh/known_hosts",
            ) from error
        self.ftp = self.client.open_sftp()


class _Remembering(paramiko.AutoAddPolicy):  # type: ignore[misc]
    def missing_host_key(self, client: Any, hostname: str, key: Any) -> None:
        super().missing_host_key(client, hostname, key)
        _log.warning("%s is new: its key %s is remembered", hostname, key.fingerprint)


def use_checked_sftp() -> None:
    """Let addresses of SFTP be read so."""
    for protocol in PROTOCOLS:
        register_implementation(protocol, CheckedSftp, clobber=True)
