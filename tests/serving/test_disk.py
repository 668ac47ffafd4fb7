"""What the service keeps on disk: whole or told, never silently cut."""

import asyncio
import errno
import os
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving import uploads


async def blocks(*contents: bytes) -> AsyncIterator[bytes]:
    for content in contents:
        yield content


async def broken_blocks(*contents: bytes) -> AsyncIterator[bytes]:
    for content in contents:
        yield content
    raise ConnectionResetError


@pytest.mark.parametrize("fails_at", ["a block", "the last block"])
def test_an_upload_on_a_full_disk_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fails_at: str
) -> None:
    append = uploads._append

    def full(path: Path, content: bytes, *, is_last: bool) -> None:
        if is_last == (fails_at == "the last block"):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        append(path, content, is_last=is_last)

    monkeypatch.setattr(uploads, "_append", full)
    with pytest.raises(Problem) as caught:
        asyncio.run(uploads.written(tmp_path / "sent", blocks(bytes(1 << 18), b"the end"), None))
    assert caught.value.status == 507 and "no space left" in caught.value.detail


def test_what_came_before_the_sender_broke_off_is_kept(tmp_path: Path) -> None:
    with pytest.raises(ConnectionResetError):
        asyncio.run(
            uploads.written(tmp_path / "sent", broken_blocks(b"half a ", b"sentence"), None)
        )
    assert (tmp_path / "sent").read_bytes() == b"half a sentence"
