"""A mail box: a small mail server on loopback that puts each message into a file (RFC 5321, what
senders need of it).

Nothing goes on from here. Recipients whose names begin with `nobody` are refused.
"""

import asyncio
import re
import secrets
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mantisreed.files import write_whole
from mantisreed.state import make_folder

_LARGEST = 32 << 20  # bytes of a message
_ADDRESS = re.compile(r"<([^>]*)>")
_UNKNOWN = "nobody"


_ANSWERS = {
    "EHLO": "250-mailbox.marsh.example\r\n250 AUTH PLAIN",
    "HELO": "250 mailbox.marsh.example",
    "AUTH": "235 come in",  # it knows no passwords, and keeps none
    "MAIL": "250 go on",
    "RSET": "250 as you like",
    "NOOP": "250 as you like",
    "QUIT": "221 bye",
}
"""Answers that are always the same (RFC 5321, 4.1)."""


class MailBox:
    """The server, with what it has taken.

    Attributes:
        folder: where messages go, as `.eml` files.
    """

    def __init__(self, folder: Path) -> None:
        """Make the folder."""
        make_folder(folder)
        self.folder = folder

    @property
    def messages(self) -> list[bytes]:
        """All messages, the first one first."""
        return [path.read_bytes() for path in sorted(self.folder.glob("*.eml"))]

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Speak with one sender."""
        recipients: list[str] = []

        async def say(line: str) -> None:
            writer.write(f"{line}\r\n".encode())
            await writer.drain()

        try:
            await say("220 mailbox.marsh.example")
            while line := await reader.readline():
                words = line.decode("utf-8", "replace").strip()
                verb = words[:4].upper()
                if verb == "MAIL":
                    recipients.clear()
                if verb == "RCPT":
                    await say(_recipient_answer(words, recipients))
                elif verb == "DATA" and recipients:
                    await say("354 end with a dot")
                    self._keep(await self._message(reader))
                    await say("250 taken")
                else:
                    await say(_ANSWERS.get(verb, "503 not now"))
                if verb == "QUIT":
                    return
        except (ConnectionError, asyncio.LimitOverrunError, ValueError):
            pass  # the sender has gone, or is none
        finally:
            writer.close()

    async def _message(self, reader: asyncio.StreamReader) -> bytes:
        lines: list[bytes] = []
        size = 0
        while (line := await reader.readline()) not in (b".\r\n", b".\n", b""):
            size += len(line)
            if size > _LARGEST:
                raise ValueError("too large a message")
            # A dot at the beginning comes twice (RFC 5321, 4.5.2).
            lines.append(line[1:] if line.startswith(b"..") else line)
        return b"".join(lines)

    def _keep(self, message: bytes) -> None:
        number = len(list(self.folder.glob("*.eml"))) + 1
        write_whole(self.folder / f"{number:04d}-{secrets.token_hex(3)}.eml", message)


@contextmanager
def mailbox(folder: Path) -> Iterator[tuple[str, MailBox]]:
    """A mail box that is served from a thread for as long as the context lasts; gives its
    address.
    """
    box, ready, loop = MailBox(folder), threading.Event(), asyncio.new_event_loop()
    listener = socket.create_server(("127.0.0.1", 0))

    async def serve() -> None:
        async with await asyncio.start_server(box.serve, sock=listener, limit=1 << 20):
            ready.set()
            await stopping.wait()

    stopping = asyncio.Event()
    thread = threading.Thread(target=lambda: loop.run_until_complete(serve()), daemon=True)
    thread.start()
    ready.wait()
    try:
        yield f"smtp://127.0.0.1:{listener.getsockname()[1]}", box
    finally:
        loop.call_soon_threadsafe(stopping.set)
        thread.join()
        loop.close()


def _recipient_answer(words: str, recipients: list[str]) -> str:
    """What is answered to a recipient, who is noted where there is such a mail box."""
    found = _ADDRESS.search(words)
    if found is None or found[1].startswith(_UNKNOWN):
        return "550 no such mail box"
    recipients.append(found[1])
    return "250 go on"
