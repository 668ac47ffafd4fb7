"""Making the requests of one step, and telling the errors of their answers apart."""

import asyncio
import json
import logging
import time
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import msgspec

from mantisreed.cards.answers import (
    AskedStep,
    check_answer,
    quoted_beginning,
    seconds_until_more,
)
from mantisreed.cards.card import Login, ServiceCard
from mantisreed.cards.paths import Take
from mantisreed.cards.requests import HttpRequest, RequestBuilder, RequestContext, values_of_card
from mantisreed.cards.sequence import StepSequence, audio_names
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import ListTemplate, Template, Value, Values
from mantisreed.cards.wire.chunks import ChunkSender
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.pages import PageReader, joined
from mantisreed.cards.wire.replaced import ReplacedSecrets
from mantisreed.cards.wire.run import ExchangeRun
from mantisreed.cards.wire.session import Session
from mantisreed.cards.wire.streams import EventReader, OnBlock, Stream
from mantisreed.cards.wire.websocket import Conversation
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    JobLostError,
    RefusedError,
    UnreachableError,
)
from mantisreed.secrets import Secret, without_secrets

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_log = logging.getLogger(__name__)

_MOST_LINKS = 1000  # in one reply; more is no reply but a list of something else
_GONE = (404, 410)  # statuses of a job that the engine does not know any more
_NO_ACCESS = (401, 403)  # statuses after which a new login may help
_PAGE_URL, _LAST_ID = "page_url", "last_event_id"


@dataclass(frozen=True, slots=True)
class ExchangeOptions:
    """How exchanges are made.

    Attributes:
        notes: what is looked for in each answer from the one on that may cost.
        clock: seconds that only go forward.
        wall_clock: seconds since 1970.
        sleep: waits.
        on_limit: told for how many seconds nothing more may be sent.
        stream: how the last answer is read while it comes; None where it is read whole.
    """

    notes: Mapping[str, Take] = field(default_factory=dict)
    clock: Callable[[], float] = time.monotonic
    wall_clock: Callable[[], float] = time.time
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep
    on_limit: Callable[[float], None] = lambda seconds: None
    stream: Stream | None = None


