"""What a service answered, its errors told apart, and its own words quoted without secrets."""

import re
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import product
from typing import Any

from mantisreed.cards.card import ErrorPatterns, ErrorRules, ServiceCard
from mantisreed.cards.moments import moment_from
from mantisreed.cards.steps import Step
from mantisreed.cards.wire.http_answer import UNCHANGED, HttpAnswer
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    RefusedError,
    SlowDownError,
    TooBigError,
    UnreadableReplyError,
)
from mantisreed.files import printable
from mantisreed.secrets import Secret, without_secrets
from mantisreed.urls import split_url

_QUOTED = 200  # characters of an answer that a message quotes
# `limit=100, remaining=0, reset=30` of the IETF draft; quotes and parameters between are passed
# over.
_LIMIT = re.compile(r"\b(remaining|reset)=(\d{1,12})")
# Bounded, as the header comes from anywhere.
_NUMBER = re.compile(r"[+-]?[0-9]{1,30}(?:\.[0-9]{0,30})?")
# 2001 in seconds and milliseconds; no wait is as long.
_EPOCH_SECONDS, _EPOCH_MILLISECONDS = (
    1e9,
    1e12,
)
_LONGEST_RETRY_AFTER = 7 * 86400.0  # seconds; what is longer is no wish to wait
_SEARCHED = 1 << 16  # bytes of an answer in which an error's texts are looked for


class NothingHeardError(Exception):
    """The card says that this answer means that nobody spoke: no failure, an empty reply."""


@dataclass(frozen=True, slots=True)
class _Kind:
    error: type[EngineError]
    what: str
    advice: str | None = None


_KINDS = {
    "refused": _Kind(RefusedError, "it refuses the key"),
    "quota": _Kind(
        SlowDownError,
        "what may be sent in this time is used up",
        "the same command goes on when there is more",
    ),
    "slow_down": _Kind(
        SlowDownError,
        "it asks for fewer requests",
        "set rate_limit in its card, and try again later",
    ),
    "too_big": _Kind(
        TooBigError,
        "the piece is too big for it",
        "set accepts.max_bytes in its card to its limits",
    ),
    "format_refused": _Kind(
        FormatRefusedError,
        "it does not take this audio format",
        "set accepts.formats in its card to its limits",
    ),
    "bad_request": _Kind(
        BadRequestError,
        "it does not understand the request",
        "compare the card with the engine's documentation",
    ),
    "engine_broke": _Kind(EngineBrokeError, "it broke", "try again later"),
}
_BY_STATUS = {
    400: _KINDS["bad_request"],
    401: _KINDS["refused"],
    402: _Kind(RefusedError, "it wants to be paid first", "look at your account with this engine"),
    403: _Kind(RefusedError, "it does not let this key in"),
    404: _Kind(
        BadRequestError, "nothing is at this address", "check url, path and region in its card"
    ),
    405: _Kind(
        BadRequestError, "it does not take this method here", "check the step's method in its card"
    ),
    407: _Kind(RefusedError, "the proxy wants a password"),
    408: _Kind(SlowDownError, "it waited too long for the request", "try again later"),
    413: _KINDS["too_big"],
    415: _KINDS["format_refused"],
    422: _KINDS["bad_request"],
    429: _KINDS["slow_down"],
}
_OF_A_TAKEN_VALUE = _Kind(
    BadRequestError,
    "it does not know what this step asks for",
    "check the step's path, and what 'take' of the steps before gives",
)
_NOT_THE_AUDIO = _Kind(
    BadRequestError,
    "it does not take this kind of body",
    "check the step's body and content_type in its card",
)


@dataclass(frozen=True, slots=True)
class AskedStep:
    """Which step an answer is to.

    Attributes:
        name: of its table.
        step: what the card says of it.
        uses_taken: whether its request was made of what earlier answers gave.
        carries_audio: whether its request held the audio.
        is_only: whether the exchange has no other, so that messages need not name it.
    """

    name: str
    step: Step
    uses_taken: bool = False
    carries_audio: bool = True
    is_only: bool = False


