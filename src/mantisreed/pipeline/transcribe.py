"""What `run` does, for Python: one call from sources to outcomes."""

import asyncio
import os
from collections.abc import Callable, Container, Mapping, Sequence
from contextlib import AsyncExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import msgspec

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.destinations.stored_outputs import local_folder
from mantisreed.engines.card import EngineCard
from mantisreed.engines.request import wants_link
from mantisreed.errors import EngineError, InputError, InterruptedRunError, require_type
from mantisreed.exports.formats import chosen_formats
from mantisreed.jobs.budget import Budget, BudgetsOf
from mantisreed.pipeline.batch import Batch, BatchServices
from mantisreed.pipeline.episodes import transcribed_before
from mantisreed.pipeline.events import Event
from mantisreed.pipeline.fallback import HandingOn, engines_named, may_be_handed_on
from mantisreed.pipeline.followups.checking import check_follow_ups
from mantisreed.pipeline.incoming.storage_cache import StorageCache
from mantisreed.pipeline.late_transport import LateTransport
from mantisreed.pipeline.open_files import fitted
from mantisreed.pipeline.options import (
    Expected,
    RunOptions,
    TranscriptionOptions,
    default_writing,
    follow_ups_of,
    transcription_options,
)
from mantisreed.pipeline.outcomes import Outcome, State
from mantisreed.pipeline.outputs import Outputs, formats_to_write
from mantisreed.pipeline.preparing.cut_limits import PieceOptions, channels_named
from mantisreed.running import interruptible, run_in_thread, run_interruptibly
from mantisreed.sources.finding import Sources, find_recordings
from mantisreed.sources.recordings import NO_FACTS, Facts, Source
from mantisreed.trust import TrustError
from mantisreed.units import count_of
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.cards.wire.transport import Transport
    from mantisreed.engines.links import LinkServer
    from mantisreed.jobs.ledger import Ledger
    from mantisreed.pipeline.batch import FollowUpsMaker
    from mantisreed.pipeline.followups.service_desk import Perform


T = TypeVar("T")


def transcribe(
    sources: Sources,
    workspace: Workspace,
    options: RunOptions | None = None,
    *,
    workers: DecodingWorkers | None = None,
    on_event: Callable[[Event], None] = lambda event: None,
    on_outcome: Callable[[Outcome], None] = lambda outcome: None,
) -> list[Outcome]:
    """Send recordings to an engine and write what comes back.

    Everything that can be checked is checked before anything is sent. It may be called where a loop
    runs already, as in a notebook; `transcribe_async` is for callers that do not want to block it.

    Args:
        sources: files, folders, tables and http(s) links, or what `find_recordings` gives; one, or
            several.
        workspace: with the engine cards.
        options: what is wanted of the run.
        workers: where long recordings are decoded, if some have been started already.
        on_event: called as recordings move along.
        on_outcome: called when it is known what became of one, but for what it cost.

    Returns:
        One outcome for each recording, in order. A failed recording is an outcome, not an
        exception.

    Raises:
        InputError: a source, an option, the card or a secret is wrong; nothing was sent.
    """
    require_type(workspace, Workspace, "workspace", "mantisreed.open_workspace() gives one")
    require_type(
        options, RunOptions | None, "options", "mantisreed.RunOptions(engine=...) makes them"
    )
    wanted = options or RunOptions()
    if not wanted.keep:
        from mantisreed.pipeline.unkept import unkept

        if wanted.translations:
            raise InputError("translations are files, and none are kept", where="RunOptions.keep")
        wanted = msgspec.structs.replace(wanted, keep=True, to=(), is_followed=False)
        with unkept(workspace) as inside:
            return transcribe(
                sources,
                inside,
                wanted,
                workers=workers,
                on_event=on_event,
                on_outcome=on_outcome,
            )
    recordings = find_recordings(
        sources, wanted.selection, on_note=lambda note: _tell_note(on_event, note)
    )
    # All engines are checked before anything is sent to the first one.
    parts_by_engine = [
        source_parts(workspace, msgspec.structs.replace(wanted, engine=name), recordings)
        for name in engines_named(wanted.engine, wait=wanted.wait)
    ]
    check_follow_ups(workspace, wanted)
    outputs = outputs_of_run(workspace, wanted)
    before = _told_as_done(transcribed_before(workspace, wanted, outputs, recordings), on_event)
    outcomes: dict[tuple[str, Facts], Outcome] = {
        (outcome.recording.key, outcome.recording.facts): outcome for outcome in before.values()
    }
    budgets: dict[str, Budget] = {}
    interruptions: list[InterruptedRunError] = []
    with workers or DecodingWorkers() as decoding:
        for number, parts in enumerate(parts_by_engine):
            handing_on = HandingOn(outcomes, on_outcome, is_last=number + 1 == len(parts_by_engine))
            for part in parts:
                if interruptions:
                    part = replace(part, options=interruptions[0])
                part = part.without(before)
                if number:
                    part = part.handed_on(outcomes, on_event)
                currency = part.currency
                # What a run may spend is for all of it, in whatever parts it is done; engines may
                # count in other money.
                budget = budgets.setdefault(currency, Budget(wanted.spend_limit, currency))
                hooks = RunHooks(
                    budget=budget,
                    workers=decoding,
                    on_event=on_event,
                    on_outcome=handing_on.told,
                    on_interrupt=lambda: interruptions.append(InterruptedRunError()),
                )
                for outcome in part.outcomes(workspace, outputs, hooks):
                    handing_on.take(outcome)
    return [outcomes[source.key, source.facts] for source in recordings]


