"""An object store in memory, spoken to as most object stores are: buckets, keys, lists in XML,
ranges of bytes.

It looks at no signature: it stands in for a store's behaviour, not for its safety.
"""

import hashlib
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from email.utils import formatdate
from xml.sax.saxutils import escape

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

_MOST_KEYS = 1000  # of one answer to a request for a list


@dataclass(slots=True)
class _Object:
    content: bytes
    changed: float

    @property
    def tag(self) -> str:
        return f'"{hashlib.md5(self.content, usedforsecurity=False).hexdigest()}"'


@dataclass(slots=True)
class ObjectStore:
    """Buckets of objects.

    Attributes:
        objects: by `BUCKET/KEY`.
    """

    objects: dict[str, _Object] = field(default_factory=dict)

    def put(self, path: str, content: bytes) -> None:
        """Keep an object."""
        self.objects[path] = _Object(content, time.time())

    def application(self) -> Starlette:
        """The store as an ASGI application."""
        methods = ["GET", "HEAD", "PUT", "DELETE"]
        return Starlette(routes=[Route("/{path:path}", self._answer, methods=methods)])

    async def _answer(self, request: Request) -> Response:
        path = request.path_params["path"].rstrip("/")
        bucket, _, key = path.partition("/")
        if request.method == "PUT" and key:
            self.put(path, await request.body())
            return Response(headers={"ETag": self.objects[path].tag})
        if request.method == "DELETE":
            self.objects.pop(path, None)
            return Response(status_code=204)
        if not key:
            return self._list(bucket, dict(request.query_params))
        found = self.objects.get(path)
        if found is None:
            return _xml("Error", "<Code>NoSuchKey</Code>", 404)
        return _part_of(found, request)

    def _list(self, bucket: str, asked: dict[str, str]) -> Response:
        prefix, delimiter = asked.get("prefix", ""), asked.get("delimiter", "")
        after = asked.get("continuation-token", asked.get("start-after", ""))
        keys = sorted(
            path.partition("/")[2] for path in self.objects if path.startswith(f"{bucket}/")
        )
        entries: dict[str, str] = {}
        for key in keys:
            if not key.startswith(prefix):
                continue
            end = key.find(delimiter, len(prefix)) if delimiter else -1
            name = key if end < 0 else key[: end + len(delimiter)]
            if name > after:
                entries.setdefault(name, "prefix" if end >= 0 else "key")
        shown = list(entries.items())[:_MOST_KEYS]
        is_cut = len(shown) < len(entries)
        if is_cut:
            more = f"<NextContinuationToken>{escape(shown[-1][0])}</NextContinuationToken>"
        else:
            more = ""
        described = "".join(self._described(bucket, shown))
        names = f"<Name>{escape(bucket)}</Name><Prefix>{escape(prefix)}</Prefix>"
        head = f"{names}<KeyCount>{len(shown)}</KeyCount>"
        cut = f"<IsTruncated>{str(is_cut).lower()}</IsTruncated>"
        return _xml("ListBucketResult", f"{head}{cut}{more}{described}")

    def _described(self, bucket: str, entries: Iterable[tuple[str, str]]) -> Iterable[str]:
        for name, kind in entries:
            if kind == "prefix":
                yield f"<CommonPrefixes><Prefix>{escape(name)}</Prefix></CommonPrefixes>"
                continue
            one = self.objects[f"{bucket}/{name}"]
            changed = time.strftime("%Y-%m-%dT%H:%M:%S.000Z", time.gmtime(one.changed))
            yield (
                f"<Contents><Key>{escape(name)}</Key><LastModified>{changed}</LastModified>"
                f"<ETag>{escape(one.tag)}</ETag><Size>{len(one.content)}</Size></Contents>"
            )


def _part_of(found: _Object, request: Request) -> Response:
    """The object, or the range of its bytes that is asked for (RFC 9110, 14.2)."""
    headers = {
        "ETag": found.tag,
        "Last-Modified": formatdate(found.changed, usegmt=True),
        "Accept-Ranges": "bytes",
    }
    content, status = found.content, 200
    unit, _, spans = request.headers.get("range", "").partition("=")
    if unit == "bytes":
        first, _, last = spans.partition("-")
        start = int(first) if first else max(0, len(content) - int(last))
        end = min(int(last) if first and last else len(content) - 1, len(content) - 1)
        if start >= len(content):
            return Response(status_code=416, headers=headers)
        headers["Content-Range"] = f"bytes {start}-{end}/{len(content)}"
        content, status = content[start : end + 1], 206
    return Response(content, status, headers, "application/octet-stream")


def _xml(name: str, content: str, status: int = 200) -> Response:
    document = f'<?xml version="1.0" encoding="UTF-8"?><{name}>{content}</{name}>'
    return Response(document, status, media_type="application/xml")