def check_answer(
    card: ServiceCard, answer: HttpAnswer, secrets: Iterable[Secret], asked: AskedStep
) -> None:
    """Return if the answer is a good one.

    Raises:
        EngineError: of the kind that the card or the status means, with the engine's words quoted.
        NothingHeardError: the card says that it means that nobody spoke.
    """
    # What the card knows comes before what HTTP says: many services answer 200 with an error in it.
    name = signed_as(card, answer)
    if name == "no_speech":
        raise NothingHeardError
    if name is None and _is_good(card, answer, asked.step):
        return
    if card.errors.message:
        words = card.errors.message.find(answer)
    else:
        words = None
    if words is not None:
        own_words = quoted_beginning(str(words).encode("utf-8", "replace"), secrets)
    else:
        own_words = ""
    quoted = own_words or quoted_beginning(answer.body, secrets)
    if name:
        kind = _KINDS[name]
    else:
        kind = _by_status(answer, asked)
    advice = kind.advice
    # The status alone does not say which of several keys is refused.
    if kind.error is RefusedError and card.secrets and advice is None:
        advice = f"check the secret in {', '.join(map(str, card.secrets.values()))}"
    # A card with one request has no names of steps to speak of.
    if asked.is_only:
        at = ""
    else:
        at = f" at step {asked.name}"
    said = f", saying: {quoted}" if quoted else ""
    error = kind.error(
        f"{kind.what} (HTTP {answer.status}{at}){said}",
        engine=card.name,
        status=answer.status,
        answer=quoted,
        advice=advice,
    )
    error.retry_after = retry_after(answer, card.errors)
    # Where the answer says when, that counts; else the end of its day.
    if name == "quota" and error.retry_after is None:
        error.retry_after = _until_renewed(card.errors.quota.renewed, time.time())
    raise error


def _until_renewed(renewed: str, now: float) -> float:
    """Seconds until the next hour, day or month begins, in UTC."""
    moment = datetime.fromtimestamp(now, UTC)
    begin = moment.replace(minute=0, second=0, microsecond=0)
    if renewed == "hour":
        following = begin + timedelta(hours=1)
    elif renewed == "day":
        following = begin.replace(hour=0) + timedelta(days=1)
    else:
        # 31 days behind the first of a month lies in the next one.
        following = (begin.replace(hour=0, day=1) + timedelta(days=31)).replace(day=1)
    return following.timestamp() - now


def seconds_until_more(answer: HttpAnswer) -> float | None:
    """Seconds until more may be sent, where a good answer says that nothing is left; else None.

    Reads `RateLimit-Remaining` and `RateLimit-Reset`, and both in `RateLimit`, as the drafts of the
    IETF's HTTPAPI group have them, with and without `X-` before them.
    """
    joined = answer.header("ratelimit") or ""
    said = dict(_LIMIT.findall(joined))
    left = _first_number(said.get("remaining"), *_limits(answer, "remaining"))
    reset = _first_number(said.get("reset"), *_limits(answer, "reset"))
    # Something is left, or nobody says when there is more.
    if left != 0 or reset is None:
        return None
    # A moment, and no number of seconds.
    if reset >= _EPOCH_SECONDS:
        reset -= time.time()
    return min(max(0.0, reset), _LONGEST_RETRY_AFTER)


def _limits(answer: HttpAnswer, what: str) -> Iterator[str | None]:
    for prefix in ("", "x-"):
        yield answer.header(f"{prefix}ratelimit-{what}")
        yield answer.header(f"{prefix}rate-limit-{what}")


def _first_number(*texts: str | None) -> float | None:
    for text in texts:
        if text is not None and _NUMBER.fullmatch(text.strip()):
            return float(text)
    return None


def _is_good(card: ServiceCard, answer: HttpAnswer, step: Step) -> bool:
    # A 404 may mean "not yet" where the card says so.
    meant = (*step.waiting_statuses, *step.done_statuses, *step.failed_statuses, *step.ok_statuses)
    if answer.status in meant or (answer.status == UNCHANGED and step.is_asking):
        return True
    if not 200 <= answer.status < 300:
        return False
    # Only in a good answer: an error is one anyway.
    condition = card.errors.when
    return condition is None or not condition.holds_in(answer)


