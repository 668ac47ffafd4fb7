"""Trying an engine card with one clip, every step shown; or with a saved answer, without an
engine.
"""

import asyncio
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AsyncExitStack
from dataclasses import replace
from itertools import chain
from pathlib import Path
from secrets import token_hex

from mantisreed.audio.workers import DecodingWorkers
from mantisreed.cards.describing import described_answer, described_conversation, described_request
from mantisreed.cards.requests import HttpRequest, RequestBuilder, RequestContext, values_of_card
from mantisreed.cards.sequence import taken_by
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import Value
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.transport import HttpTransport, Transport
from mantisreed.cards.wire.websocket import Conversation
from mantisreed.engines.asking import client_for, reading_of, reply_to
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.links import LinkServer
from mantisreed.engines.reading.reply import ParsedReply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError, unpacked_files
from mantisreed.engines.request import FILES, Piece, attachment_of, piece_values, wants_link
from mantisreed.errors import EngineError, TooBigError
from mantisreed.jobs.failures import event_while_asking, event_while_sending, seconds_before
from mantisreed.jobs.gate import LONGEST_ASKED_FOR
from mantisreed.jobs.life import after
from mantisreed.pipeline.options import TranscriptionOptions
from mantisreed.pipeline.preparing.cut_limits import PieceOptions
from mantisreed.pipeline.preparing.pieces import Preparation
from mantisreed.running import run_interruptibly
from mantisreed.secrets import Secret
from mantisreed.transcript.document import Word, speakers_of
from mantisreed.units import clock, short_duration, short_size
from mantisreed.workspace import Workspace

Show = Callable[[str, str], None]
"""Takes a heading and what stands under it."""

_TAKEN = "taken-"  # stands before the name of a value that only an answer will bring
_WORDS_SHOWN = 12  # enough to see whether they are the words that were spoken


def try_engine(
    workspace: Workspace, options: TranscriptionOptions, clip: Path, show: Show
) -> ParsedReply:
    """Send one clip and show each request, each answer, and what was found in the reply.

    Raises:
        MantisreedError: the step that failed; what came before it has been shown.
    """
    return run_interruptibly(_tried(workspace, options, _piece_of(clip, options.card), show))


def try_answer(options: TranscriptionOptions, answer: bytes, clip: Path, show: Show) -> ParsedReply:
    """Read a saved answer as a reply to a clip, and show what is found in it; nothing is sent.

    Raises:
        MantisreedError: it is not as the card says.
    """
    card, piece = options.card, _piece_of(clip, options.card)
    reading = reading_of(card, EngineResponse(answer), piece, options.secrets)
    show("what was found", "\n".join(_findings(card, reading)))
    return reading


def show_requests(options: TranscriptionOptions, clip: Path, show: Show) -> None:
    """Build and show every request without sending anything, and without reading a secret; what
    earlier answers would bring stands in braces.
    """
    card = options.card
    # They are shown as stars, whatever they are.
    unread = {name: Secret(token_hex(16)) for name in card.secrets}
    options = replace(options, secrets=unread)
    piece = _piece_of(clip, card)
    _show_piece(piece, show)
    shown = replace(piece, link=f"{_TAKEN}recording_url", request_id=f"{_TAKEN}request_id")
    values: dict[str, Value] = {
        **piece_values(card, shown, options.request_options),
        **{name: secret.reveal() for name, secret in options.secrets.items()},
    }
    values |= values_of_card(card, values)
    if card.command:
        files = {**values, **{name: f"{{{name}}}" for name in FILES}}
        arguments = [template.text(files) for template in card.command.run]
        show("the program", " ".join(argument for argument in arguments if argument is not None))
    if card.python:
        show("the object", card.python.object)
    if card.is_service:
        _show_steps(options, piece, values, show)


def _show_steps(
    options: TranscriptionOptions, piece: Piece, values: dict[str, Value], show: Show
) -> None:
    card = options.card
    builder = RequestBuilder(card)
    taken: set[str] = set()
    if card.session is not None:
        session = [(card.session_name, card.session)]
    else:
        session = []
    others = [
        (name, step) for name in ("lookup", "cancel") if (step := getattr(card, name)) is not None
    ]
    for name, step in (*session, *card.sequence, *others):
        known = {
            **values,
            **dict.fromkeys(("page_number", "page_offset", "chunk_count"), 1),
            "piece_key": f"{_TAKEN}piece_key",
        }
        known |= {
            "manifest": [f"{_TAKEN}item"],
            "chunk": attachment_of(piece).content[: _chunk_size(step)],
        }
        if builder.own_url(values):
            bases = {}
        else:
            bases = dict.fromkeys(taken, "http://taken.invalid/")
        context = RequestContext(
            known, options.secrets, attachment_of(piece), frozenset(taken), bases=bases
        )
        text = described_request(builder.request(name, step, context))
        if step.websocket is not None:
            text += "\n" + described_conversation(
                Conversation(step.websocket, attachment_of(piece), known)
            )
        when = f" (when {step.when})" if step.when else ""
        show(f"the request of {name}{when}", text.replace(_TAKEN, "$"))
        values |= {key: f"{_TAKEN}{key}" for key in taken_by(step)}
        taken |= set(taken_by(step))


