"""The tables by which requests and jobs live: every row, and every promise that is made of them."""

from itertools import product
from typing import get_args

import pytest

from mantisreed.errors import (
    AnothersIdError,
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    JobFailedError,
    JobLostError,
    RefusedError,
    SlowDownError,
    TooBigError,
    UnreachableError,
    UnreadableReplyError,
)
from mantisreed.jobs.failures import event_while_asking, event_while_sending, seconds_before
from mantisreed.jobs.life import (
    JOB_LIFE,
    REQUEST_LIFE,
    STATES,
    Event,
    JobEvent,
    TransitionError,
    after,
    job_after,
    states_before,
)

EVENTS = get_args(Event)


@pytest.mark.parametrize(("state", "event"), list(product(STATES, EVENTS)))
def test_whatever_is_not_in_the_table_is_refused(state: str, event: str) -> None:
    if (state, event) in REQUEST_LIFE:
        rule = after(state, event)  # type: ignore[arg-type]
        assert rule.state in STATES and state in states_before(event)  # type: ignore[arg-type]
    else:
        with pytest.raises(TransitionError, match="cannot be told"):
            after(state, event)  # type: ignore[arg-type]


def test_every_event_can_happen_somewhere() -> None:
    assert {event for _, event in REQUEST_LIFE} == set(EVENTS)
    assert {event for _, event in JOB_LIFE} == set(get_args(JobEvent)) - {"owner gone"}


def test_nothing_that_may_have_been_charged_counts_as_free() -> None:
    for (state, event), rule in REQUEST_LIFE.items():
        told_that_it_was_not_done = event in {
            *(
                "not reached",
                "slow down",
                "engine broke",
                "refused",
                "bad request",
                "too big",
                "format refused",
            ),
        }
        if state == "sending" and rule.outcome is not None:
            assert (rule.charge == "none") == told_that_it_was_not_done, event
        if state == "working":
            assert rule.charge != "none", event


def test_a_whole_answer_is_never_asked_for_again_by_itself() -> None:
    for event in ("unidentified", "too large an answer"):
        assert after("sending", event).again == "never"
    for state in STATES:
        if (state, "answered") in REQUEST_LIFE:
            assert (
                after(state, "answered").state == "done"
                and after(state, "answered").charge == "sure"
            )


def test_a_reply_is_taken_in_every_state_in_which_it_can_come() -> None:
    assert set(states_before("answered")) == set(STATES)


def test_a_ticket_is_kept_for_as_long_as_the_engine_may_have_the_job() -> None:
    for event in ("still working", "question failed", "overdue", "owner gone", "job unknown"):
        assert after("working", event).keeps_ticket
    for event in ("job failed", "job vanished", "cancelled", "answered"):
        assert not after("working", event).keeps_ticket  # type: ignore[arg-type]


def test_what_a_dead_process_was_sending_is_unconfirmed_and_what_the_engine_has_goes_on() -> None:
    assert after("sending", "owner gone").state == "unconfirmed"
    assert after("working", "owner gone").state == "working"


def lost(*, was_sent: bool) -> UnreachableError:
    error = UnreachableError("cut", engine="brook")
    error.was_sent = was_sent
    return error


def unreadable(*, is_whole: bool = True, may_be_charged: bool = True) -> UnreadableReplyError:
    error = UnreadableReplyError("odd", engine="brook")
    error.is_whole, error.may_be_charged = is_whole, may_be_charged
    return error


SENDING: list[tuple[EngineError, Event]] = [
    (SlowDownError("", engine="brook", status=429), "slow down"),
    (EngineBrokeError("", engine="brook", status=500), "engine broke"),
    (EngineBrokeError("", engine="brook", status=503), "engine broke"),
    (EngineBrokeError("", engine="brook", status=502), "gateway broke"),
    (EngineBrokeError("", engine="brook", status=504), "gateway broke"),
    (lost(was_sent=False), "not reached"),
    (lost(was_sent=True), "lost"),
    (RefusedError("", engine="brook"), "refused"),
    (BadRequestError("", engine="brook"), "bad request"),
    (TooBigError("", engine="brook"), "too big"),
    (FormatRefusedError("", engine="brook"), "format refused"),
    (AnothersIdError("", engine="brook"), "another's id"),
    (unreadable(), "unidentified"),
    (unreadable(is_whole=False), "too large an answer"),
    (unreadable(may_be_charged=False), "bad request"),
    (EngineError("", engine="brook"), "lost"),
]


@pytest.mark.parametrize(("error", "event"), SENDING)
def test_each_error_of_sending_is_one_event(error: EngineError, event: Event) -> None:
    assert event_while_sending(error) == event and ("sending", event) in REQUEST_LIFE


def test_each_error_of_asking_is_one_event() -> None:
    for error, was_known, event in (
        (JobFailedError("", engine="brook"), True, "job failed"),
        (JobLostError("", engine="brook"), True, "job vanished"),
        (JobLostError("", engine="brook"), False, "job unknown"),
        (AnothersIdError("", engine="brook"), True, "another's id"),
        (EngineBrokeError("", engine="brook"), True, "question failed"),
        (BadRequestError("", engine="brook"), False, "question failed"),
    ):
        assert event_while_asking(error, was_known=was_known) == event


def test_waits_grow_have_jitter_and_are_as_long_as_the_engine_asks_for() -> None:
    waits = [seconds_before(number) for number in (1, 2, 3, 4, 20, 10**6)]
    for wait, least in zip(waits, (1, 2, 4, 8, 60, 60), strict=True):
        assert least <= wait <= least + 1
    assert len({seconds_before(1) for _ in range(5)}) > 1
    assert seconds_before(1, 300.0) == 300.0


@pytest.mark.parametrize(
    ("state", "requests", "expected"),
    [
        ("sending", ["unconfirmed", "done"], "unconfirmed"),
        ("sending", ["working", "waiting"], "waiting"),
        ("sending", ["done"], "waiting"),
        ("working", ["working", "done"], "working"),
        ("working", ["working", "failed"], "waiting"),
        ("done", ["done"], "done"),
        ("failed", ["failed"], "failed"),
    ],
)
def test_a_job_whose_process_has_gone_stands_as_its_requests_do(
    state: str, requests: list[str], expected: str
) -> None:
    assert job_after(state, "owner gone", requests) == expected  # type: ignore[arg-type]


def test_a_job_that_is_done_is_not_failed_by_who_comes_late() -> None:
    for event in ("failed", "accepted"):
        with pytest.raises(TransitionError):
            job_after("done", event)