async def transcribe_async(
    sources: Sources,
    workspace: Workspace,
    options: RunOptions | None = None,
    *,
    on_event: Callable[[Event], None] = lambda event: None,
    on_outcome: Callable[[Outcome], None] = lambda outcome: None,
) -> list[Outcome]:
    """The same as `transcribe`, for callers with a loop of their own.

    The work is done on a thread of its own; `on_event` and `on_outcome` are called in the caller's
    loop. Cancelling it does what Ctrl-C does: nothing more is sent, what is on its way is waited
    for and noted, and the same call later goes on.

    Raises:
        InputError: as `transcribe` does.
    """
    loop = asyncio.get_running_loop()

    def tell(event: Event) -> None:
        loop.call_soon_threadsafe(on_event, event)

    def tell_outcome(outcome: Outcome) -> None:
        loop.call_soon_threadsafe(on_outcome, outcome)

    return await run_in_thread(
        lambda: transcribe(sources, workspace, options, on_event=tell, on_outcome=tell_outcome)
    )


def _tell_note(on_event: Callable[[Event], None], note: str) -> None:
    on_event(Event(Source(Path()), "note", f"note: {note}"))


def _told_as_done(
    before: dict[str, Outcome], on_event: Callable[[Event], None]
) -> dict[str, Outcome]:
    for outcome in before.values():
        on_event(Event(outcome.recording, "done", "transcribed before"))
    return before


def outputs_of_run(workspace: Workspace, wanted: RunOptions) -> Outputs:
    """Where a run writes, as it is wanted, and else as the settings say.

    Raises:
        TrustError: the settings lead outside of their folder, and are not trusted.
        InputError: there is no such format, or the folder cannot be written to.
    """
    workspace.trust.require(
        "database", "leading", *(() if wanted.into is not None else ("writing",))
    )
    if wanted.into is not None:
        folder = local_folder(Path(), workspace.hidden, os.fspath(wanted.into))
    else:
        folder = local_folder(workspace.folder, workspace.hidden, workspace.settings.into)
    return Outputs(
        folder,
        workspace.hidden,
        chosen_formats(workspace.settings.to) if wanted.to is None else formats_to_write(wanted.to),
        options=wanted.writing or default_writing(workspace),
        overwrite=wanted.overwrite,
    )