def _chunk_size(step: Step) -> int | None:
    if step.chunks is None or step.chunks.size is None:
        return None
    return step.chunks.size.fixed


async def _tried(
    workspace: Workspace, options: TranscriptionOptions, piece: Piece, show: Show
) -> ParsedReply:
    card = options.card
    _show_piece(piece, show)
    async with AsyncExitStack() as stack:
        transport = _ShowingTransport(card, await stack.enter_async_context(HttpTransport()), show)
        if wants_link(card) and workspace.links:
            links = await stack.enter_async_context(
                LinkServer(workspace.links.listen, workspace.links.public)
            )
            kind = piece.form.content_type_at(piece.sample_rate)
            piece = replace(piece, link=links.offer(piece.audio, kind, piece.form.extension))
        client = client_for(card, options.secrets, transport)
        await client.make_ready()
        started = time.monotonic()
        waits = _Waits(options.max_attempts, show)
        answered = await reply_to(
            client,
            card,
            piece,
            options.request_options,
            on_refusal=waits.after_sending,
            on_failure=waits.after_asking,
        )
    if not card.is_service:
        size = len(answered.body or b"")
        show("the reply", f"{short_size(size)} after {time.monotonic() - started:.2f} s")
    reading = reading_of(card, answered, piece, options.secrets)
    show("what was found", "\n".join([*_findings(card, reading), *_bill_lines(answered)]))
    return reading


class _Waits:
    """Waits where a run would wait, and says so. What may have been paid for is not sent again:
    whoever tries a card is there to decide.
    """

    def __init__(self, most: int, show: Show) -> None:
        self._most, self._show, self._failures = most, show, 0

    async def after_sending(self, error: EngineError) -> None:
        """Wait until the clip is sent again.

        Raises:
            EngineError: it is not.
        """
        # The same table as in a run, so that a trial shows what will happen.
        rule = after("sending", event_while_sending(error))
        await self._rest(
            error, may_pass=rule.again in ("soon", "as asked") and rule.charge == "none"
        )

    async def after_asking(self, error: EngineError) -> None:
        """Wait until the job is asked for again.

        Raises:
            EngineError: it is not.
        """
        event = event_while_asking(error, was_known=True)
        await self._rest(error, may_pass=event == "question failed")

    async def _rest(self, error: EngineError, *, may_pass: bool) -> None:
        self._failures += 1
        asked_for = error.retry_after or 0.0
        if not may_pass or self._failures >= self._most or asked_for > LONGEST_ASKED_FOR:
            raise error
        seconds = seconds_before(self._failures, asked_for)
        again = f"attempt {self._failures + 1} of {self._most} in {seconds:.0f} s"
        self._show("waiting, as a run does", f"{error}\n{again}")
        await asyncio.sleep(seconds)


def _piece_of(clip: Path, card: EngineCard) -> Piece:
    with DecodingWorkers() as workers:
        prepared = Preparation(clip, card, PieceOptions(untouched=True), workers)
        if not prepared.is_whole:
            raise TooBigError(
                "this clip is longer than one request may be",
                engine=card.name,
                advice="try a shorter one",
            )
        piece = next(prepared).piece
        prepared.close()
    return replace(piece, recording={**prepared.tags, "file_name": clip.name, "stem": clip.stem})


def _show_piece(piece: Piece, show: Show) -> None:
    size, length = short_size(len(piece.audio)), short_duration(piece.duration)
    show("the clip", f"{length}, {size} of {piece.form.name} at {piece.sample_rate} Hz")


def _average_confidence(words: Sequence[Word]) -> str:
    known = [word.confidence for word in words if word.confidence is not None]
    return f"{sum(known) / len(known):.2f} on average" if known else ""


