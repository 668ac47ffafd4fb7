"""Jobs as the API tells them."""

from typing import Any

from mantisreed.jobs.records import JobRecord, PieceRecord
from mantisreed.serving.orders import HAS_TEXT, Order
from mantisreed.units import iso_moment


def described(order: Order, prefix: str = "") -> dict[str, Any]:
    """One job, as lists and events have it; the service is reached under a prefix of paths."""
    return {
        "id": order.id,
        "recording": order.name,
        "state": order.state,
        "stage": order.stage or None,
        "engine": order.options.engine,
        "language": order.language or order.options.language,
        "created": iso_moment(order.created),
        "finished": None if order.finished is None else iso_moment(order.finished),
        "seconds": order.duration,
        "words": order.words,
        "doubts": order.doubts,
        "cost": order.cost,
        "currency": order.currency,
        "error": None if order.error is None else {"what": order.error, "advice": order.advice},
        "webhook": None
        if order.webhook is None
        else {"address": order.webhook, "profile": order.profile, "state": order.webhook_state},
        "links": _links(order, prefix),
    }


def _links(order: Order, prefix: str) -> dict[str, str]:
    address = f"{prefix}/jobs/{order.id}"
    links = {"self": address, "events": f"{address}/events"}
    if order.state in HAS_TEXT:
        links |= {
            name: f"{address}/outputs/{name}" for name in ("txt", "json", "srt", "vtt", "ttml")
        }
        links["review"] = f"{address}/review"
    return links


def described_pieces(
    record: JobRecord, pieces: list[PieceRecord], follow_ups: list[Any]
) -> dict[str, Any]:
    """What the ledger knows of a job besides."""
    return {
        "engine": record.engine,
        "billed_seconds": round(record.billed, 3),
        "reported_seconds": record.reported_seconds,
        "reported_cost": None if record.reported_cost is None else float(record.reported_cost),
        "pieces": [
            {
                "start": piece.start,
                "end": piece.end,
                "channel": piece.channel,
                "state": piece.state,
                "is_kept_reply": bool(piece.saved),
                "attempts": [
                    {
                        "started": iso_moment(attempt.started),
                        "ended": None if attempt.ended is None else iso_moment(attempt.ended),
                        "bytes": attempt.bytes,
                        "outcome": attempt.outcome,
                        "error": attempt.error,
                    }
                    for attempt in piece.attempts
                ],
            }
            for piece in pieces
        ],
        "follow_ups": [
            {"name": one.name, "state": one.state, "reason": one.reason, "result": one.result}
            for one in follow_ups
        ],
    }
