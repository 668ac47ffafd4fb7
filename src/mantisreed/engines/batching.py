"""Engines that take several pieces in one job: pieces are gathered, sent together, and told apart
in the reply.
"""

import asyncio
import copy
import json
import logging
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import chain
from typing import Any

from mantisreed.cards.requests import as_json_value
from mantisreed.cards.templates import Value
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.run import ExchangeRun
from mantisreed.cards.wire.standing import FinishedExchange, Standing, Waiting
from mantisreed.engines.card import BatchedJobs, EngineCard
from mantisreed.engines.client import EngineResponse, StillWorking, Ticket
from mantisreed.engines.http_client import HttpClient
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, outer_documents, unpacked
from mantisreed.engines.request import Piece, RequestOptions, attachment_of
from mantisreed.errors import EngineError, JobFailedError, UnreadableReplyError

_log = logging.getLogger(__name__)

# of whole jobs; each holds the results of many pieces, which come for them one after the other
_KEPT_REPLIES = 16
_SAME_QUESTION = (
    1.0  # seconds within which the answer for one piece of a job is good for the others
)
# In tickets too, so that a later process knows which part of the reply is its own.
_PIECE_KEY = "piece_key"


@dataclass(slots=True)
class _Group:
    """Pieces that go into one job of the engine."""

    items: dict[str, Any] = field(default_factory=dict)
    values: dict[str, Value] = field(default_factory=dict)
    sent: "asyncio.Future[FinishedExchange | Standing] | None" = None
    timer: asyncio.TimerHandle | None = None


@dataclass(slots=True)
class _Question:
    """The newest answer to a question that many pieces ask."""

    answer: "asyncio.Task[FinishedExchange | Waiting]"
    asked: float


