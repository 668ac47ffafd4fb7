"""A recording as a file on this machine, wherever it comes from."""

import re
from contextlib import asynccontextmanager
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, unquote

from mantisreed.errors import RecordingError
from mantisreed.secrets import Secret
from mantisreed.sources.recordings import Source
from mantisreed.urls import split_url

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

    from mantisreed.sources.fetching import FetchHooks

_LETS_IN = re.compile(r"sig|token|key|secret|auth|pass|cred|session|code", re.IGNORECASE)
_LONG_VALUE = (
    24  # characters of a value in a query, from which on it may be a key whatever its name
)


@asynccontextmanager
async def local_file(
    source: Source, folder: Path, hooks: "FetchHooks | None" = None
) -> "AsyncIterator[Path]":
    """The recording as a file; one that is a link is fetched into the folder, for as long as the
    context lasts.

    Args:
        source: the recording.
        folder: where a link's file is kept meanwhile.
        hooks: who is told how the fetching goes.

    Raises:
        RecordingError: it cannot be fetched, or is none.
    """
    if source.problem is not None:
        raise RecordingError(source.problem, where=source.label, advice=source.advice)
    if source.link is None:
        yield source.path
        return
    _hide(source.link)
    if not source.is_web:
        from mantisreed.sources.storage import stored_file  # takes long to import

        async with stored_file(source.link, source.label, folder, hooks) as path:
            yield path
        return
    # Only for links: it takes long to import.
    from mantisreed.sources.fetching import LARGEST_RECORDING, fetched

    if source.most_bytes is None:
        largest = LARGEST_RECORDING
    else:
        largest = min(source.most_bytes, LARGEST_RECORDING)
    async with fetched(
        source.link, source.label, folder, largest=largest, hooks=hooks, named_by=source.named_by
    ) as path:
        yield path


def _hide(link: str) -> None:
    """Let what a link holds of secrets never come out: its password, and what in its query may let
    somebody in.
    """
    parts = split_url(link)
    found = [unquote(parts.password or "")]
    found += [
        value
        for name, value in parse_qsl(parts.query)
        if _LETS_IN.search(name) or len(value) >= _LONG_VALUE
    ]
    for value in found:
        if value:
            Secret(value)
