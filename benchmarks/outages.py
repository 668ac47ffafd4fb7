"""A way to a database that breaks as it is told to."""

import select
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Self
from urllib.parse import urlsplit


class BreakingWay:
    """Passes on what goes to a server and back, and breaks connections.

    Attributes:
        url: of the database, by this way.
        is_away: no connection is made, as if the server were down.
        swallows: the next connection in which this is said breaks once the server has it, and the
            server's answer is lost.
        delay: seconds that each answer takes longer.
    """

    def __init__(self, url: str) -> None:
        """`url` is of the database itself."""
        self.is_away = False
        self.swallows: bytes | None = None
        self.delay = 0.0
        self.url = url
        self._server = urlsplit(url).port or 0
        self._open: set[socket.socket] = set()

    @contextmanager
    def standing(self) -> Iterator[Self]:
        """Listen; from now on `url` leads this way."""
        with socket.create_server(("127.0.0.1", 0)) as listening:
            threading.Thread(target=self._accept, args=(listening,), daemon=True).start()
            door = listening.getsockname()[1]
            self.url = self.url.replace(f":{self._server}/", f":{door}/")
            yield self
            self.is_away = True
            self.cut()

    def cut(self) -> None:
        """Break all connections that stand."""
        for one in list(self._open):
            with suppress(OSError):  # it is closed
                one.shutdown(socket.SHUT_RDWR)

    def _accept(self, listening: socket.socket) -> None:
        while True:
            try:
                client, _ = listening.accept()
            except OSError:
                return
            if self.is_away:
                client.close()
            else:
                threading.Thread(target=self._pass, args=(client,), daemon=True).start()

    def _pass(self, client: socket.socket) -> None:
        with client, socket.create_connection(("127.0.0.1", self._server)) as server:
            self._open |= {client}
            with suppress(OSError):  # one of the two has gone
                while not self._is_over(client, server):
                    pass
            self._open -= {client}

    def _is_over(self, client: socket.socket, server: socket.socket) -> bool:
        ready, _, _ = select.select([client, server], [], [], 10)
        for one, other in ((client, server), (server, client)):
            if one not in ready:
                continue
            data = one.recv(1 << 16)
            if not data:
                return True
            if one is server and self.delay:
                time.sleep(self.delay)
            other.sendall(data)
            if one is client and self.swallows and self.swallows in data:
                self.swallows = None
                server.recv(1 << 16)
                return True
        return False