def _findings(card: EngineCard, reading: ParsedReply) -> list[str]:
    odd = [f"doubtful    {doubt}" for doubt in reading.doubts] + [
        f"note        {remark}" for remark in reading.remarks
    ]
    if not reading.passages:
        return ["no speech: the reply is well-formed and empty", *odd]
    words = list(chain.from_iterable(passage.words for passage in reading.passages))
    speakers = speakers_of(reading.passages)
    times = f"in {card.reply.times}"
    if any(passage.timing == "estimated" for passage in reading.passages):
        times = "estimated from the speech map: the reply has none"
    lines = [f"text        {' '.join(passage.text for passage in reading.passages)}"]
    lines.append(f"passages    {len(reading.passages)}")
    lines.append(f"words       {len(words)}")
    lines.append(f"times       {times}")
    lines.append(f"confidence  {_average_confidence(words) or 'not found'}")
    lines.append(f"speakers    {', '.join(map(str, speakers)) or 'not found'}")
    lines.append(f"language    {reading.language or 'not found'}")
    alternatives = sum(len(passage.alternatives) for passage in reading.passages)
    if alternatives:
        lines.append(f"others      {alternatives} other readings")
    if reading.events:
        lines.append(f"sounds      {', '.join(event.text for event in reading.events)}")
    return [*lines, *odd, "", *_word_table(reading)]


def _word_table(reading: ParsedReply) -> list[str]:
    """The first words with all that was found of them."""
    rows = []
    for passage in reading.passages:
        rows.extend([(passage.speaker, word) for word in passage.words])
    shown = [_word_line(speaker, word) for speaker, word in rows[:_WORDS_SHOWN]]
    if len(rows) > _WORDS_SHOWN:
        more = [f"... {len(rows) - _WORDS_SHOWN} more"]
    else:
        more = []
    return ["start         end           sure  speaker     word", *shown, *more]


def _word_line(speaker: str | None, word: Word) -> str:
    sure = "-" if word.confidence is None else f"{word.confidence:.2f}"
    return (
        f"{clock(word.start)}  {clock(word.end)}  {sure:4}  {(speaker or '-')[:10]:10}  {word.text}"
    )


def _bill_lines(answered: EngineResponse) -> list[str]:
    bill = answered.bill
    if bill is None:
        return []
    seconds = "" if bill.seconds is None else f"{bill.seconds:g} s"
    cost = "" if bill.cost is None else f"{bill.cost}"
    return [
        "",
        f"billed      {', '.join(part for part in (seconds, cost) if part)}, as the engine says",
    ]


class _ShowingTransport:
    """Carries requests, and shows them and their answers."""

    def __init__(self, card: EngineCard, transport: Transport, show: Show) -> None:
        self._transport, self._show = transport, show
        if card.session is not None:
            session = {card.session_name: card.session}
        else:
            session = {}
        self._steps: Mapping[str, Step] = {**session, **dict(card.sequence)}
        self._is_session = frozenset(session)
        self._file = card.reply.file
        self._hidden: list[Secret] = []

    async def exchange(self, request: HttpRequest) -> HttpAnswer:
        """See `Transport`."""
        started = time.monotonic()
        self._show(f"the request of {request.step}", described_request(self._hiding(request)))
        answer = await self._transport.exchange(request)
        self._show_answer(request, answer, time.monotonic() - started)
        return answer

    async def converse(self, request: HttpRequest, conversation: Conversation) -> HttpAnswer:
        """See `Transport`."""
        started = time.monotonic()
        said = f"{described_request(self._hiding(request))}\n{described_conversation(conversation)}"
        self._show(f"the conversation of {request.step}", said)
        answer = await self._transport.converse(request, conversation)
        self._show_answer(request, answer, time.monotonic() - started)
        return answer

    def _show_answer(self, request: HttpRequest, answer: HttpAnswer, seconds: float) -> None:
        step = self._steps.get(request.step)
        for name, take in step.take.items() if step else ():
            value = take.find(answer)
            if value is not None and (take.hides(name) or request.step in self._is_session):
                self._hidden.append(Secret(str(value)))
        self._show("the answer", described_answer(answer, self._hiding(request), seconds))
        for number, file in enumerate(self._files(answer), 1):
            # What it was packed in does not say what is inside.
            kind = "application/json" if file.lstrip()[:1] in (b"{", b"[") else "text/plain"
            shown = HttpAnswer(answer.status, {"content-type": kind}, file, answer.url)
            heading = f"the answer, unpacked ({number})"
            self._show(heading, described_answer(shown, self._hiding(request), seconds))

    def _files(self, answer: HttpAnswer) -> list[bytes]:
        """What is packed in an answer; nothing where nothing is, or it cannot be unpacked."""
        try:
            files = unpacked_files(answer.body, self._file)
        except UnexpectedReplyError:
            return []
        return [] if files == [answer.body] else files

    def _hiding(self, request: HttpRequest) -> HttpRequest:
        """The request, with all that is known to be secret by now hidden when it is shown."""
        return replace(request, secrets=(*request.secrets, *self._hidden))
