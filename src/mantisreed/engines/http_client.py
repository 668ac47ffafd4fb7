"""Speaking to an engine by the steps of its card: upload, send, poll, fetch."""

import json
import logging
import time
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from mantisreed.engines.answers import HttpAnswer, NothingHeardError, check_answer, quoted_beginning
from mantisreed.engines.card import EngineCard, Step
from mantisreed.engines.client import EngineResponse, Ticket
from mantisreed.engines.placeholders import Value, filled
from mantisreed.engines.request import Piece, RequestOptions, build_step, build_token_request, piece_values
from mantisreed.engines.secrets import Secret, without_secrets
from mantisreed.errors import BadRequestError, JobFailedError, JobLostError, RefusedError, UnreadableReplyError

if TYPE_CHECKING:
    from mantisreed.engines.transport import Transport

_log = logging.getLogger(__name__)

_GONE = (404, 410)
_EARLY = 30.0  # seconds before its end that a token is renewed


class HttpClient:
    """An engine that is spoken to over HTTP."""

    def __init__(
        self,
        card: EngineCard,
        secrets: Mapping[str, Secret],
        transport: "Transport",
        *,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._card = card
        self._secrets = secrets
        self._transport = transport
        self._clock = clock
        self._token: tuple[str, float] | None = None

    async def submit(self, piece: Piece, request_options: RequestOptions) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        values = piece_values(self._card, piece, request_options, self._secrets)
        try:
            if self._card.upload:
                values |= self._taken("upload", self._card.upload, await self._exchange("upload", values, piece))
            assert self._card.send is not None
            answer = await self._exchange("send", values, piece)
            if not self._card.poll:
                return EngineResponse(answer.body)
            try:
                return self._ticket(values, self._taken("send", self._card.send, answer))
            except UnreadableReplyError as error:
                # The engine has the piece: what reading this answer again needs is kept with it.
                error.step, error.values, error.may_be_charged = "send", self._kept_values(values), True
                raise
        except NothingHeardError:
            return EngineResponse(None)

    async def ask(self, ticket: Ticket) -> EngineResponse | None:
        """See `EngineClient`."""
        poll = self._card.poll
        assert poll is not None
        values = self._values_of(ticket)
        try:
            try:
                answer = await self._exchange("poll", values)
            except BadRequestError as error:
                if error.status not in _GONE:
                    raise
                what = f"the engine does not know the job any more (HTTP {error.status})"
                lost = JobLostError(what, engine=self._card.name, status=error.status, answer=error.answer)
                lost.is_forgotten = True
                raise lost from error
            if not self._is_done(answer):
                return None
            if self._card.fetch:
                values |= self._taken("poll", poll, answer)
                answer = await self._exchange("fetch", values)
        except NothingHeardError:
            return EngineResponse(None)
        return EngineResponse(answer.body)

    def read_again(self, step: str, answer: bytes, values: Mapping[str, Any]) -> Ticket:
        """See `EngineClient`."""
        assert self._card.send is not None
        return self._ticket(values, self._taken("send", self._card.send, HttpAnswer(200, {}, answer)))

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """See `EngineClient`."""
        lookup = self._card.lookup
        if lookup is None:
            return None
        values = piece_values(self._card, piece, request_options, self._secrets)
        try:
            answer = await self._exchange("lookup", values)
        except BadRequestError as error:
            if error.status in _GONE:
                return None
            raise
        found = {key: path.find(answer.body, answer.headers) for key, path in lookup.take.items()}
        if any(value is None for value in found.values()):
            return None
        return self._ticket(values, {key: value for key, value in found.items() if value is not None})

    async def cancel(self, ticket: Ticket) -> bool:
        """See `EngineClient`."""
        if self._card.cancel is None:
            return False
        await self._exchange("cancel", self._values_of(ticket))
        return True

    def _ticket(self, values: Mapping[str, Value], taken: Mapping[str, Value]) -> Ticket:
        """A ticket is kept; secrets, and what the card makes of them, are read anew when it is used."""
        kept = self._kept_values({**values, **taken})
        # The address is that of the card, so that the same number of two engines is not the same job.
        mark = json.dumps([self._card.address, *sorted(taken.items())]) if taken else None
        return Ticket(kept, mark)

    def _kept_values(self, values: Mapping[str, Value]) -> dict[str, Value]:
        left_out = {*self._secrets, *self._card.values, "token", "callback"}
        return {name: value for name, value in values.items() if name not in left_out}

    def _values_of(self, ticket: Ticket) -> dict[str, Value]:
        values: dict[str, Value] = {**ticket.values, **{name: s.reveal() for name, s in self._secrets.items()}}
        return values | {name: filled(template, values) for name, template in self._card.values.items()}

    def _is_done(self, answer: HttpAnswer) -> bool:
        """Whether the job is done; its own words when it failed."""
        poll = self._card.poll
        assert poll is not None
        if poll.state is None:
            return answer.status != 202
        document = _json(answer.body)
        state = poll.state.find(document)
        if state in poll.failed:
            reason = poll.reason.find(document) if poll.reason else None
            said = f", saying: {quoted_beginning(str(reason).encode(), self._secrets.values())}" if reason else ""
            raise JobFailedError(f"the job failed (state {state!r}){said}", engine=self._card.name)
        if state in poll.done:
            return True
        if state in poll.waiting or (isinstance(state, str) and not poll.waiting):
            return False
        raise self._unreadable(
            answer,
            f"poll.state ({poll.state}) finds {state!r}, which its card does not list as waiting, done or failed",
        )

    async def _exchange(self, name: str, values: dict[str, Value], piece: Piece | None = None) -> HttpAnswer:
        """One step, its errors told apart; a token that has ended meanwhile is renewed once."""
        for attempt in (1, 2):
            if self._card.token:
                values["token"] = await self._current_token(values)
            request = build_step(self._card, name, values, self._secrets, piece)
            if _log.isEnabledFor(logging.INFO):
                _log.info("%s: %s %s", name, request.method, without_secrets(request.url, request.secrets))
            answer = await self._transport.exchange(request)
            _log.info("%s: HTTP %d with %d bytes", name, answer.status, len(answer.body))
            try:
                check_answer(self._card, answer, request.secrets, name)
            except RefusedError as error:
                if attempt == 1 and self._card.token and error.status == 401:
                    self._token = None
                    continue
                raise
            return answer
        raise AssertionError("unreachable")

    async def _current_token(self, values: Mapping[str, Value]) -> str:
        if self._token and self._clock() < self._token[1]:
            return self._token[0]
        assert self._card.token is not None
        request = build_token_request(self._card, self._card.token, values, self._secrets)
        answer = await self._transport.exchange(request)
        check_answer(self._card, answer, request.secrets, "token")
        document = _json(answer.body)
        token = document.get("access_token") if isinstance(document, dict) else None
        if not isinstance(token, str):
            raise UnreadableReplyError("the token's answer holds no access_token", engine=self._card.name)
        lasts = document.get("expires_in")
        seconds = float(lasts) if isinstance(lasts, (int, float)) else 300.0
        self._token = token, self._clock() + max(seconds - _EARLY, seconds / 2)
        return token

    def _taken(self, name: str, step: Step, answer: HttpAnswer) -> dict[str, Value]:
        taken: dict[str, Value] = {}
        for key, path in step.take.items():
            value = path.find(answer.body, answer.headers)
            if value is None:
                raise self._unreadable(answer, f"{name}.take.{key} ({path}) finds nothing in the answer")
            taken[key] = value
        return taken

    def _unreadable(self, answer: HttpAnswer, what: str) -> UnreadableReplyError:
        quoted = quoted_beginning(answer.body, self._secrets.values())
        error = UnreadableReplyError(what, engine=self._card.name, status=answer.status, answer=quoted)
        error.body = answer.body
        error.may_be_charged = False
        return error


def _json(body: bytes) -> Any:
    try:
        return json.loads(body)
    except ValueError:
        return None
