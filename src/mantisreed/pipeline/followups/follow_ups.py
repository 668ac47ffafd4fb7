"""What happens after each transcript: follow-ups in the order of what they need, each once for the
same result.

A follow-up that fails never fails the transcript, nor those that do not need it. What is to be done
is in the ledger before it is begun; what text services answered is kept, and is not paid for again.
"""

import asyncio
import json
import logging
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from mantisreed.cards.rendering import digest_of_request
from mantisreed.destinations.parcels import DeliveryError, Parcel, ParcelFile
from mantisreed.destinations.rules import TRANSCRIPT, FollowUp
from mantisreed.errors import InternalError, MantisreedError, PostponedError
from mantisreed.jobs.budget import BudgetsOf
from mantisreed.jobs.failures import seconds_before
from mantisreed.jobs.follow_ups import FollowUpEnd, FollowUpRecord, FollowUpState
from mantisreed.pipeline.followups.delivering import DELIVERIES, DeliveryPlace
from mantisreed.pipeline.followups.mailing import Letter, Mailing
from mantisreed.pipeline.followups.service_desk import Perform, ServiceDesk
from mantisreed.pipeline.followups.service_work import ServiceWork
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.results import FinishedRecording, FollowUpOutcome, Result, Tally, text_of
from mantisreed.sources.recordings import Source
from mantisreed.transcript.document import from_json, to_json
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport
    from mantisreed.secrets import Secret, SecretSource

T = TypeVar("T")

_log = logging.getLogger(__name__)

_AT_MOST_ONCE = ("command",)
"""What may have been done when a program ended in the middle, and would then be done twice. Mail
sees to that itself,
for each recipient."""

_IDENTITY = {
    "mail": ("to",),
    "webhook": ("to", "send"),
    "copy": ("to", "files"),
    "rows": ("file", "database", "table"),
    "command": ("run", "stdin", "result"),
}
"""By what a destination is known: another wording of a mail is no reason to send it again."""


