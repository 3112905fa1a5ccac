"""A way to a server that breaks off when it is told to: at which message of the program, and
whether that message still gets there."""

from __future__ import annotations

import contextlib
import select
import socket
import struct
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass

When = Callable[[int, bytes], bool]
"""Of the number and the text of a message: whether the connection breaks off there."""
PORTS = {"PostgreSQL": 5432, "MariaDB": 3306}


@dataclass
class Way:
    """A port that leads to a server. `when` says at which message it breaks off; with `delivered`
    the server carries that one out (the answer is lost), else it never gets there. Later
    connections are `admitted` or not."""

    server: int
    when: When
    delivered: bool = True
    admitted: bool = True
    messages: int = 0
    broken: bool = False
    port: int = 0

    def url(self, url: str) -> str:
        """The URL of the same database on this way."""
        return url.replace("127.0.0.1", f"127.0.0.1:{self.port}")

    def listen(self, listener: socket.socket) -> None:
        """Lets programs through, each on a connection of its own."""
        while True:
            try:
                client, _ = listener.accept()
            except OSError:
                return
            if self.broken and not self.admitted:
                _break(client)
            else:
                threading.Thread(target=self._pass_on, args=(client,), daemon=True).start()

    def _pass_on(self, client: socket.socket) -> None:
        server = socket.create_connection(("127.0.0.1", self.server))
        for one in (client, server):
            one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        with contextlib.suppress(OSError):
            while True:
                for ready in select.select([client, server], [], [])[0]:
                    text = ready.recv(1 << 20)
                    if not text:
                        raise OSError
                    if ready is client:
                        self.messages += 1
                        if not self.broken and self.when(self.messages, text):
                            self.broken = True
                            if self.delivered:
                                server.sendall(text)
                                select.select([server], [], [], 20)
                            raise OSError
                    (server if ready is client else client).sendall(text)
        _break(client)
        _break(server)


def _break(one: socket.socket) -> None:
    with contextlib.suppress(OSError):
        one.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    one.close()


@contextlib.contextmanager
def breakable(engine: str, when: When, **how: bool) -> Iterator[Way]:
    """Such a way to a server of this machine."""
    way = Way(PORTS[engine], when, **how)
    with socket.create_server(("127.0.0.1", 0)) as listener:
        way.port = listener.getsockname()[1]
        thread = threading.Thread(target=way.listen, args=(listener,), daemon=True)
        thread.start()
        yield way
        listener.shutdown(socket.SHUT_RDWR)
        thread.join()