@dataclass(frozen=True, slots=True)
class SourcePart:
    """Recordings of which the same is known beforehand, and what is asked of an engine for them.

    Attributes:
        recordings: them.
        options: checked; or why nothing is done: they make no sense, which is these recordings' own
            fault, or the user wants to stop.
    """

    recordings: list[Source]
    options: TranscriptionOptions | InputError | InterruptedRunError

    def without(self, entries: Container[str]) -> "SourcePart":
        """The same without these entries of feeds."""
        left = [
            source
            for source in self.recordings
            if source.entry is None or source.entry not in entries
        ]
        return replace(self, recordings=left)

    def handed_on(
        self, outcomes: "Mapping[tuple[str, Facts], Outcome]", on_event: Callable[[Event], None]
    ) -> "SourcePart":
        """The same with those that the engine before has failed on for good, and this one may take
        over.
        """
        name = self.options.card.name if isinstance(self.options, TranscriptionOptions) else ""
        left = [
            source
            for source in self.recordings
            if may_be_handed_on(outcomes[source.key, source.facts], name)
        ]
        if left:
            before = outcomes[left[0].key, left[0].facts]
            failed = before.error.engine if isinstance(before.error, EngineError) else ""
            _tell_note(
                on_event, f"{name} takes over {count_of(len(left), 'recording')} of {failed}"
            )
        return replace(self, recordings=left)

    @property
    def currency(self) -> str:
        """In which their engine counts; empty where its card names no price."""
        if isinstance(self.options, TranscriptionOptions):
            price = self.options.card.price
        else:
            price = None
        if price:
            return price.currency
        return ""

    def outcomes(self, workspace: Workspace, outputs: Outputs, hooks: "RunHooks") -> list[Outcome]:
        """What becomes of each of them."""
        if not self.recordings:
            return []
        if isinstance(self.options, TranscriptionOptions):
            return run_batch(workspace, self.options, outputs, self.recordings, hooks)
        state: State = "waiting" if isinstance(self.options, InterruptedRunError) else "failed"
        undone = [Outcome(source, state, error=self.options) for source in self.recordings]
        for outcome in undone:
            hooks.on_outcome(outcome)
        return undone


def source_parts(
    workspace: Workspace, wanted: RunOptions, recordings: Sequence[Source]
) -> list[SourcePart]:
    """The recordings by what is known of them.

    Raises:
        InputError: what the user wants of all of them makes no sense.
    """
    by_facts: dict[Facts, list[Source]] = {}
    for source in recordings:
        by_facts.setdefault(source.facts, []).append(source)
    parts = []
    for facts, members in by_facts.items():
        try:
            options = _options_with_facts(workspace, wanted, facts)
            check_links(workspace, options.card, members, wait=wanted.wait)
            parts.append(SourcePart(members, options))
        except TrustError:
            raise
        except InputError as error:
            if facts == NO_FACTS:
                raise
            parts.append(SourcePart(members, error))
    return parts


def _options_with_facts(
    workspace: Workspace, wanted: RunOptions, facts: Facts
) -> TranscriptionOptions:
    """What is asked of the engine. A language that only a feed names, and the engine does not know,
    is not named.
    """
    try:
        return transcription_options(workspace, _with_facts(wanted, facts))
    except InputError:
        if facts.presumed_language is None:
            raise
        return transcription_options(
            workspace, _with_facts(wanted, replace(facts, presumed_language=None))
        )


def _with_facts(wanted: RunOptions, facts: Facts) -> RunOptions:
    """What is wanted, with what is known of a recording over it."""
    pieces = wanted.pieces
    if facts.channels is not None:
        chosen = channels_named(facts.channels, "channels")
        pieces = msgspec.structs.replace(pieces or PieceOptions(), channels=chosen)
    return msgspec.structs.replace(
        wanted,
        engine=facts.engine or wanted.engine,
        language=facts.language or wanted.language or facts.presumed_language,
        hints=facts.hints if facts.hints is not None else wanted.hints,
        pieces=pieces,
    )


@dataclass(frozen=True, slots=True)
class RunHooks:
    """What comes with a batch from outside.

    Attributes:
        expected: what is known of recordings already, by their sources' keys.
        budget: what several batches may spend together; None lets this one have its own.
        workers: where long recordings are decoded, if some have been started already.
        on_event: called as recordings move along.
        on_outcome: called when it is known what became of one.
        on_interrupt: called when the user wants to stop.
        also_doubtful: whether follow-ups are done again that may have been done already.
        purse_of: what a job is paid from besides; see `DispatchOptions`.
    """

    expected: Mapping[str, Expected] | None = None
    budget: Budget | None = None
    workers: DecodingWorkers | None = None
    on_event: Callable[[Event], None] = lambda event: None
    on_outcome: Callable[[Outcome], None] = lambda outcome: None
    on_interrupt: Callable[[], None] = lambda: None
    also_doubtful: bool = False
    purse_of: Callable[[str], Budget | None] = lambda job: None


