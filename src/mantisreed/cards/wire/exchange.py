"""Going through the steps of a card, one request after the other, and keeping where that stands.

An exchange has two halves. `start` goes up to the step that makes the service work; what it gives
can be kept, so that `go_on` can ask for the rest later, in another process too. Secrets are never
part of what is kept.
"""

import json
import logging
from collections import OrderedDict
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

from mantisreed.cards.answers import NothingHeardError, retry_after, signed_as, unreadable
from mantisreed.cards.bodies import Attachment
from mantisreed.cards.card import ServiceCard
from mantisreed.cards.requests import as_json_value
from mantisreed.cards.sequence import StepSequence
from mantisreed.cards.states import standing_of
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import Value, Values
from mantisreed.cards.wire.chunks import chunk_count
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.run import ExchangeRun
from mantisreed.cards.wire.sending import ExchangeOptions, StepSender, not_reached
from mantisreed.cards.wire.standing import FinishedExchange, Standing, Waiting
from mantisreed.errors import (
    EngineError,
    JobFailedError,
    JobLostError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.secrets import Secret, marked, redacted_body, unmarked

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport

_log = logging.getLogger(__name__)

_WITHOUT_REPLY = (202, 204)  # RFC 9110: accepted, no content
_GROWTH = 1.5  # of the pause between two questions for a job
_DEFAULT_INTERVAL = 2.0  # seconds
_REMEMBERED = 10_000  # exchanges whose secrets are remembered, for asking in the same process


class Exchange:
    """The exchanges of one card, any number at once.

    Attributes:
        sequence: the card's steps.
    """

    def __init__(
        self,
        card: ServiceCard,
        secrets: Mapping[str, Secret],
        transport: "Transport",
        options: ExchangeOptions | None = None,
    ) -> None:
        """Send nothing yet.

        Args:
            card: how the service is spoken to.
            secrets: by their names on the card.
            transport: what carries requests.
            options: how.
        """
        self._card = card
        self._options = options or ExchangeOptions()
        self.sequence = StepSequence(card)
        self._sender = StepSender(card, secrets, transport, self.sequence, self._options)
        self._left_off: dict[str, ExchangeRun] = {}
        self._hidden: OrderedDict[str, dict[str, Value]] = OrderedDict()

    def run_of(self, values: Values, attachment: Attachment | None) -> ExchangeRun:
        """A new exchange, of which nothing is done.

        Args:
            values: what placeholders stand for, without secrets.
            attachment: the audio.
        """
        known = self._sender.with_secrets(values)
        size = self.sequence.chunk_size
        if size is not None and attachment is not None:
            known["chunk_count"] = chunk_count(len(attachment.content), size)
        return ExchangeRun(known, attachment)

    async def start(
        self, key: str, values: Values, attachment: Attachment | None
    ) -> FinishedExchange | Standing:
        """Go up to and through the step that makes the service work.

        After a failure on the way there, the next start with the same key goes on where this one
        was.

        Args:
            key: what the request is known by.
            values: what placeholders stand for, without secrets.
            attachment: the audio.

        Raises:
            EngineError: a request failed; `before_work` says that the service has nothing to do
                yet.
        """
        run = await self.prepared(key, values, attachment, self.sequence.last_work + 1)
        if isinstance(run, FinishedExchange):
            return run
        try:
            return self.standing_or_reply(run)
        except EngineError as error:
            self.note_what_it_means(run, error)
            raise

    async def prepared(
        self, key: str, values: Values, attachment: Attachment | None, before: int
    ) -> "ExchangeRun | FinishedExchange":
        """An exchange of which all steps before this one are done.

        Args:
            key: what the request is known by.
            values: what placeholders stand for, without secrets.
            attachment: the audio.
            before: the index of a step.

        Raises:
            EngineError: a request failed.
        """
        # What was uploaded before a later step failed need not be sent again.
        run = self._left_off.pop(key, None) or self.run_of(values, attachment)
        try:
            await self.go_through(run, before)
        except NothingHeardError:
            return FinishedExchange(None, run.noted)
        except EngineError as error:
            # What fails twice at the same place is begun anew: what was uploaded may be gone.
            if run.failed_at != run.index and run.index > 0:
                run.failed_at = run.index
                self._left_off[key] = run
            self.note_what_it_means(run, error)
            raise
        return run

    def note_what_it_means(self, run: ExchangeRun, error: EngineError) -> None:
        """Note in an error whether the service may be at work though the request failed."""
        error.before_work = error.before_work or run.index < self.sequence.first_work
        if isinstance(error, UnreachableError) and error.before_work:
            # What left was not yet what costs, so that sending it again cannot cost twice.
            error.was_sent = False
        if isinstance(error, UnreadableReplyError):
            error.body = None if error.body is None else redacted_body(error.body)
            error.may_be_charged = error.may_be_charged and not error.before_work
            if error.step and error.may_be_charged:
                error.values = self._kept_of_answer(run)

    def _kept_of_answer(self, run: ExchangeRun) -> dict[str, Any]:
        """What reading an answer again will need."""
        assert run.last is not None
        kept = self.standing(run).as_json()
        # No cookies: they may be as good as a key, and reading an answer does not need them.
        headers = [list(pair) for pair in run.last.headers if pair[0].lower() != "set-cookie"]
        answer = {"status": run.last.status, "headers": headers, "url": run.last.url}
        return {**kept, **marked(answer, self._sender.secrets)}

    async def go_through(self, run: ExchangeRun, before: int) -> None:
        """Make the requests of all steps before this one; what follows and does not apply is
        skipped.

        Raises:
            EngineError: a request failed; the run is where it failed.
            NothingHeardError: the card says that nobody spoke.
        """
        steps = self.sequence.steps
        while run.index < len(steps):
            name, step = steps[run.index]
            if not self._applies(step, run):
                run.index += 1
                continue
            if run.index >= before:
                return
            # Paths may name what an earlier step took, which is known only now.
            step = step.filled(run.values)
            if step.is_asking:
                run.last = await self._asked_until_done(name, step, run)
            else:
                run.last = await self._sender.answer(name, step, run)
            self._take(name, step, run)
            run.index += 1

    def _take(self, name: str, step: Step, run: ExchangeRun) -> None:
        assert run.last is not None
        try:
            run.take(self._card.name, name, step.take, run.last)
        except UnreadableReplyError as error:
            error.body, error.answer = run.last.body, self._sender.quoted(run.last.body)
            error.step = name
            raise

    def standing_or_reply(self, run: ExchangeRun) -> FinishedExchange | Standing:
        """What a run has come to."""
        if run.index >= len(self.sequence.steps):
            return self._finished(run)
        return self.standing(run)

    async def go_on(self, standing: Standing) -> FinishedExchange | Waiting:
        """Ask how a job stands, and when it is done go on to the reply.

        Raises:
            JobFailedError: the service says that the job failed.
            JobLostError: it does not know the job.
            EngineError: a request failed.
        """
        run = await self._resumed(standing)
        began_at = run.index
        steps = self.sequence.steps
        try:
            while run.index < len(steps):
                name, step = steps[run.index]
                if self._applies(step, run):
                    step = step.filled(run.values)
                    run.last = await self._sender.answer(name, step, run)
                    if step.is_asking and not self._is_done(name, step, run.last):
                        # Unmoved, nothing is noted: asking a thousand times writes nothing.
                        moved = None if run.index == began_at else self.standing(run)
                        return Waiting(moved, retry_after(run.last, self._card.errors))
                    self._take(name, step, run)
                run.index += 1
        except NothingHeardError:
            return FinishedExchange(None, run.noted)
        # The work was paid for when it was sent; asking once more is free.
        except UnreadableReplyError as error:
            error.may_be_charged = False
            raise
        return self._finished(run)

    async def clean_up(self, standing: Standing) -> None:
        """Tidy up after a reply; what fails is only logged."""
        run = await self._resumed(standing)
        for name, step in self.sequence.cleanup:
            try:
                if self._applies(step, run):
                    run.last = await self._sender.answer(name, step, run)
                    self._take(name, step, run)
            except (EngineError, NothingHeardError) as error:
                _log.warning(
                    "%s: step %s failed, which changes nothing: %s", self._card.name, name, error
                )

    async def look_up(self, values: Values) -> Standing | None:
        """Ask whether a request that may have been sent has become a job; None when it has not, or
        nobody knows.

        Raises:
            EngineError: asking failed.
        """
        lookup = self._card.lookup
        if lookup is None:
            return None
        run = self.run_of(values, None)
        try:
            run.last = await self._sender.answer("lookup", lookup, run)
        except JobLostError:
            return None
        if any(
            take.find(run.last) is None and not take.is_optional for take in lookup.take.values()
        ):
            return None
        self._take("lookup", lookup, run)
        # Found, so it was sent: go on behind what costs, past steps that do not apply.
        run.index = self.sequence.last_work + 1
        await self.go_through(run, run.index)
        return self.standing(run)

    async def cancel(self, standing: Standing) -> bool:
        """Call a job off; False when the card does not say how.

        Raises:
            EngineError: it did not work.
        """
        cancel = self._card.cancel
        if cancel is None:
            return False
        run = await self._resumed(standing)
        if self._applies(cancel, run):
            await self._sender.answer("cancel", cancel, run)
        return True

    def read_again(
        self, name: str, answer: bytes, kept: Mapping[str, Any]
    ) -> FinishedExchange | Standing:
        """Where an exchange stands whose answer could not be read when it came, or the reply.

        Args:
            name: of the step that it answers.
            answer: to the byte.
            kept: what was kept with it.

        Raises:
            UnreadableReplyError: it still cannot be read.
        """
        kept = unmarked(kept, self._sender.secrets)
        run = _run_from(Standing.from_json(kept))
        run.index = self._index_of_answered(name)
        headers = [(str(key), str(value)) for key, value in kept.get("headers") or ()]
        run.last = HttpAnswer(
            int(kept.get("status", 200)), headers, answer, str(kept.get("url", ""))
        )
        name, step = self.sequence.steps[run.index]
        signed = signed_as(self._card, run.last)
        if signed == "no_speech":
            return FinishedExchange(None, run.noted)
        self._take(name, step, run)
        run.index += 1
        while run.index < len(self.sequence.steps):
            if self._applies(self.sequence.steps[run.index][1], run):
                return self.standing(run)
            run.index += 1
        return self._finished(run)

    def _index_of_answered(self, name: str) -> int:
        """The step that a kept answer is of; a card that had one step may have several by now, of
        which the first then is the same request.
        """
        names = [known for known, _ in self.sequence.steps]
        if name in names:
            return names.index(name)
        return self.sequence.first_work

    def standing(self, run: ExchangeRun) -> Standing:
        """What can be kept of a run."""
        steps = self.sequence.steps
        needed = self.sequence.needed_from(run.index)
        hidden = {
            name: run.values[name] for name in self.sequence.hidden & needed if name in run.values
        }
        kept = {
            name: as_json_value(run.values[name])
            for name in sorted(needed - self.sequence.hidden - self._sender.own_names)
            if run.values.get(name) is not None and name not in ("audio", "callback")
        }
        links = self._links(needed)
        bases = {name: run.bases[name] for name in sorted(run.bases) if name in links}
        standing = Standing(
            steps[run.index][0] if run.index < len(steps) else None,
            marked(kept, self._sender.secrets),
            tuple(sorted(run.taken & set(kept))),
            marked(bases, self._sender.secrets),
            dict(run.noted),
        )
        if hidden:
            self._remember(standing, hidden)
        return standing

    def _links(self, needed: frozenset[str]) -> frozenset[str]:
        """Which values are links, whose base has to be known."""
        return self.sequence.links & needed

    def _remember(self, standing: Standing, hidden: dict[str, Value]) -> None:
        self._hidden[_memory_key(standing)] = hidden
        # Forgotten ones are not lost: `_resumed` asks the service for them again.
        while len(self._hidden) > _REMEMBERED:
            self._hidden.popitem(last=False)

    async def _resumed(self, standing: Standing) -> ExchangeRun:
        run = _run_from(standing)
        # Secrets are kept as marks, and put back from where they are now.
        run.values = dict(unmarked(run.values, self._sender.secrets))
        run.bases = dict(unmarked(run.bases, self._sender.secrets))
        run.values = self._sender.with_secrets(run.values)
        if standing.step is None:
            run.index = len(self.sequence.steps)
        else:
            run.index = self._index_of(standing.step)
        hidden = self._hidden.get(_memory_key(standing))
        if hidden is not None:
            run.values |= hidden
            run.taken |= set(hidden)
        elif self.sequence.hidden & self.sequence.needed_from(run.index):
            await self._sender.recover(run)
        return run

    def _index_of(self, name: str) -> int:
        try:
            return self.sequence.index_of(name)
        except KeyError:
            raise UnreadableReplyError(
                f"the job was left before step {name!r}, which its card does not have any more",
                engine=self._card.name,
                advice="give the step its old name, or send the recording again with --afresh",
            ) from None

    def _finished(self, run: ExchangeRun) -> FinishedExchange:
        assert run.last is not None
        cleanup = self.standing(run) if self.sequence.cleanup else None
        self._check_is_reply(run, run.last)
        return FinishedExchange(run.last.body, run.noted, cleanup, run.last.status)

    def _check_is_reply(self, run: ExchangeRun, answer: HttpAnswer) -> None:
        """See that the last answer is no mere word that the service has taken the request."""
        name, step = self.sequence.steps[run.index - 1]
        if answer.body.strip() or answer.status not in _WITHOUT_REPLY:
            return
        if answer.status in (*step.ok_statuses, *step.done_statuses):
            return
        what = f"it answered with HTTP {answer.status} and without a reply"
        advice = (
            "it may have taken the request as a job: then its card needs a step that asks for the "
            f"reply. If it means that nobody spoke, set errors.no_speech.statuses = "
            f"[{answer.status}]"
        )
        error = unreadable(self._card.name, what, answer, advice=advice)
        error.step = name
        error.values = self._kept_of_answer(run)
        raise error

    def _applies(self, step: Step, run: ExchangeRun) -> bool:
        return step.when is None or step.when.holds(run.values)

    async def _asked_until_done(self, name: str, step: Step, run: ExchangeRun) -> HttpAnswer:
        """The answer that says that something is done which has to be, before the service can be
        set to work.
        """
        started = self._options.clock()
        for pause in pauses(step):
            answer = await self._sender.answer(name, step, run)
            if self._is_done(name, step, answer):
                return answer
            if self._options.clock() - started > step.limit:
                break
            await self._options.sleep(max(pause, retry_after(answer, self._card.errors) or 0.0))
        what = f"step {name} was not done within {step.limit:g} s"
        raise not_reached(self._card.name, what, f"raise limit of step {name} in its card")

    def _is_done(self, name: str, step: Step, answer: HttpAnswer) -> bool:
        standing, state = standing_of(step, answer)
        if standing == "failed":
            reason = step.reason.find(answer) if step.reason else None
            if reason:
                said = f", saying: {self._sender.quoted(str(reason).encode('utf-8', 'replace'))}"
            else:
                said = ""
            raise JobFailedError(f"the job failed (state {state!r}){said}", engine=self._card.name)
        if standing == "unknown":
            what = (
                f"{name}.state ({step.state}) finds {state!r}, which its card does not list as "
                "a state"
            )
            error = unreadable(self._card.name, what, answer, self._sender.quoted(answer.body))
            error.may_be_charged = False
            raise error
        return standing == "done"


def pauses(step: Step, *, first: float | None = None) -> Iterator[float]:
    """Seconds before each question to a service, without end: ever more, up to the card's longest.

    Args:
        step: that asks.
        first: seconds before the first; None for the card's.
    """
    if step.interval is None:
        default = _DEFAULT_INTERVAL
    else:
        default = float(step.interval)
    # An engine that calls is asked late at first, and no later than that afterwards.
    pause = default if first is None else first
    while True:
        yield pause
        pause = min(
            max(pause, default) * _GROWTH if pause else default,
            max(float(step.max_interval), default),
        )


def _run_from(standing: Standing) -> ExchangeRun:
    return ExchangeRun(
        dict(standing.values), None, set(standing.taken), dict(standing.bases), dict(standing.noted)
    )


def _memory_key(standing: Standing) -> str:
    return json.dumps([standing.step, standing.values], sort_keys=True, default=str)