class FollowUps:
    """The follow-ups of all recordings of one run."""

    def __init__(
        self,
        workspace: Workspace,
        rules: Mapping[str, FollowUp],
        outputs: Outputs,
        transport: "Transport",
        perform: Perform,
        budgets_of: BudgetsOf,
        *,
        also_doubtful: bool = False,
    ) -> None:
        """Do nothing yet.

        Args:
            workspace: with services, secrets and trust.
            rules: the follow-ups, each after those that it needs.
            outputs: where their files go, and how they are written.
            transport: what carries requests.
            perform: does something with the ledger.
            budgets_of: what has to have room for what text services cost.
            also_doubtful: whether what may have been done already is done again: the user says so.
        """
        self._workspace, self._rules, self._outputs = workspace, rules, outputs
        self._transport, self._perform = transport, perform
        self._also_doubtful = also_doubtful
        self._desk = ServiceDesk(workspace, transport, perform, budgets_of)
        self._letters: dict[str, list[tuple[Source, str, Letter]]] = {}
        self._stopped = False

    def stop(self) -> None:
        """Begin nothing more."""
        self._stopped = True
        self._desk.stop()

    async def after(self, finished: FinishedRecording) -> list[FollowUpOutcome]:
        """What becomes of the follow-ups of a recording. Nothing is raised: what goes wrong is
        told.
        """
        running: dict[str, asyncio.Task[FollowUpOutcome]] = {}
        for name, rule in self._rules.items():
            if _applies(rule, finished):
                # All at once; each waits for those that it needs.
                running[name] = asyncio.create_task(self._tried(rule, finished, running))
        outcomes = list(await asyncio.gather(*running.values()))
        return [outcome for outcome in outcomes if outcome.state != "skipped"]

    async def _tried(
        self,
        rule: FollowUp,
        finished: FinishedRecording,
        running: "Mapping[str, asyncio.Task[FollowUpOutcome]]",
    ) -> FollowUpOutcome:
        results: dict[str, Result] = {}
        known_by = ""
        try:
            for name in rule.follows:
                if name in running:
                    before = await running[name]
                else:
                    before = FollowUpOutcome(name, "skipped")
                # What it needs is not there: it waits, and is taken up when that is done.
                if before.result is None:
                    return await self._put_off(rule, finished, before)
                results[name] = before.result
            facts = facts_of(finished, results)
            if rule.only_if is not None and not rule.only_if.holds(facts):
                return FollowUpOutcome(rule.name, "skipped")
            known_by = _known_by(rule, finished, results)
            if self._stopped:
                return await self._waiting(rule, finished, known_by, "interrupted")
            return await self._once(rule, finished, results, known_by)
        except MantisreedError as error:
            return await self._failed(rule, known_by, error)
        except Exception as error:
            _log.exception(
                "follow-up %s of %s failed by an internal error", rule.name, finished.source.label
            )
            return await self._failed(
                rule, known_by, InternalError.because(error, where=f"follow_up.{rule.name}")
            )

    async def _put_off(
        self, rule: FollowUp, finished: FinishedRecording, before: FollowUpOutcome
    ) -> FollowUpOutcome:
        if before.state == "skipped":
            return FollowUpOutcome(rule.name, "skipped")
        known_by = digest_of_request([finished.known_by, rule.name, "waits"])[:32]
        return await self._waiting(
            rule, finished, known_by, f"needs {before.name}, which is {before.state}"
        )

    async def _waiting(
        self, rule: FollowUp, finished: FinishedRecording, known_by: str, reason: str
    ) -> FollowUpOutcome:
        job = finished.known_by
        await self._perform(
            lambda ledger: ledger.follow_ups.put_off(known_by, job, rule.name, reason),
            is_owed=True,
        )
        return FollowUpOutcome(
            rule.name, "waiting", PostponedError(reason, where=f"follow_up.{rule.name}")
        )

    async def _failed(
        self, rule: FollowUp, known_by: str, error: MantisreedError
    ) -> FollowUpOutcome:
        state: FollowUpState = "failed"
        if isinstance(error, PostponedError):
            state = "waiting"
        elif isinstance(error, DeliveryError) and error.may_be_there:
            state = "unconfirmed"
        _log.info("follow-up %s: %s", rule.name, error)
        if known_by:
            end = FollowUpEnd(state, str(error))
            try:
                await self._perform(
                    lambda ledger: ledger.follow_ups.end(known_by, end), is_owed=True
                )
            except MantisreedError as worse:
                return FollowUpOutcome(rule.name, state, worse)
        return FollowUpOutcome(rule.name, state, error)

    async def _once(
        self,
        rule: FollowUp,
        finished: FinishedRecording,
        results: Mapping[str, Result],
        known_by: str,
    ) -> FollowUpOutcome:
        """Do it, unless it was done before, or may have been."""
        job = finished.known_by
        self._workspace.require_trust_in_follow_up(rule.name)
        parcel = parcel_of(finished, results, known_by)
        may_be_again = self._also_doubtful or rule.action not in _AT_MOST_ONCE
        found = await self._perform(
            lambda ledger: ledger.follow_ups.claim(
                known_by, job, rule.name, also_doubtful=may_be_again
            )
        )
        if found is not None:
            return await self._met(rule, finished, found)
        if rule.mail is not None:
            # Recipients are told apart below, so that a new one gets it and the others do not get
            # it twice.
            base = _known_by(rule, finished, results, with_target=False)
            return await self._mailed(rule, finished, known_by, Letter(job, base, parcel))
        tally = Tally()
        result = await self._done(rule, finished, results, parcel, tally)
        await self._end(known_by, result, tally)
        return FollowUpOutcome(rule.name, "done", result=result, tally=tally)

    async def _end(self, known_by: str, result: Result, tally: Tally) -> None:
        kept = {"kind": result.kind, "files": list(map(str, result.files))}
        end = FollowUpEnd(
            "done", None, kept, result.body, tally.characters, tally.cost, tally.currency
        )
        await self._perform(lambda ledger: ledger.follow_ups.end(known_by, end), is_owed=True)

    async def _met(
        self, rule: FollowUp, finished: FinishedRecording, found: FollowUpRecord
    ) -> FollowUpOutcome:
        """What there is of a follow-up that is not begun now."""
        if found.state == "unconfirmed":
            advice = f"`mantisreed retry {found.job[:8]}` does it again"
            what = f"it may have been done already ({found.reason or 'nobody knows'})"
            return FollowUpOutcome(
                rule.name,
                "unconfirmed",
                DeliveryError(what, where=f"follow_up.{rule.name}", advice=advice),
            )
        if found.state != "done":
            reason = PostponedError(
                "another process has it under way", where=f"follow_up.{rule.name}"
            )
            return FollowUpOutcome(rule.name, "working", reason)
        body = await self._perform(lambda ledger: ledger.follow_ups.body(found))
        result = restored(found, body)
        # Somebody has removed them; the service need not be asked again.
        if any(not path.exists() for path in result.files):
            work = self._work(rule, finished)
            result = replace(result, files=await asyncio.to_thread(work.written, result))
        return FollowUpOutcome(rule.name, "done", result=result)

    def _work(
        self, rule: FollowUp, finished: FinishedRecording, tally: Tally | None = None
    ) -> ServiceWork:
        return ServiceWork(
            self._workspace,
            self._desk,
            self._outputs,
            rule,
            self._rules,
            finished,
            tally or Tally(),
        )

    async def _done(
        self,
        rule: FollowUp,
        finished: FinishedRecording,
        results: Mapping[str, Result],
        parcel: Parcel,
        tally: Tally,
    ) -> Result:
        if rule.service is not None:
            needed = rule.needs[0]
            if needed == TRANSCRIPT:
                given = finished.transcript
            else:
                given = results[needed].value
            return await self._work(rule, finished, tally).done(given)
        return await self._tried_again(rule, lambda: self._delivered(rule, parcel))

    async def _tried_again(self, rule: FollowUp, deliver: Callable[[], Awaitable[T]]) -> T:
        """What a delivery gives; one that fails in a way that may pass is made again."""
        number = 0
        while True:
            number += 1
            try:
                return await deliver()
            except DeliveryError as error:
                if not error.may_pass or number >= rule.max_attempts or self._stopped:
                    raise
                await asyncio.sleep(seconds_before(number))

    async def _delivered(self, rule: FollowUp, parcel: Parcel) -> Result:
        assert rule.doing is not None
        place = DeliveryPlace(self._workspace.folder, self._transport)
        return await DELIVERIES[type(rule.doing)](rule.doing, parcel, place)

    def _secret(self, source: "SecretSource | None") -> "Secret | None":
        if source is None:
            return None
        return source.read(self._workspace.folder)

    def _mailing(self, rule: FollowUp) -> Mailing:
        assert rule.mail is not None
        source = rule.mail.password
        return Mailing(
            rule,
            self._perform,
            lambda: self._secret(source),
            also_doubtful=self._also_doubtful,
            is_stopped=lambda: self._stopped,
        )

    async def _mailed(
        self, rule: FollowUp, finished: FinishedRecording, known_by: str, letter: Letter
    ) -> FollowUpOutcome:
        """Send a mail, or keep the recording for the one at the end of the run.

        The rule itself has an entry in the ledger, by its recipients; each of them has another one.
        """
        assert rule.mail is not None
        if rule.mail.each == "run":
            reason = "waits for the end of the run"
            await self._perform(
                lambda ledger: ledger.follow_ups.put_off(known_by, letter.job, rule.name, reason),
                is_owed=True,
            )
            self._letters.setdefault(rule.name, []).append((finished.source, known_by, letter))
            return FollowUpOutcome(rule.name, "skipped")
        outcome = await self._mailing(rule).send([letter])
        await self._note(known_by, outcome)
        return outcome

    async def at_the_end(self, order: Sequence[Source] = ()) -> list[FollowUpOutcome]:
        """Send what is sent once for a whole run.

        Args:
            order: of the recordings; those that are not in it come last.
        """
        outcomes = []
        places = {source.key: place for place, source in enumerate(order)}
        for name, collected in self._letters.items():
            # In the order of the sources, whichever was done first.
            collected.sort(key=lambda one: places.get(one[0].key, len(places)))
            outcomes.append(await self._sent_together(self._rules[name], collected))
        self._letters.clear()
        return outcomes

    async def _sent_together(
        self, rule: FollowUp, collected: Sequence[tuple[Source, str, Letter]]
    ) -> FollowUpOutcome:
        try:
            outcome = await self._mailing(rule).send([letter for *_, letter in collected])
            for _, known_by, _ in collected:
                await self._note(known_by, outcome)
        except MantisreedError as error:
            return FollowUpOutcome(rule.name, "failed", error)
        return outcome

    async def _note(self, known_by: str, outcome: FollowUpOutcome) -> None:
        end = FollowUpEnd(
            outcome.state,
            None if outcome.error is None else str(outcome.error),
            {"kind": "nothing"},
        )
        await self._perform(lambda ledger: ledger.follow_ups.end(known_by, end), is_owed=True)


