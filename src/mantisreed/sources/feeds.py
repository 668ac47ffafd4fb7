"""Feeds: RSS 2.0 and Atom, whose entries enclose recordings."""

import calendar
import hashlib
import logging
import tempfile
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from mantisreed.errors import InputError, NothingThereError, RecordingError, reason_of
from mantisreed.files import printable
from mantisreed.running import run_interruptibly
from mantisreed.sources.fetching import FetchHooks, fetched
from mantisreed.sources.recordings import LINK, SUFFIXES, Facts, Selection, Source
from mantisreed.urls import UrlError, resolved, split_url

_log = logging.getLogger(__name__)

_LARGEST = 64 << 20  # bytes of a feed
_LONGEST_NAME = 120  # characters of a file name that is made of a title
_FORBIDDEN = dict.fromkeys(map(ord, '/\\:*?"<>|'), " ") | dict.fromkeys(range(32), " ")


@dataclass(frozen=True, slots=True)
class _FeedEntry:
    """An entry of a feed that encloses a recording.

    Attributes:
        link: to the recording.
        title: of the entry.
        published: when, in seconds since 1970; None where it does not say.
        page: the address of the entry itself.
        known_by: what the feed calls it.
        identity: what the feed knows it by.
    """

    link: str
    title: str
    published: float | None
    page: str
    known_by: str
    identity: str


def recordings_of_feed(named: str, selection: Selection) -> list[Source]:
    """The recordings that a feed's entries enclose, the newest first.

    Args:
        named: its link, or the name of a file.
        selection: which entries are taken.

    Raises:
        InputError: it cannot be read, is no feed, or has no such entry.
    """
    is_link = LINK.match(named) is not None
    content = _fetched_content(named) if is_link else _content_of(Path(named))
    return entries_of(content, named if is_link else None, selection, where=printable(named))


def _content_of(file: Path) -> bytes:
    try:
        if file.stat().st_size > _LARGEST:
            raise InputError("this feed is too large", where=printable(file))
        return file.read_bytes()
    except OSError as error:
        raise InputError(
            f"this feed cannot be read ({reason_of(error)})", where=printable(file)
        ) from error


def _fetched_content(link: str) -> bytes:
    label = Source(Path("feed"), link).label

    async def fetch() -> bytes:
        with tempfile.TemporaryDirectory() as folder:
            arguments = {"largest": _LARGEST, "hooks": FetchHooks(), "kind": "feed"}
            async with fetched(link, label, Path(folder), **arguments) as path:  # type: ignore[arg-type]
                return path.read_bytes()

    try:
        return run_interruptibly(fetch())
    except RecordingError as error:
        raise InputError(f"this feed {error.what}", where=label, advice=error.advice) from error


def entries_of(
    content: bytes, link: str | None, selection: Selection, *, where: str
) -> list[Source]:
    """The recordings in a feed's content, the newest first; see `recordings_of_feed`.

    Args:
        content: of the feed.
        link: where it came from; None for a file of the user's.
        selection: which entries are taken.
        where: how it is called in errors.
    """
    import feedparser

    # Without a base, names stay as the feed writes them; links are resolved by ourselves.
    try:
        parsed = feedparser.parse(
            BytesIO(content), resolve_relative_uris=False, sanitize_html=False
        )
    except Exception as error:  # it takes whatever it is given, and may stumble over it
        raise InputError(f"this feed cannot be read ({reason_of(error)})", where=where) from error
    if not parsed.get("version"):
        reason = parsed.get("bozo_exception")
        why = f" ({reason_of(reason)})" if isinstance(reason, Exception) else ""
        raise InputError(
            f"this is no feed in RSS or Atom{why}",
            where=where,
            advice="name the feed, not its web page",
        )
    channel = parsed.feed
    entries = [entry for raw in parsed.entries if (entry := _entry(raw, channel, link)) is not None]
    entries.sort(key=lambda entry: -(entry.published or 0.0))
    chosen = _chosen(entries, selection)
    if not chosen:
        if not entries:
            what = "no entry of this feed encloses a recording"
        else:
            what = "no entry of this feed is so new"
        raise NothingThereError(what, where=where)
    facts = Facts(presumed_language=_tag(str(channel.get("language", ""))))
    return [_source(entry, chosen, facts, str(channel.get("title", "")), link) for entry in chosen]


