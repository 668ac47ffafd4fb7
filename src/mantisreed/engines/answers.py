"""Telling an engine's errors apart, and quoting its own words without secrets."""

import json
import re
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

from mantisreed.engines.card import EngineCard, ErrorPatterns
from mantisreed.engines.secrets import Secret, without_secrets
from mantisreed.engines.tables import ReplyPath
from mantisreed.errors import (
    BadRequestError,
    EngineBrokeError,
    EngineError,
    FormatRefusedError,
    RefusedError,
    SlowDownError,
    TooBigError,
)
from mantisreed.files import printable

_QUOTED = 200
_NUMBER = re.compile(r"[+-]?[0-9]{1,30}(?:\.[0-9]{0,30})?")
_EPOCH_SECONDS, _EPOCH_MILLISECONDS = 1e9, 1e12  # 2001 in seconds and milliseconds; no wait is as long
_LONGEST_RETRY_AFTER = 7 * 86400.0  # seconds; what is longer is no wish to wait


@dataclass(frozen=True, slots=True)
class HttpAnswer:
    """What came back, whatever its status."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class NothingHeardError(Exception):
    """The card's signs say that this answer means that nobody spoke: no failure, an empty reading."""


@dataclass(frozen=True, slots=True)
class _Kind:
    error: type[EngineError]
    what: str
    advice: str | None = None


_KINDS = {
    "refused": _Kind(RefusedError, "it refuses the key"),
    "slow_down": _Kind(SlowDownError, "it asks for fewer requests", "set pace in its card, and try again later"),
    "too_big": _Kind(
        TooBigError, "the piece is too big for it", "set accepts.most_bytes in its card to what it takes"
    ),
    "format_refused": _Kind(
        FormatRefusedError, "it does not take this audio format", "set accepts.formats in its card to what it takes"
    ),
    "bad_request": _Kind(
        BadRequestError, "it does not understand the request", "compare the card with the engine's documentation"
    ),
    "engine_broke": _Kind(EngineBrokeError, "it broke", "try again later"),
}
_BY_STATUS = {
    400: _KINDS["bad_request"],
    401: _KINDS["refused"],
    402: _Kind(RefusedError, "it wants to be paid first", "look at your account with this engine"),
    403: _Kind(RefusedError, "it does not let this key in"),
    404: _Kind(BadRequestError, "nothing is at this address", "check address, path and region in its card"),
    405: _Kind(BadRequestError, "it does not take this method here", "check the step's method in its card"),
    407: _Kind(RefusedError, "the proxy wants a password"),
    408: _Kind(SlowDownError, "it waited too long for the request", "try again later"),
    413: _KINDS["too_big"],
    415: _KINDS["format_refused"],
    422: _KINDS["bad_request"],
    429: _KINDS["slow_down"],
}


def check_answer(card: EngineCard, answer: HttpAnswer, secrets: Iterable[Secret], step: str = "send") -> None:
    """Return if the answer is a good one.

    Raises:
        EngineError: of the kind that the card's signs or the status mean, with the engine's words quoted.
        NothingHeardError: the card's signs say that nobody spoke.
    """
    name = _signed(card, answer)
    if name == "nothing_heard":
        raise NothingHeardError
    if name is None and 200 <= answer.status < 300 and not _found(card.errors.present, answer.body):
        return
    words = _found(card.errors.message, answer.body)
    own_words = quoted_beginning(words.encode(), secrets) if isinstance(words, str) else ""
    quoted = own_words or quoted_beginning(answer.body, secrets)
    kind = _KINDS[name] if name else _by_status(answer)
    advice = kind.advice
    if kind.error is RefusedError and card.secrets and advice is None:
        advice = f"check the secret in {', '.join(str(source) for source in card.secrets.values())}"
    at = "" if step == "send" else f" at {step}"
    said = f", saying: {quoted}" if quoted else ""
    error = kind.error(
        f"{kind.what} (HTTP {answer.status}{at}){said}",
        engine=card.name,
        status=answer.status,
        answer=quoted,
        advice=advice,
    )
    error.retry_after = retry_after(answer.headers)
    raise error


def retry_after(headers: Mapping[str, str], now: float | None = None) -> float | None:
    """Seconds that `Retry-After` asks for, as a number or an HTTP date (RFC 9110, 10.2.3); None without one."""
    value = next((text for name, text in headers.items() if name.lower() == "retry-after"), "").strip()
    present = time.time() if now is None else now
    if _NUMBER.fullmatch(value):
        seconds = float(value)
        # Some engines give the moment itself, in seconds or milliseconds since 1970.
        if seconds >= _EPOCH_MILLISECONDS:
            seconds = seconds / 1000 - present
        elif seconds >= _EPOCH_SECONDS:
            seconds -= present
    else:
        try:
            seconds = parsedate_to_datetime(value).timestamp() - present
        except (ValueError, TypeError, OverflowError, OSError):
            return None
    return min(max(0.0, seconds), _LONGEST_RETRY_AFTER)


def quoted_beginning(body: bytes, secrets: Iterable[Secret]) -> str:
    """The beginning of an answer on one printable line, without secrets."""
    text = " ".join(without_secrets(body[: 64 * _QUOTED].decode("utf-8", "replace"), secrets).split())
    text = "".join(character if character.isprintable() else "?" for character in text)
    return text if len(text) <= _QUOTED else text[:_QUOTED] + "..."


def _signed(card: EngineCard, answer: HttpAnswer) -> str | None:
    """The kind whose signs the card lists and the answer bears."""
    text: str | None = None
    for name in ("nothing_heard", *_KINDS):
        signs: ErrorPatterns = getattr(card.errors, name)
        if signs.texts and text is None:
            text = answer.body[: 1 << 16].decode("utf-8", "replace")
        if answer.status in signs.statuses or any(sign in (text or "") for sign in signs.texts):
            return name
    return None


def _by_status(answer: HttpAnswer) -> _Kind:
    if 300 <= answer.status < 400:
        location = next((value for name, value in answer.headers.items() if name.lower() == "location"), "?")
        parts = urlsplit(location)
        there = f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}{parts.path}" if parts.netloc else parts.path
        advice = "put the new address into its card, if you trust it; nothing was sent there"
        return _Kind(BadRequestError, f"it sends elsewhere, to {printable(there or '?')}", advice)
    if answer.status >= 500:
        return _KINDS["engine_broke"]
    return _BY_STATUS.get(answer.status, _Kind(BadRequestError, "it refuses the request"))


def _found(path: ReplyPath | None, body: bytes) -> Any:
    """What a path finds in a JSON answer; None without a path, and in any other answer."""
    if path is None:
        return None
    try:
        return path.find(json.loads(body))
    except ValueError:
        return None
