"""What the service keeps on disk: whole or told, never silently cut."""

import asyncio
import errno
import os
from collections.abc import AsyncIterator
from pathlib import Path

import msgspec
import pytest

from mantisreed.errors import InputError, OutputError
from mantisreed.serving.orders import Order, OrderBook
from mantisreed.serving.problems import Problem
from mantisreed.serving.receiving import uploads
from mantisreed.serving.services import Services


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


@pytest.mark.parametrize("content", [b"{", b'{"id": 5}', b'{"version": 99, "id": "x"}'])
def test_a_job_that_cannot_be_read_is_told_and_left(tmp_path: Path, content: bytes) -> None:
    folder = tmp_path / ".mantisreed" / "serve" / "jobs"
    folder.mkdir(parents=True)
    (folder / "aaaa.json").write_bytes(content)
    (folder / "bbbb.json").write_bytes(
        msgspec.json.encode(Order(id="bbbb", owner="", name="note.wav"))
    )
    book = OrderBook(folder, Services(folder.parent / "services"))
    book.open()
    assert [order.id for order in book] == ["bbbb"] and list(book.unreadable) == ["aaaa"]
    assert (folder / "aaaa.json").read_bytes() == content


def test_money_that_was_spent_is_never_forgotten(tmp_path: Path) -> None:
    book = OrderBook(tmp_path / ".mantisreed" / "serve" / "jobs", Services(tmp_path / "services"))
    book.open()
    order = Order(id="aaaaaaaa", owner="me", name="note.wav", cost=2.0)
    book.add(order)
    book.remove(order)
    again = OrderBook(tmp_path / ".mantisreed" / "serve" / "jobs", Services(tmp_path / "services"))
    again.open()
    assert again.forgotten("me") == 2.0
    (tmp_path / ".mantisreed" / "serve" / "spent.json").write_bytes(b'{"me": ')
    with pytest.raises(InputError, match="the costs of tokens cannot be read"):
        OrderBook(
            tmp_path / ".mantisreed" / "serve" / "jobs", Services(tmp_path / "services")
        ).open()


@pytest.mark.skipif(os.geteuid() == 0, reason="root may remove anything")
def test_a_job_whose_file_cannot_be_removed_is_told(tmp_path: Path) -> None:
    book = OrderBook(tmp_path / ".mantisreed" / "serve" / "jobs", Services(tmp_path / "services"))
    book.open()
    order = Order(id="aaaaaaaa", owner="me", name="note.wav")
    book.add(order)
    (tmp_path / ".mantisreed" / "serve" / "jobs").chmod(0o500)
    with pytest.raises(OutputError):
        book.remove(order)
    (tmp_path / ".mantisreed" / "serve" / "jobs").chmod(0o700)