def _chosen(entries: Sequence[_FeedEntry], selection: Selection) -> list[_FeedEntry]:
    chosen = list(entries)
    if selection.since is not None:
        first = selection.since
        chosen = [
            entry for entry in chosen if entry.published is not None and entry.published >= first
        ]
        if undated := sum(entry.published is None for entry in entries):
            _log.info("%d entries have no date, and are left out by --since", undated)
    if selection.newest is None:
        return chosen
    return chosen[: selection.newest]


def _entry(raw: Any, channel: Any, base: str | None) -> _FeedEntry | None:
    """The entry, if it encloses a recording; of several enclosures, which are the same in other
    forms, the first.
    """
    enclosures = [
        one for one in raw.get("enclosures", ()) if one.get("href") and _may_be_sound(one)
    ]
    if not enclosures:
        return None
    link = str(enclosures[0]["href"]).strip().replace(" ", "%20")
    with suppress(UrlError):  # its own turn tells what is wrong with it
        link = resolved(link, base or "")
    # By `dict`, as the parser's own way would give one for the other, with a warning.
    moment = dict.get(raw, "published_parsed") or dict.get(raw, "updated_parsed")
    known_by = str(raw.get("id") or raw.get("link") or link)
    feed = str(channel.get("link") or channel.get("title") or "")
    identity = hashlib.sha256(f"{feed}\n{known_by}".encode("utf-8", "surrogatepass")).hexdigest()[
        :32
    ]
    published = float(calendar.timegm(moment)) if moment else None
    return _FeedEntry(
        link,
        str(raw.get("title", "")).strip(),
        published,
        str(raw.get("link", "")),
        known_by,
        identity,
    )


def _may_be_sound(enclosure: Any) -> bool:
    kind = str(enclosure.get("type", "")).lower()
    if kind.startswith(("audio/", "video/")):
        return True
    return Path(split_url(str(enclosure["href"])).path).suffix.lower() in SUFFIXES


def _tag(language: str) -> str | None:
    """A feed's language as a tag: `en-us` is `en-US`."""
    parts = language.strip().replace("_", "-").split("-")
    if not parts[0].isalpha() or not 2 <= len(parts[0]) <= 3:
        return None
    return "-".join(
        [parts[0].lower(), *(part.upper() if len(part) == 2 else part for part in parts[1:])]
    )


def _source(
    entry: _FeedEntry, chosen: Sequence[_FeedEntry], facts: Facts, feed_title: str, feed: str | None
) -> Source:
    problem = None if LINK.match(entry.link) else "only http and https links are fetched"
    about = {"title": entry.title, "feed": feed_title, "page": entry.page, "guid": entry.known_by}
    if entry.published is not None:
        about["published"] = datetime.fromtimestamp(entry.published, UTC).strftime(
            "%Y-%m-%dT%H:%M:%SZ"
        )
    said = tuple((name, value) for name, value in about.items() if value)
    name = Path(_file_name(entry, chosen))
    return Source(name, entry.link, problem, facts, about=said, entry=entry.identity, named_by=feed)


def _file_name(entry: _FeedEntry, chosen: Sequence[_FeedEntry]) -> str:
    """The name in the link; many hosts call all recordings alike, and then it is made of the
    title.
    """

    def in_link(one: _FeedEntry) -> str:
        return unquote(split_url(one.link).path).rstrip("/").rpartition("/")[2].replace("\0", "")

    named = in_link(entry)
    is_alone = Counter(map(in_link, chosen))[named] == 1
    if (named and is_alone) or not entry.title:
        return named or "recording"
    return entry.title.translate(_FORBIDDEN).strip(" .")[:_LONGEST_NAME] or "recording"
