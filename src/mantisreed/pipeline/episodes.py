"""Episodes of feeds: those that were transcribed before, and tags by which a feed offers its
transcripts.
"""

import html
from collections.abc import Mapping, Sequence
from contextlib import closing
from pathlib import Path
from urllib.parse import quote

import msgspec

from mantisreed.errors import InputError
from mantisreed.files import write_whole
from mantisreed.jobs.records import LEDGER_FILE, Filter, JobRecord
from mantisreed.pipeline.fallback import engines_named
from mantisreed.pipeline.options import RunOptions, StoredOptions, stored_options
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.pipeline.outputs import Outputs
from mantisreed.sources.recordings import Source
from mantisreed.workspace import Workspace

# of the open feed extension that has a tag for transcripts
_NAMESPACE = "https://podcastindex.org/namespace/1.0"
_TYPES = {".vtt": "text/vtt", ".srt": "application/x-subrip", ".txt": "text/plain"}
_CAPTIONS = frozenset((".vtt", ".srt"))


def transcribed_before(
    workspace: Workspace, wanted: RunOptions, outputs: Outputs, recordings: Sequence[Source]
) -> dict[str, Outcome]:
    """The outcomes of episodes that this engine has transcribed before and whose files are there,
    by entry.

    They need not even be fetched. A feed may name another address for the same episode each day, so
    that they are known by what the feed calls them.

    Args:
        workspace: with the ledger.
        wanted: of the run.
        outputs: where it writes, and what.
        recordings: of all sources.
    """
    # By the entry of the feed: addresses of episodes change.
    entries = {source.entry: source for source in recordings if source.entry is not None}
    has_ledger = workspace.ledger is not None or (workspace.hidden / LEDGER_FILE).exists()
    if not entries or wanted.afresh or not has_ledger:
        return {}
    found: dict[str, Outcome] = {}
    for record in _done_jobs(workspace):
        try:
            stored = stored_options(record)
            entry = stored.entry or ""
            source = entries[entry]
            engine = workspace.engine(engines_named(source.facts.engine or wanted.engine)[0]).name
        except (InputError, KeyError, msgspec.MsgspecError):
            continue  # by an older version, from no feed of these, or no engine of these settings
        files = _files(stored, outputs)
        if record.engine == engine and files and all(path.exists() for path in files):
            found[entry] = Outcome(source, "done", files=files, job=record)
    return found


def _done_jobs(workspace: Workspace) -> list[JobRecord]:
    from mantisreed.jobs.ledger import open_ledger

    with closing(open_ledger(workspace)) as ledger:
        return ledger.listing.jobs(Filter(states=("done",)))


def _files(stored: StoredOptions, outputs: Outputs) -> tuple[Path, ...]:
    """What the run would write; nothing where the job wrote elsewhere, or other formats."""
    # Outputs elsewhere, or in fewer formats, are not what is asked for.
    if stored.folder.resolve() != outputs.folder.resolve() or not set(outputs.names) <= set(
        stored.wanted.to or ()
    ):
        return ()
    return tuple(outputs.paths(stored.output_stem))


def write_tags(file: Path, outcomes: Sequence[Outcome], base: str) -> int:
    """Write the tags that offer transcripts of a feed's episodes: an item for each, to be put into
    the feed.

    Args:
        file: where to; it appears whole or not at all.
        outcomes: of the episodes.
        base: the address of the folder that the transcripts are published in.

    Returns:
        How many episodes have one.

    Raises:
        OutputError: it cannot be written.
    """
    items = [item for outcome in outcomes if (item := _item(outcome, base))]
    head = (
        '<?xml version="1.0" encoding="UTF-8"?>\n<rss version="2.0" '
        f'xmlns:podcast="{_NAMESPACE}">\n<channel>\n'
    )
    write_whole(file, (head + "".join(items) + "</channel>\n</rss>\n").encode("utf-8", "replace"))
    return len(items)


def _item(outcome: Outcome, base: str) -> str:
    about: Mapping[str, str] = dict(outcome.recording.about)
    tags = [tag for path in outcome.files if (tag := _tag(path, outcome, base))]
    if not tags:
        return ""
    known = "".join(
        f"  <{name}>{html.escape(about[name], quote=False)}</{name}>\n"
        for name in ("title", "guid")
        if name in about
    )
    return f"<item>\n{known}{''.join(tags)}</item>\n"


def _tag(path: Path, outcome: Outcome, base: str) -> str:
    from xml.sax.saxutils import quoteattr  # takes long to import

    if path.suffix not in _TYPES:
        return ""
    if outcome.transcript:
        language = outcome.transcript.language
    else:
        language = outcome.recording.facts.presumed_language
    attributes = {"url": f"{base.rstrip('/')}/{quote(path.name)}", "type": _TYPES[path.suffix]}
    if language:
        attributes["language"] = language
    # The standard of the tag: text that runs with the sound.
    if path.suffix in _CAPTIONS:
        attributes["rel"] = "captions"
    return (
        "  <podcast:transcript "
        f"{' '.join(f'{name}={quoteattr(value)}' for name, value in attributes.items())}/>\n"
    )