def run_batch(
    workspace: Workspace,
    options: TranscriptionOptions,
    outputs: Outputs,
    recordings: Sequence[Source],
    hooks: RunHooks,
) -> list[Outcome]:
    """The outcome of each recording.

    The first interruption by the user lets what is on its way come in, the second ends at once.
    """
    card, _ = fitted(options.card)
    options = replace(options, card=card)

    async def work() -> list[Outcome]:
        async with AsyncExitStack() as stack:
            services = await batch_services(stack, workspace, options, recordings, hooks)
            batch = Batch(options, outputs, services, expected=hooks.expected, budget=hooks.budget)

            def interrupt() -> None:
                hooks.on_interrupt()
                batch.interrupt()

            stack.enter_context(interruptible(interrupt))
            return await batch.run(recordings)

    return run_interruptibly(work())


async def batch_services(
    stack: AsyncExitStack,
    workspace: Workspace,
    options: TranscriptionOptions,
    recordings: Sequence[Source],
    hooks: RunHooks,
) -> BatchServices:
    """What a batch works with, as long as the stack is open; pieces are offered as links if a
    recording needs it.
    """
    card = options.card
    transport = await stack.enter_async_context(LateTransport())
    return BatchServices(
        transport,
        lambda: ledger_of(workspace),
        workspace.hidden,
        workers=hooks.workers or stack.enter_context(DecodingWorkers()),
        links=await _link_server(stack, workspace, card, recordings),
        callbacks=f"{workspace.callbacks.public.rstrip('/')}/calls"
        if workspace.callbacks
        else None,
        ready=transport.ready,
        on_event=hooks.on_event,
        on_outcome=hooks.on_outcome,
        follow_ups=follow_ups_maker(
            workspace, options, transport, also_doubtful=hooks.also_doubtful
        ),
        purse_of=hooks.purse_of,
        cache=StorageCache.of(workspace),
    )


def follow_ups_maker(
    workspace: Workspace,
    options: TranscriptionOptions,
    transport: "Transport",
    *,
    also_doubtful: bool = False,
) -> "FollowUpsMaker | None":
    """What makes the follow-ups of recordings; None where there are none, so that nothing of them
    is loaded.

    Args:
        workspace: with the settings.
        options: what is asked for.
        transport: what carries requests.
        also_doubtful: whether what may have been done already is done again.
    """
    if not options.wanted.has_follow_ups(workspace):
        return None
    from mantisreed.pipeline.followups.follow_ups import FollowUps

    def made(perform: "Perform", outputs: Outputs, budgets_of: BudgetsOf) -> FollowUps:
        rules = follow_ups_of(workspace, options.wanted, outputs.names)
        return FollowUps(
            workspace,
            rules,
            outputs,
            transport,
            perform,
            budgets_of,
            also_doubtful=also_doubtful,
        )

    return made


async def _link_server(
    stack: AsyncExitStack, workspace: Workspace, card: EngineCard, recordings: Sequence[Source]
) -> "LinkServer | None":
    """What offers pieces to an engine that fetches them; None where none does."""
    is_needed = wants_link(card) and any(not source.is_web for source in recordings)
    if not is_needed or workspace.links is None:
        return None
    from mantisreed.engines.links import LinkServer

    return await stack.enter_async_context(
        LinkServer(workspace.links.listen, workspace.links.public)
    )


def ledger_of(workspace: Workspace) -> "Ledger":
    """The workspace's ledger, opened. It takes long to import; pieces are prepared meanwhile."""
    from mantisreed.jobs.ledger import open_ledger

    return open_ledger(workspace)


def check_links(
    workspace: Workspace, card: EngineCard, recordings: Sequence[Source], *, wait: bool = True
) -> None:
    """See that an engine that wants links can be given one to each of these recordings.

    Raises:
        InputError: one is a file, and the settings do not say how this machine is reached, or we do
            not wait.
    """
    if not wants_link(card) or all(source.is_web for source in recordings):
        return
    if not wait:
        raise InputError(
            f"engine {card.name} fetches each piece from this machine, so that somebody has to "
            "wait for it",
            advice="`mantisreed run` does, or give http(s) links as sources",
        )
    if workspace.links is None:
        raise InputError(
            f"engine {card.name} wants a link to the audio, and this machine has no public address",
            advice="give an http(s) link as the source, or set [recording_urls] public = "
            '"https://..." in the settings',
        )
