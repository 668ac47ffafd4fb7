"""Trying an engine card with one clip, every step shown."""

import asyncio
import time
from collections.abc import Callable, Mapping
from contextlib import AsyncExitStack
from dataclasses import replace
from pathlib import Path

from mantisreed.engines.answers import HttpAnswer
from mantisreed.engines.asking import client_for, reading_of, reply_to
from mantisreed.engines.card import EngineCard
from mantisreed.engines.describing import described_answer, described_request
from mantisreed.engines.links import LinkServer
from mantisreed.engines.placeholders import Value, filled
from mantisreed.engines.reply import ParsedReply
from mantisreed.engines.request import HttpRequest, Piece, build_step, build_token_request, piece_values, wants_link
from mantisreed.engines.transport import HttpTransport, Transport
from mantisreed.errors import TooBigError
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.pieces import PieceOptions, Preparation
from mantisreed.transcript.document import speakers_of
from mantisreed.units import clock, short_duration, short_size
from mantisreed.workspace import Workspace

Show = Callable[[str, str], None]
"""Takes a heading and what stands under it."""


def try_engine(workspace: Workspace, options: TranscriptionOptions, clip: Path, show: Show) -> ParsedReply:
    """Send one clip and show each request, each answer, and what was found in the reply.

    Raises:
        MantisreedError: the step that failed; what came before it has been shown.
    """
    return asyncio.run(_tried(workspace, options, _piece_of(clip, options.card), show))


def show_requests(options: TranscriptionOptions, clip: Path, show: Show) -> None:
    """Build and show every request without sending anything; what earlier answers would bring stands in braces."""
    card = options.card
    piece = _piece_of(clip, card)
    _show_piece(piece, show)
    values = piece_values(card, replace(piece, link="{audio_link}"), options.request_options, options.secrets)
    if card.command:
        arguments = [filled(template, {**values, **_FILES}) for template in card.command.run]
        show("the program", " ".join(argument for argument in arguments if argument is not None))
    if card.python:
        show("the object", card.python.object)
    if card.token:
        show(
            "the request of token", described_request(build_token_request(card, card.token, values, options.secrets))
        )
        values["token"] = "{token}"  # noqa: S105 - shown instead of one
    for name, step in card.steps:
        show(f"the request of {name}", described_request(build_step(card, name, values, options.secrets, piece)))
        values |= {taken: f"{{{taken}}}" for taken in step.take}


_FILES: Mapping[str, Value] = {"audio_file": "{audio_file}", "reply_file": "{reply_file}"}


async def _tried(workspace: Workspace, options: TranscriptionOptions, piece: Piece, show: Show) -> ParsedReply:
    card = options.card
    _show_piece(piece, show)
    async with AsyncExitStack() as stack:
        transport = _ShowingTransport(await stack.enter_async_context(HttpTransport()), show)
        if wants_link(card) and workspace.links:
            links = await stack.enter_async_context(LinkServer(workspace.links.listen, workspace.links.public))
            piece = replace(piece, link=links.offer(piece.audio, piece.form.content_type, piece.form.extension))
        client = client_for(card, options.secrets, transport)
        started = time.monotonic()
        answered = await reply_to(client, card, piece, options.request_options)
    if not card.send:
        size = len(answered.body or b"")
        show("the reply", f"{short_size(size)} after {time.monotonic() - started:.2f} s")
    reading = reading_of(card, answered, piece, options.secrets)
    show("what was found", "\n".join(_findings(card, reading)))
    return reading


def _piece_of(clip: Path, card: EngineCard) -> Piece:
    prepared = Preparation(clip, card, PieceOptions(untouched=True))
    if not prepared.is_whole:
        raise TooBigError(
            "this clip is over what it takes in one request", engine=card.name, advice="try a shorter one"
        )
    return next(iter(prepared)).piece


def _show_piece(piece: Piece, show: Show) -> None:
    size, length = short_size(len(piece.audio)), short_duration(piece.duration)
    show("the clip", f"{length}, {size} of {piece.form.name} at {piece.sample_rate} Hz")


def _findings(card: EngineCard, reading: ParsedReply) -> list[str]:
    if not reading.passages:
        return ["nothing heard: the reply is well-formed and empty"]
    words = [word for passage in reading.passages for word in passage.words]
    known = [word.confidence for word in words if word.confidence is not None]
    speakers = speakers_of(reading.passages)
    estimated = any(passage.timing == "estimated" for passage in reading.passages)
    lines = [f"text        {' '.join(passage.text for passage in reading.passages)}"]
    lines.append(f"passages    {len(reading.passages)}")
    lines.append(
        f"words       {len(words)}: " + ", ".join(f"{w.text} at {clock(w.start)[3:]}" for w in words[:4]) + " ..."
    )
    lines.append(
        f"times       {'estimated from the speech map: the reply has none' if estimated else card.reply.times}"
    )
    lines.append(f"confidence  {f'{sum(known) / len(known):.2f} on average' if known else 'not found'}")
    lines.append(f"speakers    {', '.join(map(str, speakers)) or 'not found'}")
    lines.append(f"language    {reading.language or 'not found'}")
    alternatives = sum(len(passage.alternatives) for passage in reading.passages)
    return [*lines, f"others      {alternatives} other readings"] if alternatives else lines


class _ShowingTransport:
    """Carries requests, and shows them and their answers."""

    def __init__(self, transport: Transport, show: Show) -> None:
        self._transport = transport
        self._show = show

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        self._show(f"the request of {request.step}", described_request(request))
        started = time.monotonic()
        answer = await self._transport.exchange(request)
        self._show("the answer", described_answer(answer, request, time.monotonic() - started))
        return answer
