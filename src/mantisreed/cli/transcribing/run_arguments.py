"""What `mantisreed run` is asked for, in each of its ways."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `run` is asked for; its arguments tell the same."""

    sources: Sequence[str]
    as_json: bool = False
    report: str | None = None
    fill: bool = False
    publish_at: str | None = None
    live: bool = False
    pause: str | None = None
    pcm: str | None = None
    name: str | None = None
    stdout: bool = False
    no_keep: bool = False
    options: dict[str, Any] = field(default_factory=dict)