def _applies(rule: FollowUp, finished: FinishedRecording) -> bool:
    return rule.when == "always" or (rule.when == "failed") == (finished.state == "failed")


def facts_of(finished: FinishedRecording, results: Mapping[str, Result]) -> dict[str, Any]:
    """All that is known of a recording, for templates, conditions and columns."""
    transcript = finished.transcript
    if transcript:
        confidence = transcript.mean_confidence
    else:
        confidence = None
    return {
        "recording": finished.source.name,
        "source": finished.source.label,
        "stem": finished.stem,
        "job": finished.known_by,
        "state": finished.state,
        "engine": transcript.engine if transcript else None,
        "language": transcript.language if transcript else None,
        "duration": transcript.recording.duration if transcript else None,
        "words": len(transcript.words) if transcript else 0,
        "confidence": None if confidence is None else round(confidence, 3),
        "speakers": list(transcript.speakers) if transcript else [],
        "text": text_of(transcript) if transcript else "",
        "cost": None if finished.cost is None else float(finished.cost),
        "error": finished.error,
        "files": [str(path) for _, path in finished.files],
        "about": dict(finished.source.about),
        "follow_up": {name: result.fact for name, result in results.items()},
    }


def parcel_of(finished: FinishedRecording, results: Mapping[str, Result], key: str) -> Parcel:
    """What goes to destinations. Files that are gone are left out."""
    named = list(finished.files)
    for name, result in results.items():
        named += [(name, path) for path in result.files]
    files = [
        ParcelFile(path.name, path.read_bytes(), kind) for kind, path in named if path.is_file()
    ]
    return Parcel(key, facts_of(finished, results), files)