class BatchClient:
    """An engine that answers for many pieces at once."""

    def __init__(self, card: EngineCard, client: HttpClient) -> None:
        """`client` makes the requests."""
        assert card.batch is not None
        self._card, self._batch, self._client = card, card.batch, client
        self._exchange = client.exchange
        self._first = self._exchange.sequence.index_of(card.batch.step)
        self._group: _Group | None = None
        self._sending: set[asyncio.Task[None]] = set()
        self._questions: dict[str, _Question] = {}
        self._results: OrderedDict[str, dict[str, Any]] = OrderedDict()
        self._untidied: dict[str, set[str]] = {}

    async def make_ready(self) -> None:
        """There is nothing to load."""

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        values = self._client.values_of(piece, request_options)
        # Services limit how long names may be; half of a SHA-256 is enough to tell pieces apart.
        key = str(values["request_id"])[:32]
        values[_PIECE_KEY] = key
        prepared = await self._exchange.prepared(key, values, attachment_of(piece), self._first)
        if isinstance(prepared, FinishedExchange):
            return self._client.response(prepared)
        came = await self._sent_with_others(key, prepared)
        if isinstance(came, FinishedExchange):
            return self._response_for(key, came, None)
        return self._ticket(came, key)

    async def _sent_with_others(self, key: str, run: ExchangeRun) -> FinishedExchange | Standing:
        """What came of the job that a piece went into."""
        group = self._joined(key, run)
        assert group.sent is not None
        try:
            # One piece that is given up must not take those down that leave with it.
            return await asyncio.shield(group.sent)
        except asyncio.CancelledError:
            # What has not left yet leaves without it.
            group.items.pop(key, None)
            raise
        except EngineError as error:
            # Each piece has an error of its own, as each is dealt with by itself.
            own = copy.copy(error)
            if isinstance(own, UnreadableReplyError) and own.values is not None:
                own.values = {**own.values, _PIECE_KEY: key}
            raise own from error

    def _joined(self, key: str, run: ExchangeRun) -> _Group:
        """The group that a piece goes with; it leaves when it is full, or after a while."""
        loop = asyncio.get_running_loop()
        group = self._group
        if group is None:
            group = self._group = _Group(sent=loop.create_future())
            # Whoever comes first waits the longest, and no longer than the card says.
            group.timer = loop.call_later(float(self._batch.wait), self._leave, group)
        group.items[key] = self._batch.item.document(run.values)
        # What is not of one piece is the same in all of them, so that the last one's will do.
        group.values = run.values
        if len(group.items) >= self._batch.size:
            self._leave(group)
        return group

    def _leave(self, group: _Group) -> None:
        """Send a group; what comes later goes with the next."""
        # It left when it was full, before its time was up.
        if self._group is not group:
            return
        self._group = None
        if group.timer is not None:
            group.timer.cancel()
        task = asyncio.get_running_loop().create_task(self._send(group))
        self._sending.add(task)
        task.add_done_callback(self._sending.discard)

    async def _send(self, group: _Group) -> None:
        assert group.sent is not None
        if not group.items:
            group.sent.cancel()
            return
        of_all = {
            name: value
            for name, value in group.values.items()
            if name not in (_PIECE_KEY, "audio_size")
        }
        run = self._exchange.run_of({**of_all, "manifest": list(group.items.values())}, None)
        run.index = self._first
        try:
            await self._exchange.go_through(run, self._exchange.sequence.last_work + 1)
            group.sent.set_result(self._exchange.standing_or_reply(run))
        except EngineError as error:
            self._exchange.note_what_it_means(run, error)
            group.sent.set_exception(error)
        # Whatever it is, all pieces wait for it, and would wait for ever.
        except BaseException as error:
            group.sent.set_exception(error)
        finally:
            if group.sent.done() and not group.sent.cancelled():
                group.sent.exception()  # a group that everybody has left has nobody who asks

    async def ask(self, ticket: Ticket) -> EngineResponse | StillWorking:
        """See `EngineClient`."""
        key, standing = self._parted(ticket.values)
        came = await self._asked_once(standing)
        if isinstance(came, Waiting):
            if came.standing is None:
                moved = None
            else:
                moved = self._ticket(came.standing, key)
            return StillWorking(moved, came.retry_after)
        return self._response_for(key, came, standing)

    async def _asked_once(self, standing: Standing) -> FinishedExchange | Waiting:
        """The answer to a question; pieces of one job that ask at about the same time share one."""
        name, now = _name_of(standing), asyncio.get_running_loop().time()
        question = self._questions.get(name)
        if question is None or (question.answer.done() and not self._is_good(question, now)):
            question = _Question(asyncio.create_task(self._exchange.go_on(standing)), now)
            self._questions[name] = question
            self._forget_old_questions()
        return await asyncio.shield(question.answer)

    def _is_good(self, question: _Question, now: float) -> bool:
        """Whether an answer that is there will do: a reply does, as it may be given only once."""
        if question.answer.cancelled() or question.answer.exception() is not None:
            return False
        return (
            isinstance(question.answer.result(), FinishedExchange)
            or now - question.asked < _SAME_QUESTION
        )

    def _forget_old_questions(self) -> None:
        while len(self._questions) > _KEPT_REPLIES:
            # Never one that is still being asked: those who wait for it would ask again.
            oldest = next(
                (name for name, one in self._questions.items() if one.answer.done()), None
            )
            if oldest is None:
                return
            del self._questions[oldest]

    def _response_for(
        self, key: str, finished: FinishedExchange, standing: Standing | None
    ) -> EngineResponse:
        """A piece's own part of the reply for all of them.

        Raises:
            JobFailedError: there is none for it, or it says that this piece failed.
        """
        if finished.body is None:
            return self._client.response(finished)
        name = _name_of(standing) if standing else key
        if name not in self._results:
            self._results[name] = self._results_in(finished.body)
            self._untidied[name] = set(self._results[name])
            while len(self._results) > _KEPT_REPLIES:
                self._results.popitem(last=False)
        # By its key: results come in any order.
        result = self._results[name].get(key)
        if result is None:
            raise JobFailedError(
                "the reply for all pieces has no result for this one", engine=self._card.name
            )
        batch = self._batch
        if batch.failed_when is not None and batch.failed_when.holds(result):
            reason = batch.reason.find(result) if batch.reason else None
            said = f", saying: {str(reason)[:200]}" if reason else ""
            raise JobFailedError(f"the engine failed on this piece{said}", engine=self._card.name)
        found = batch.reply.find(result) if batch.reply else result
        if found is None:
            raise JobFailedError(
                f"batch.reply ({batch.reply}) finds nothing for this piece", engine=self._card.name
            )
        if isinstance(found, str):
            body = found.encode("utf-8", "surrogatepass")
        else:
            body = json.dumps(found).encode()
        cleanup = None
        if finished.cleanup is not None:
            cleanup = {**finished.cleanup.as_json(), _PIECE_KEY: key, "job": name}
        return EngineResponse(body, self._client.bill(self._noted(result)), cleanup)

    def _results_in(self, body: bytes) -> dict[str, Any]:
        """The results in a reply, by the keys of their pieces."""
        batch = self._batch
        try:
            documents = outer_documents(unpacked(body, self._card.reply.file), _list_names(batch))
        except UnexpectedReplyError as error:
            unread = UnreadableReplyError(
                f"the reply for all pieces: {error}", engine=self._card.name
            )
            unread.body = body
            raise unread from error
        if batch.results is not None:
            lists = [
                found
                for document in documents
                if (found := batch.results.find(document)) is not None
            ]
            documents = list(
                chain.from_iterable(
                    found if isinstance(found, list) else [found] for found in lists
                )
            )
        return {str(key): item for item in documents if (key := batch.key.find(item)) is not None}

    def _noted(self, result: Any) -> dict[str, Value]:
        """What the engine says that it charges for one piece."""
        answer = HttpAnswer(200, (), json.dumps(result).encode())
        places = (
            ("billed_seconds", self._card.billed.seconds),
            ("billed_cost", self._card.billed.cost),
        )
        return {name: take.find(answer) for name, take in places if take is not None}

    async def clean_up(self, response: EngineResponse) -> None:
        """See `EngineClient`; done once, when the last piece of a job has its reply."""
        if response.cleanup is None:
            return
        left = self._untidied.get(str(response.cleanup.get("job")), set())
        # The job is removed when its last piece has been read.
        left.discard(str(response.cleanup.get(_PIECE_KEY)))
        if not left:
            await self._exchange.clean_up(Standing.from_json(response.cleanup))

    def read_again(
        self, step: str, answer: bytes, values: Mapping[str, Any]
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        key = str(values.get(_PIECE_KEY))
        came = self._exchange.read_again(step, answer, values)
        if isinstance(came, FinishedExchange):
            return self._response_for(key, came, None)
        return self._ticket(came, key)

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """There is no knowing: a job of several pieces has no request of ours to be known by."""
        return None

    # It would take all other pieces of the job down.
    async def cancel(self, ticket: Ticket) -> bool:
        """A job of several pieces is not called off for one of them."""
        return False

    def _ticket(self, standing: Standing, key: str) -> Ticket:
        ticket = self._client.ticket(standing, key)
        return Ticket({**ticket.values, _PIECE_KEY: as_json_value(key)}, ticket.mark)

    def _parted(self, values: Mapping[str, Any]) -> tuple[str, Standing]:
        return str(values.get(_PIECE_KEY)), Standing.from_json(values)


def _name_of(standing: Standing) -> str:
    return json.dumps([standing.step, dict(standing.values)], sort_keys=True, default=str)


def _list_names(batch: BatchedJobs) -> frozenset[str]:
    if batch.results:
        return batch.results.list_names
    return frozenset()