class StepSender:
    """Makes the requests of one card's steps, with the login that they share."""

    def __init__(
        self,
        card: ServiceCard,
        secrets: Mapping[str, Secret],
        transport: "Transport",
        sequence: StepSequence,
        options: ExchangeOptions,
    ) -> None:
        """Send nothing yet. `secrets` are the card's."""
        self._card, self.secrets, self._transport = card, dict(secrets), transport
        self._sequence, self._options = sequence, options
        self._with_audio = frozenset(name for name, step in sequence.steps if audio_names(step))
        self._builder = RequestBuilder(card)
        self._etags: dict[str, str] = {}
        #: the card's secrets and its own values, which are read anew when an exchange is resumed
        self.own_names = self._builder.secret_names | frozenset((*card.values, *card.sign))
        login = card.session
        if login is None:
            self._session = None
        else:
            self._session = Session(card.name, login, options.clock, options.wall_clock)

    def _question(self, sending: "_Sending") -> str:
        """What tells the questions of one step from each other: what earlier answers gave."""
        taken = {name: sending.run.values.get(name) for name in sorted(sending.run.taken)}
        return json.dumps([sending.name, taken], sort_keys=True, default=str)

    def with_secrets(self, values: Values) -> dict[str, Value]:
        """The values, with the card's secrets and its own values."""
        known = {**values, **{name: secret.reveal() for name, secret in self.secrets.items()}}
        return known | values_of_card(self._card, known)

    def quoted(self, body: bytes) -> str:
        """The beginning of an answer, for messages."""
        return quoted_beginning(body, self.secrets.values())

    async def answer(
        self, name: str, step: Step, run: ExchangeRun, *, may_renew: bool = True
    ) -> HttpAnswer:
        """The answer to a step's request, or to all of its requests.

        Args:
            name: of the step.
            step: what the card says of it.
            run: the exchange.
            may_renew: whether a login that was refused is made anew, and the request again.

        Raises:
            EngineError: of the kind that the card or the status means.
            NothingHeardError: the card says that nobody spoke.
        """
        sending = _Sending(self, name, step, run, may_renew)
        if step.websocket is not None:
            return await self._conversed(sending)
        if step.chunks is not None:
            sender = ChunkSender(self._card.name, name, step, run, self._options.sleep)
            return await sender.answer(sending.send)
        links = run.list_in(step.url or step.path)
        if links:
            return await self._each_link(sending, links)
        if step.pages is not None:
            return await PageReader(self._card.name, name, step.pages).answer(sending.send)
        return await self._heard(sending)

    async def _heard(self, sending: "_Sending") -> HttpAnswer:
        """The answer to one request; the last one of an exchange is heard while it comes."""
        stream, step = self._options.stream, sending.step
        # Only the reply is worth listening to.
        if stream is None or sending.name != self._sequence.steps[-1][0]:
            return await sending.send()
        if stream.is_events and step.verb == "GET":
            return await EventReader(stream, self._options.sleep).answer(sending.send_after)
        return await sending.send(on_block=stream.listener())

    async def _each_link(self, sending: "_Sending", name: str) -> HttpAnswer:
        """The answers to one request for each item of a list, kept as the pages of one reply."""
        run = sending.run
        items = run.values[name]
        is_last = sending.name == self._sequence.steps[-1][0]
        # In the middle nobody could say which of the answers counts.
        if not is_last or len(items) > _MOST_LINKS:
            wrong = f"{len(items)} links" if is_last else "a list"
            raise BadRequestError(
                f"{{{name}}} in the address of step {sending.name} is {wrong}",
                engine=self._card.name,
                advice=f"only the last step may ask for several links, {_MOST_LINKS} at most; take "
                "one of the list, such as links[0]",
            )
        answers = [await sending.send({name: item}) for item in items]
        if len(answers) == 1:
            return answers[0]
        last = answers[-1]
        return HttpAnswer(200, last.headers, joined([one.body for one in answers]), last.url)

    async def log_in(self) -> Mapping[str, Value]:
        """What `login` or `token` gives; nothing where the card has none.

        Raises:
            EngineError: it failed.
        """
        if self._session is None:
            return {}
        return await self._session.values(self._logged_in)

    async def _logged_in(self) -> HttpAnswer:
        login = self._card.session
        assert login is not None
        if not login.replaces:
            return await self._login_answer(login)
        replaced = ReplacedSecrets(self._card.name, login.replaces, self.secrets)
        async with replaced.held():
            self.secrets |= await replaced.newest()
            answer = await self._login_answer(login)
            self.secrets |= await replaced.replaced_by(answer)
        return answer

    async def _login_answer(self, login: Login) -> HttpAnswer:
        name = self._card.session_name
        try:
            request = self._builder.request(
                name, login, RequestContext(self.with_secrets({}), self.secrets)
            )
            answer = await self._transport.exchange(request)
            check_answer(
                self._card, answer, request.secrets, AskedStep(name, login, carries_audio=False)
            )
        except EngineError as error:
            error.before_work = True
            raise
        return answer

    async def send(self, sending: "_Sending", part: "_Part") -> HttpAnswer:
        """The answer to one request; a login that has ended meanwhile is renewed once."""
        try:
            return await self._sent_once(sending, part)
        except RefusedError as error:
            is_login = error.before_work
            if is_login or not sending.may_renew or error.status not in _NO_ACCESS:
                raise
            if not await self._is_renewed(sending):
                raise
        return await self._sent_once(sending, part)

    async def _is_renewed(self, sending: "_Sending") -> bool:
        """Make the login anew that the service has refused; False when there is none."""
        if self._session is not None:
            # By its generation: others may have renewed it while this request was on its way.
            self._session.refuse(sending.generation)
            return True
        return await self.recover(sending.run)

    async def recover(self, run: ExchangeRun) -> bool:
        """Make those requests again that gave the exchange its secrets: they are not kept, and may
        have ended.

        Returns:
            False when there are none.
        """
        steps = self._sequence.steps_that_hide()
        for name, step in steps:
            answer = await self.answer(name, step, run, may_renew=False)
            run.take(self._card.name, name, step.take, answer)
        return bool(steps)

    async def _sent_once(self, sending: "_Sending", part: "_Part") -> HttpAnswer:
        request = await self.request(sending, part)
        if _log.isEnabledFor(logging.INFO):
            shown_url = without_secrets(request.url, request.secrets)
            _log.info("%s: %s %s", sending.name, request.method, shown_url)
        answer = await (part.carry or self._transport.exchange)(request)
        _log.info("%s: HTTP %d with %d bytes", sending.name, answer.status, len(answer.body))
        self._check(sending, answer, request.secrets)
        # Of each question its own: the same step asks for many jobs.
        if step_tag := answer.header("etag"):
            self._etags[self._question(sending)] = step_tag
        pause = seconds_until_more(answer)
        if pause:
            self._options.on_limit(pause)
        self._note(answer, sending.run)
        return answer

    def _replaced(self) -> dict[str, str]:
        """The newest of the secrets that logins replace."""
        login = self._card.session
        if login is None or not login.replaces:
            return {}
        known = [name for name in login.replaces if name in self.secrets]
        return {name: self.secrets[name].reveal() for name in known}

    async def request(self, sending: "_Sending", part: "_Part") -> HttpRequest:
        """One request of a step.

        Raises:
            EngineError: it cannot be built, or the login failed.
        """
        run, step = sending.run, part.step or sending.step
        shared = await self.log_in()
        sending.generation = self._session.generation if self._session else 0
        values = {
            **run.values,
            **self._replaced(),
            **shared,
            "etag": self._etags.get(self._question(sending)),
        }
        values = {**values, **values_of_card(self._card, values), **part.values}
        # A copy, as a page's link is taken for this request alone.
        taken = set(run.taken)
        if part.url is not None:
            # A link is followed by asking for it, however the first page was asked for.
            bodiless = dict.fromkeys(("form", "json", "urlencoded", "raw", "content_type"))
            url = Template(f"{{{_PAGE_URL}}}")
            step = msgspec.structs.replace(
                step, url=url, path=Template(""), query={}, method="GET", **bodiless
            )
            values[_PAGE_URL] = part.url
            taken.add(_PAGE_URL)
        hides = self._sequence.hidden & taken
        # What is made of a hidden value is as good as it.
        hides |= {
            name for name, value in self._card.values.items() if hides.intersection(value.names)
        }
        hidden = [Secret(str(values[name])) for name in hides if values.get(name)]
        hidden += self._session.secrets if self._session else ()
        context = RequestContext(
            values,
            self.secrets,
            run.attachment,
            frozenset(taken),
            tuple(hidden),
            bases=run.bases,
        )
        request = self._builder.request(sending.name, step, context)
        if part.on_block is None:
            return request
        return replace(request, on_block=part.on_block)

    def _check(self, sending: "_Sending", answer: HttpAnswer, secrets: tuple[Secret, ...]) -> None:
        name, step, run = sending.name, sending.step, sending.run
        asked = AskedStep(
            name,
            step,
            uses_taken=bool(step.names & run.taken),
            carries_audio=name in self._with_audio,
            is_only=len(self._sequence.steps) == 1,
        )
        try:
            check_answer(self._card, answer, secrets, asked)
        except BadRequestError as error:
            is_of_a_job = step.is_asking or name == "lookup"
            if not (is_of_a_job and error.status in _GONE):
                raise
            what = f"the engine does not know the job any more (HTTP {error.status})"
            lost = JobLostError(
                what, engine=self._card.name, status=error.status, answer=error.answer
            )
            lost.is_forgotten = True
            raise lost from error

    def _note(self, answer: HttpAnswer, run: ExchangeRun) -> None:
        if run.index < self._sequence.first_work:
            return
        for name, take in self._options.notes.items():
            value = take.find(answer)
            if value is not None:
                run.noted[name] = value

    async def _conversed(self, sending: "_Sending") -> HttpAnswer:
        run, websocket = sending.run, sending.step.websocket
        assert websocket is not None and run.attachment is not None
        values = {**run.values, **await self.log_in()}
        conversation = Conversation(websocket, run.attachment, values)

        async def carry(request: HttpRequest) -> HttpAnswer:
            return await self._transport.converse(request, conversation)

        try:
            answer = await sending.send(carry=carry)
        except EngineError as error:
            if conversation.finals and not error.answer:
                error.answer = self.quoted(conversation.answer)
            raise
        if conversation.failure is not None:
            quoted = self.quoted(answer.body)
            what = f"it broke the conversation off, saying: {quoted}"
            raise EngineBrokeError(what, engine=self._card.name, answer=quoted)
        return answer


