"""A web server with whole files, such as feeds and what they lead to."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email.utils import formatdate

from web import QuietHandler, listening

FEED = """<?xml version="1.0"?><rss version="2.0"><channel><title>Notes</title><item>
<title>Evening</title><guid>a</guid><pubDate>{day}</pubDate>
<enclosure url="/a.wav" type="audio/wav" length="9"/>
</item></channel></rss>"""


@dataclass
class Shelf:
    """A web server.

    Attributes:
        pages: what is at each path: content and its type.
        headers: more headers for each path.
        breaks: bytes after which each connection breaks off; None for never.
        asked: paths, with the range that was asked for.
    """

    pages: dict[str, tuple[bytes, str]] = field(default_factory=dict)
    headers: dict[str, dict[str, str]] = field(default_factory=dict)
    breaks: int | None = None
    asked: list[tuple[str, str | None]] = field(default_factory=list)
    url: str = ""

    def offer(self, *paths: str, sound: bytes) -> None:
        """Put a feed at these paths, with one recording of today."""
        self.pages["/a.wav"] = sound, "audio/wav"
        for path in paths:
            self.pages[path] = FEED.format(day=formatdate()).encode(), "application/rss+xml"


@contextmanager
def standing() -> Iterator[Shelf]:
    """A shelf on loopback, until the context ends."""
    shelf = Shelf()

    class Handler(QuietHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:  # noqa: N802
            wanted = self.headers.get("Range")
            shelf.asked.append((self.path, wanted))
            content, kind = shelf.pages.get(self.path, (b"", ""))
            start = int(wanted[6:].partition("-")[0]) if wanted else 0
            self.send_response(404 if not kind else 206 if wanted else 200)
            for name, value in {
                "Content-Type": kind,
                "ETag": '"1"',
                **shelf.headers.get(self.path, {}),
            }.items():
                self.send_header(name, value)
            if wanted:
                self.send_header(
                    "Content-Range", f"bytes {start}-{len(content) - 1}/{len(content)}"
                )
            self.send_header("Content-Length", str(len(content) - start))
            self.end_headers()
            end = len(content) if shelf.breaks is None else start + shelf.breaks
            self.wfile.write(content[start:end])
            self.close_connection = end < len(content)

    with listening(Handler) as port:
        shelf.url = f"http://127.0.0.1:{port}"
        yield shelf
