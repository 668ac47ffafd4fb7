"""A body that is sent in several requests, and goes on where the service says after a failure."""

import re
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any, Protocol

from mantisreed.cards.answers import unreadable
from mantisreed.cards.paths import Take
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import Values
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    SlowDownError,
    UnreachableError,
)

if TYPE_CHECKING:
    from mantisreed.cards.wire.run import ExchangeRun

# As `Range` and `Content-Range` have it (RFC 9110, 14): the number of the last byte.
_RANGE = re.compile(r"(?:bytes[ =])?\s*0\s*-\s*(\d+)(?:/.*)?")
_MOST_FAILURES = 4  # in a row, without a byte more having arrived
_FIRST_PAUSE = 1.0  # seconds


class SendChunk(Protocol):
    """Makes one request."""

    def __call__(
        self, values: Values | None = None, *, step: Step | None = None
    ) -> Awaitable[HttpAnswer]:
        """Send it once."""
        ...


class ChunkSender:
    """Sends the audio of one exchange in chunks."""

    def __init__(
        self,
        engine: str,
        name: str,
        step: Step,
        run: "ExchangeRun",
        sleep: Callable[[float], Awaitable[None]],
    ) -> None:
        assert step.chunks is not None and run.attachment is not None
        self._engine, self._name, self._step, self._run, self._sleep = (
            engine,
            name,
            step,
            run,
            sleep,
        )
        self._chunks = step.chunks
        self._content = run.attachment.content
        self._links_name = run.list_in(step.url or step.path)
        self._links: list[Any] = run.values.get(self._links_name) or []
        self._size = self._size_of_chunks()

    async def answer(self, send: SendChunk) -> HttpAnswer:
        """The answer to the last chunk; what is collected of all answers is put among the run's
        values.

        Raises:
            EngineError: too many failures, or an answer that makes no sense.
        """
        collected: dict[str, list[Any]] = {name: [] for name in self._chunks.collect}
        items: list[Any] = []
        offset, failures = 0, 0
        answer: HttpAnswer | None = None
        while answer is None or offset < len(self._content):
            try:
                answer = await send(self._places(offset))
                following = self._following(answer, offset)
                failures = 0
            except (UnreachableError, EngineBrokeError, SlowDownError) as error:
                failures += 1
                # Failures in a row: a long upload may well meet more than that on its way.
                if failures >= _MOST_FAILURES:
                    raise
                await self._sleep(max(_FIRST_PAUSE * 2**failures / 2, error.retry_after or 0.0))
                following = await self._asked_again(send, offset)
                # The service has all of it, and the answer that said so was lost.
                if answer is None and following >= len(self._content):
                    answer = HttpAnswer(200)
            else:
                found = {name: take.find(answer) for name, take in self._chunks.collect.items()}
                for name, value in found.items():
                    collected[name].append(value)
                if self._chunks.item is not None:
                    places = {**self._run.values, **self._places(offset), **found}
                    items.append(self._chunks.item.document(places))
            offset = following
        if self._chunks.item is not None:
            collected["chunk_items"] = items
        for name, values in collected.items():
            self._run.values[name] = values
            self._run.taken.add(name)
        return answer

    def _size_of_chunks(self) -> int:
        """Bytes of a chunk.

        Raises:
            BadRequestError: nothing says it, or there is not a link for each chunk.
        """
        size: int | None = None
        if self._chunks.size is not None:
            size = self._chunks.size.bytes_of(self._run.values)
        elif self._links:
            # As many chunks as there are links, the last one shorter.
            size = max(1, -(-len(self._content) // len(self._links)))
        if size is None:
            raise self._wrong(
                f"the size of its chunks ({self._chunks.size.source if self._chunks.size else 0}) "
                "is no number of bytes"
            )
        needed = chunk_count(len(self._content), size)
        if self._links and needed > len(self._links):
            raise self._wrong(
                f"there are {needed} chunks, and {len(self._links)} links to send them to"
            )
        return size

    def _wrong(self, what: str) -> BadRequestError:
        advice = f"check steps.{self._name}.chunks in its card"
        return BadRequestError(f"step {self._name}: {what}", engine=self._engine, advice=advice)

    def _places(self, offset: int) -> dict[str, Any]:
        size = self._size
        chunk = self._content[offset : offset + size]
        end = offset + len(chunk)
        number = offset // size + 1
        places = {
            "chunk": chunk,
            "chunk_start": offset,
            "chunk_end": end - 1,
            "chunk_number": number,
            "chunk_count": chunk_count(len(self._content), size),
            "is_last": end >= len(self._content),
        }
        if self._links:
            places[self._links_name] = self._links[number - 1]
        return places

    def _following(self, answer: HttpAnswer, offset: int) -> int:
        """Where the next chunk begins, after an answer."""
        end = min(offset + self._size, len(self._content))
        if self._chunks.received is None:
            return end
        received = _received(self._chunks.received, answer)
        if received is None:
            # The last answer is often the finished upload, which does not count any more.
            return end
        # It would go on for ever, or leave a hole.
        if received > end or received <= offset < len(self._content):
            what = f"has received {received} bytes, after bytes {offset} to {end} were sent"
            raise self._senseless(f"it says that it {what}", answer)
        return received

    async def _asked_again(self, send: SendChunk, offset: int) -> int:
        """Where to go on after a failure: where the service says, or with the same chunk."""
        resume = self._chunks.resume
        if resume is None:
            return offset
        try:
            answer = await send(self._places(offset), step=resume)
        except (UnreachableError, EngineBrokeError, SlowDownError):
            return offset
        received = 0
        for take in (self._chunks.received, *resume.take.values()):
            if take is not None and (found := _received(take, answer)) is not None:
                received = found
                break
        if not 0 <= received <= len(self._content):
            raise self._senseless(
                f"it says that it has received {received} of {len(self._content)} bytes", answer
            )
        return received

    def _senseless(self, what: str, answer: HttpAnswer) -> EngineError:
        advice = "check chunks.received in its card"
        return unreadable(self._engine, f"step {self._name}: {what}", answer, advice=advice)


def chunk_count(total: int, size: int) -> int:
    """How many chunks of a size so many bytes have."""
    return max(1, -(-total // size))


def _received(take: Take, answer: HttpAnswer) -> int | None:
    """How many bytes have arrived, by a number or by a range that ends with the last of them."""
    found = take.find(answer)
    if isinstance(found, bool) or found is None:
        return None
    text = str(found).strip()
    # A plain number counts bytes; a range names the last one.
    if text.isascii() and text.isdecimal():
        return int(text)
    matched = _RANGE.fullmatch(text)
    if matched:
        return int(matched[1]) + 1
    return None