Carry = Callable[[HttpRequest], Awaitable[HttpAnswer]]


@dataclass(frozen=True, slots=True)
class _Part:
    """One of a step's requests.

    Attributes:
        values: more of them, for this request alone.
        url: where it goes instead.
        step: what it is like instead.
        carry: what carries it instead.
        on_block: told each block of the answer as it comes.
    """

    values: Values = field(default_factory=dict)
    url: str | None = None
    step: Step | None = None
    carry: Carry | None = None
    on_block: OnBlock | None = None


@dataclass(slots=True)
class _Sending:
    """A step that is being made.

    Attributes:
        sender, name, step, run, may_renew: as in `StepSender.answer`.
        generation: of the login that its newest request was made with.
    """

    sender: StepSender
    name: str
    step: Step
    run: ExchangeRun
    may_renew: bool
    generation: int = 0

    async def send(
        self,
        values: Values | None = None,
        *,
        url: str | None = None,
        step: Step | None = None,
        carry: Carry | None = None,
        on_block: OnBlock | None = None,
    ) -> HttpAnswer:
        """One request."""
        return await self.sender.send(self, _Part(values or {}, url, step, carry, on_block))

    async def send_after(self, last_id: str, on_block: OnBlock) -> HttpAnswer:
        """One request for the events after the one with an id (HTML standard, 9.2.4)."""
        if not last_id:
            return await self.send(on_block=on_block)
        headers = {**self.step.headers, "Last-Event-ID": ListTemplate(f"{{{_LAST_ID}}}")}
        step = msgspec.structs.replace(self.step, headers=headers)
        return await self.send({_LAST_ID: last_id}, step=step, on_block=on_block)


def not_reached(engine: str, what: str, advice: str) -> UnreachableError:
    """The error for something that has to be there before the service can be set to work."""
    error = UnreachableError(what, engine=engine, advice=advice)
    error.was_sent = False
    return error