def _known_by(
    rule: FollowUp,
    finished: FinishedRecording,
    results: Mapping[str, Result],
    *,
    with_target: bool = True,
) -> str:
    """The same for the same result, whatever else has changed.

    Args:
        rule: of the follow-up.
        finished: the recording.
        results: of the follow-ups that it needs.
        with_target: whether it is another one when it goes elsewhere.
    """
    # Of a failed recording there is nothing but its error.
    given = finished.error
    if finished.transcript:
        given = to_json(finished.transcript).decode()
    needed = [digest_of_request((results[name].body or b"").hex()) for name in rule.follows]
    if rule.service is not None:
        action: Any = [
            rule.service,
            rule.target,
            rule.to,
            rule.bilingual,
            rule.back,
            rule.reduce,
        ]
    else:
        settings = getattr(rule, rule.action)
        if with_target:
            action = [str(getattr(settings, key)) for key in _IDENTITY[rule.action]]
        else:
            action = []
    return digest_of_request([finished.known_by, rule.name, rule.action, action, given, needed])[
        :32
    ]


def restored(record: FollowUpRecord, body: bytes | None) -> Result:
    """What a follow-up gave, as the ledger has it."""
    kind = str(record.result.get("kind", "nothing"))
    files = tuple(map(Path, record.result.get("files") or ()))
    value: Any = None
    if body is not None and kind == "text":
        value = body.decode("utf-8", "replace")
    elif body is not None and kind == "data":
        value = json.loads(body)
    elif body is not None and kind == "transcript":
        value = from_json(body)
    return Result(kind, value, body, files)
