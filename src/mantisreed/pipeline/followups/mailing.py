"""Mail about recordings: each recipient is a delivery of its own, sent once.

A server may take a message for one recipient and refuse it for another, now or for good. So each
recipient has an entry of its own in the ledger, and a message goes to one recipient at a time: what
one has is never sent again because another has not.
"""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass

from mantisreed.cards.rendering import digest_of_request
from mantisreed.destinations.actions import Mail
from mantisreed.destinations.mail import message_for, send_mail
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.destinations.rules import FollowUp
from mantisreed.errors import MantisreedError, PostponedError
from mantisreed.jobs.failures import seconds_before
from mantisreed.jobs.follow_ups import FollowUpEnd, FollowUpState
from mantisreed.jobs.ledger import Ledger
from mantisreed.pipeline.followups.service_desk import Perform
from mantisreed.pipeline.results import FollowUpOutcome, Result
from mantisreed.secrets import Secret

# Seconds before each try after a server has asked to come back later (4xx, "greylisting"). Servers
# that do so for unknown senders usually let them in after one to five minutes.
_COME_BACK = (2.0, 15.0, 60.0, 240.0)

_WORST_FIRST: tuple[FollowUpState, ...] = ("failed", "unconfirmed", "working", "waiting")


@dataclass(frozen=True, slots=True)
class Letter:
    """One recording in a mail.

    Attributes:
        job: of it.
        base: what its deliveries are known by, whoever they go to.
        parcel: what is said of it.
    """

    job: str
    base: str
    parcel: Parcel

    def delivery(self, recipient: str) -> str:
        """By what its delivery to a recipient is known."""
        # Nobody has two mail boxes that differ in capitals alone.
        return digest_of_request([self.base, recipient.casefold()])[:32]


@dataclass(slots=True)
class Mailing:
    """Sends what one rule says.

    Attributes:
        rule: with its mail.
        perform: does something with the ledger.
        password: of the server; read when it is needed.
        also_doubtful: whether what a recipient may have already is sent again: the user says so.
        is_stopped: asked before each try.
        sleep: waits for so many seconds.
    """

    rule: FollowUp
    perform: Perform
    password: Callable[[], Secret | None]
    also_doubtful: bool
    is_stopped: Callable[[], bool]
    sleep: Callable[[float], Awaitable[None]] = asyncio.sleep

    @property
    def mail(self) -> Mail:
        """What is sent."""
        assert self.rule.mail is not None
        return self.rule.mail

    async def send(self, letters: Sequence[Letter]) -> FollowUpOutcome:
        """Send one message about these recordings to each recipient that has not had all of
        them.
        """
        outcomes = [await self._sent_to(recipient, letters) for recipient in self.mail.to]
        return _together(self.rule.name, outcomes)

    async def _sent_to(self, recipient: str, letters: Sequence[Letter]) -> FollowUpOutcome:
        name = f"{self.rule.name} to {recipient}"
        open_letters: list[Letter] = []
        in_the_way: list[FollowUpOutcome] = []
        for letter in letters:
            found = await self._claim(letter, recipient, name)
            if found is None:
                open_letters.append(letter)
            elif found.state != "done":
                in_the_way.append(found)
        if not open_letters:
            return _together(name, in_the_way)
        error = await self._try(recipient, open_letters)
        state: FollowUpState = "done" if error is None else _state_after(error)
        for letter in open_letters:
            await self._note(letter.delivery(recipient), state, error)
        return _together(name, [*in_the_way, FollowUpOutcome(name, state, error)])

    async def _claim(self, letter: Letter, recipient: str, name: str) -> FollowUpOutcome | None:
        """None where it is ours to send now."""

        def claim(ledger: Ledger) -> FollowUpOutcome | None:
            own = letter.delivery(recipient)
            found = ledger.follow_ups.claim(own, letter.job, name, also_doubtful=self.also_doubtful)
            if found is None:
                return None
            where = f"follow_up.{self.rule.name}"
            if found.state == "unconfirmed":
                advice = f"`mantisreed retry {letter.job[:8]}` sends it again"
                what = f"{recipient} may have it already ({found.reason or 'nobody knows'})"
                return FollowUpOutcome(
                    name, "unconfirmed", DeliveryError(what, where=where, advice=advice)
                )
            reason = PostponedError("another process has it under way", where=where)
            return FollowUpOutcome(name, found.state, None if found.state == "done" else reason)

        return await self.perform(claim)

    async def _try(self, recipient: str, letters: Sequence[Letter]) -> MantisreedError | None:
        """Send until it is taken, refused, or has to wait for longer; why it was not taken."""
        # By it a mail program sees that a message which comes twice is one.
        key = digest_of_request([letter.base for letter in letters])
        number = 0
        while True:
            number += 1
            try:
                message = message_for(self.mail, [letter.parcel for letter in letters], key)
                await send_mail(self.mail, message, recipient, self.password())
            except DeliveryError as error:
                if not error.may_pass:
                    return error
                if (
                    number >= self.rule.max_attempts
                    or number > len(_COME_BACK)
                    or self.is_stopped()
                ):
                    return error
                await self.sleep(
                    _COME_BACK[number - 1] if error.wants_later else seconds_before(number)
                )
            except MantisreedError as error:
                return error
            else:
                return None

    async def _note(
        self, delivery: str, state: FollowUpState, error: MantisreedError | None
    ) -> None:
        end = FollowUpEnd(state, None if error is None else str(error), {"kind": "nothing"})
        await self.perform(lambda ledger: ledger.follow_ups.end(delivery, end), is_owed=True)


def _state_after(error: MantisreedError) -> FollowUpState:
    if isinstance(error, DeliveryError) and error.may_be_there:
        return "unconfirmed"
    if isinstance(error, PostponedError) or (
        isinstance(error, DeliveryError) and error.wants_later
    ):
        return "waiting"
    return "failed"


def _together(name: str, outcomes: Sequence[FollowUpOutcome]) -> FollowUpOutcome:
    """How several deliveries ended: as the worst of them did, with its reason."""
    for state in _WORST_FIRST:
        for one in outcomes:
            if one.state == state:
                return FollowUpOutcome(name, state, one.error)
    return FollowUpOutcome(name, "done", result=Result("nothing"))