def retry_after(
    answer: HttpAnswer, errors: ErrorRules | None = None, now: float | None = None
) -> float | None:
    """Seconds that an answer asks to wait; None where it does not.

    Args:
        answer: with `Retry-After`, a number or an HTTP date (RFC 9110, 10.2.3), or where the card
            says.
        errors: what the card says.
        now: seconds since 1970.
    """
    if errors is not None and errors.retry_after is not None:
        said = errors.retry_after.find(answer)
    else:
        said = None
    if said is None:
        value = (answer.header("retry-after") or "").strip()
    else:
        value = str(said).strip()
    if (
        said is not None
        and errors is not None
        and errors.retry_after_unit == "ms"
        and _NUMBER.fullmatch(value)
    ):
        value = str(float(value) / 1000)
    present = time.time() if now is None else now
    if _NUMBER.fullmatch(value):
        seconds = float(value)
        # Some engines give the moment itself, in seconds or milliseconds since 1970.
        if seconds >= _EPOCH_MILLISECONDS:
            seconds = seconds / 1000 - present
        elif seconds >= _EPOCH_SECONDS:
            seconds -= present
    else:
        # RFC 9110, 10.2.3: seconds or a date.
        moment = moment_from(value)
        if moment is None:
            return None
        seconds = moment - present
    return min(max(0.0, seconds), _LONGEST_RETRY_AFTER)


def unreadable(
    engine: str, what: str, answer: HttpAnswer, quoted: str = "", advice: str | None = None
) -> UnreadableReplyError:
    """The error for an answer that is not as the card says; it is kept to the byte.

    Args:
        engine: its name.
        what: what is wrong with it.
        answer: the answer.
        quoted: its beginning, without secrets.
        advice: which key of the card to look at.
    """
    error = UnreadableReplyError(
        what, engine=engine, status=answer.status, answer=quoted, advice=advice
    )
    error.body = answer.body
    return error


def quoted_beginning(body: bytes, secrets: Iterable[Secret]) -> str:
    """The beginning of an answer on one printable line, without secrets."""
    text = " ".join(
        without_secrets(body[: 64 * _QUOTED].decode("utf-8", "replace"), secrets).split()
    )
    beginning = "".join(
        character if character.isprintable() else "?" for character in text[:_QUOTED]
    )
    if len(text) <= _QUOTED:
        return beginning
    return beginning + "..."


def signed_as(card: ServiceCard, answer: HttpAnswer) -> str | None:
    """The kind of error by whose patterns the card knows the answer, or `no_speech`; None where it
    is neither.
    """
    said: list[str] | None = None
    # `no_speech` first: a silent piece may well be answered by 400.
    for name in ("no_speech", *_KINDS):
        patterns: ErrorPatterns = getattr(card.errors, name)
        if answer.status in patterns.statuses:
            return name
        if patterns.when and patterns.when.holds_in(answer):
            return name
        if patterns.texts:
            if said is None:
                # Errors are short; a long answer is searched as one text.
                if len(answer.body) <= _SEARCHED:
                    said = list(_texts_in(answer.documents()))
                else:
                    said = [answer.text]
            if any(pattern in text for pattern, text in product(patterns.texts, said)):
                return name
    return None


def _texts_in(document: Any) -> Iterator[str]:
    """Every text in a document, also names: what is looked for must not depend on how it is written
    down.
    """
    rest = [document]
    while rest:
        value = rest.pop()
        if isinstance(value, str):
            yield value
        elif isinstance(value, dict):
            rest += [*value, *value.values()]
        elif isinstance(value, list):
            rest += value
        elif value is not None:
            yield str(value)


def _by_status(answer: HttpAnswer, asked: AskedStep) -> _Kind:
    if 300 <= answer.status < 400:
        parts = split_url(answer.header("location") or "?")
        # A link relative to the service says where by its path.
        if parts.netloc:
            there = f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}{parts.path}"
        else:
            there = parts.path
        advice = (
            "set follow_redirects = true in this step of its card, if you trust it; nothing "
            "was sent there"
        )
        return _Kind(BadRequestError, f"it sends elsewhere, to {printable(there or '?')}", advice)
    if answer.status >= 500:
        return _KINDS["engine_broke"]
    # The path is the card's, and the ID in it an earlier answer's; one of them is wrong.
    if answer.status == 404 and asked.uses_taken:
        return _OF_A_TAKEN_VALUE
    if answer.status == 415 and not asked.carries_audio:
        return _NOT_THE_AUDIO
    return _BY_STATUS.get(answer.status, _Kind(BadRequestError, "it refuses the request"))
