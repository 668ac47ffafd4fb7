"""Engines that are no web service: a program on this machine, or a Python object in a process of
its own.
"""

import asyncio
import contextlib
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import weakref
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, Protocol, TypeVar

from mantisreed.cards.answers import quoted_beginning
from mantisreed.cards.requests import values_of_card
from mantisreed.cards.templates import Value
from mantisreed.engines.card import Command, EngineCard
from mantisreed.engines.client import EngineResponse, StillWorking, Ticket
from mantisreed.engines.python_worker import ENTRY_POINTS, HEAD, NOT_LOADED, READY, REPLY
from mantisreed.engines.request import Piece, RequestOptions, piece_values
from mantisreed.errors import EngineBrokeError, InputError, UnreachableError, UnreadableReplyError
from mantisreed.limits import LARGEST_REPLY
from mantisreed.running import stop_program
from mantisreed.secrets import Secret
from mantisreed.units import short_size

_LAST_WORDS = 4000  # bytes of what a program says on standard error that are kept
_BLOCK = 1 << 18  # bytes that are read at once

T = TypeVar("T")


class _AnswersAtOnce:
    """An engine that has no jobs of its own."""

    async def make_ready(self) -> None:
        """There is nothing to load."""

    async def ask(self, ticket: Ticket) -> EngineResponse | StillWorking:
        """Never called: no ticket was given out."""
        raise NotImplementedError

    async def clean_up(self, response: EngineResponse) -> None:
        """There is nothing to tidy up."""

    def read_again(self, step: str, answer: bytes, values: Mapping[str, Any]) -> Ticket:
        """Never called: its answers are replies."""
        raise NotImplementedError

    async def look_up(self, piece: Piece, request_options: RequestOptions) -> Ticket | None:
        """There is no knowing."""
        return None

    async def cancel(self, ticket: Ticket) -> bool:
        """There is nothing to cancel."""
        return False


def _values(
    card: EngineCard, piece: Piece, request_options: RequestOptions, secrets: Mapping[str, Secret]
) -> dict[str, Value]:
    """What the card's placeholders stand for, its secrets and own values among them."""
    known = piece_values(card, piece, request_options) | {
        name: secret.reveal() for name, secret in secrets.items()
    }
    return known | values_of_card(card, known)


class CommandClient(_AnswersAtOnce):
    """A program that is started for each piece."""

    def __init__(self, card: EngineCard, secrets: Mapping[str, Secret]) -> None:
        assert card.command is not None
        self._card = card
        self._command: Command = card.command
        self._secrets = secrets

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        with tempfile.TemporaryDirectory(prefix="mantisreed-") as folder:
            audio_file, reply_file = (
                Path(folder, f"piece.{piece.form.extension}"),
                Path(folder, "reply"),
            )
            values = _values(self._card, piece, request_options, self._secrets)
            values |= {"audio_file": str(audio_file), "reply_file": str(reply_file)}
            if self._command.audio == "file":
                await asyncio.to_thread(audio_file.write_bytes, piece.audio)
            output = await self._run(piece, values)
            if self._command.reply == "stdout":
                return EngineResponse(output)
            return EngineResponse(await asyncio.to_thread(self._reply_in, reply_file))

    def _reply_in(self, file: Path) -> bytes:
        try:
            size = file.stat().st_size
            if size > LARGEST_REPLY:
                raise _too_large(self._card, file.name, b"")
            return file.read_bytes()
        except OSError as error:
            missing = UnreadableReplyError(
                "the program ended well but left no reply file",
                engine=self._card.name,
                advice="does its card name {reply_file} among the arguments?",
            )
            missing.may_be_charged = False
            raise missing from error

    async def _run(self, piece: Piece, values: Mapping[str, Value]) -> bytes:
        filled_in = (template.text(values) for template in self._command.run)
        arguments = [argument for argument in filled_in if argument is not None]
        environment = {
            name: template.text(values) for name, template in self._command.environment.items()
        }
        process = await self._started(
            arguments, {name: text for name, text in environment.items() if text is not None}
        )
        if self._command.audio == "stdin":
            sound = piece.audio
        else:
            sound = b""
        try:
            output, errors = await asyncio.wait_for(
                self._communicated(process, arguments[0], sound), self._command.timeout
            )
        except TimeoutError as error:
            late = UnreachableError(
                f"{arguments[0]} did not end within {self._command.timeout:g} s, so we stopped it",
                engine=self._card.name,
                advice="raise command.timeout in its card",
            )
            late.was_sent = True
            raise late from error
        finally:
            await stop_program(process)
        assert process.returncode is not None
        if process.returncode != 0:
            said = quoted_beginning(errors, self._secrets.values())
            if process.returncode > 0:
                ended = f"ended with code {process.returncode}"
            else:
                ended = "was killed"
            if said:
                last_words = f", saying: {said}"
            else:
                last_words = " and said nothing"
            raise EngineBrokeError(
                f"{arguments[0]} {ended}{last_words}", engine=self._card.name, answer=said
            )
        return output

    async def _communicated(
        self, process: asyncio.subprocess.Process, name: str, sound: bytes
    ) -> tuple[bytes, bytes]:
        """What a program writes, and the end of what it says; broken off as soon as it is too
        much.
        """
        assert (
            process.stdin is not None and process.stdout is not None and process.stderr is not None
        )

        async def feed(stdin: asyncio.StreamWriter) -> None:
            with contextlib.suppress(BrokenPipeError, ConnectionResetError):  # it has read enough
                stdin.write(sound)
                await stdin.drain()
                stdin.close()
                await stdin.wait_closed()

        async def read_output(stdout: asyncio.StreamReader) -> bytes:
            output = bytearray()
            while block := await stdout.read(_BLOCK):
                output += block
                if len(output) > LARGEST_REPLY:
                    raise _too_large(self._card, name, bytes(output[:_BLOCK]))
            return bytes(output)

        async def read_errors(stderr: asyncio.StreamReader) -> bytes:
            kept = b""
            while block := await stderr.read(_BLOCK):
                # The end says why; a program may write progress for hours.
                kept = (kept + block)[-_LAST_WORDS:]
            return kept

        # All three at once: a program that waits until its output is read would never read its
        # input.
        feeding = asyncio.create_task(feed(process.stdin))
        output = asyncio.create_task(read_output(process.stdout))
        errors = asyncio.create_task(read_errors(process.stderr))
        try:
            await asyncio.gather(feeding, output, errors)
            await process.wait()
            return output.result(), errors.result()
        finally:
            for task in (feeding, output, errors):
                task.cancel()
            await asyncio.gather(feeding, output, errors, return_exceptions=True)

    async def _started(
        self, arguments: list[str], environment: Mapping[str, str]
    ) -> asyncio.subprocess.Process:
        try:
            return await asyncio.create_subprocess_exec(
                *arguments,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
                # Programs need their paths; what the card says comes before.
                env={**os.environ, **environment},
                start_new_session=True,
            )
        except (OSError, ValueError) as error:
            found = shutil.which(arguments[0]) if arguments else None
            reason = str(error) if found else "no such program"
            raise UnreachableError(
                f"cannot start {arguments[0] if arguments else 'an empty command'} ({reason})",
                engine=self._card.name,
                advice="is it installed, and is command.run in its card right?",
            ) from error


class PythonEngine(Protocol):
    """What an object behind `[engine.NAME.python]` offers."""

    def hear(self, audio: bytes, **about: Any) -> object:
        """Transcribe one piece.

        Args:
            audio: the encoded piece.
            about: `format`, `content_type`, `sample_rate`, `channels`, `duration`, `language`,
                `target`, `hints`, and the card's values and secrets.

        Returns:
            Bytes or text as they are, or a document as JSON has it; read by the card's `reply`.
        """
        ...


class PythonClient(_AnswersAtOnce):
    """An object of the user's own, in processes that can be stopped; each keeps what it has
    loaded.
    """

    def __init__(self, card: EngineCard, secrets: Mapping[str, Secret]) -> None:
        """Start nothing yet."""
        assert card.python is not None
        self._card, self._secrets = card, secrets
        self._name, self._timeout = card.python.object, float(card.python.timeout)
        self._idle: list[_PythonProcess] = []
        # Threads of its own: an object that takes long would keep those that everything else needs.
        self._threads = ThreadPoolExecutor(card.concurrent_pieces, thread_name_prefix=card.name)
        weakref.finalize(self, _stop_all, self._idle)

    async def make_ready(self) -> None:
        """Load the object in a first process.

        Raises:
            InputError: there is no such entry point, or it cannot be imported.
        """
        if not self._idle:
            self._idle.append(await self._loaded())

    async def _loaded(self) -> "_PythonProcess":
        process = _PythonProcess(self._name)
        try:
            problem = await self._in_thread(process.problem)
        finally:
            if not process.is_at_rest:
                process.stop()
        if problem:
            raise InputError(
                f"the object {self._name!r} of engine {self._card.name} cannot be loaded "
                f"({problem})",
                advice=f"name an entry point of the group {ENTRY_POINTS!r}, or module:object",
            )
        return process

    async def _in_thread(self, work: Callable[[], T]) -> T:
        return await asyncio.get_running_loop().run_in_executor(self._threads, work)

    async def submit(
        self, piece: Piece, request_options: RequestOptions
    ) -> EngineResponse | Ticket:
        """See `EngineClient`."""
        about = _values(self._card, piece, request_options, self._secrets)
        # What only makes sense to a service.
        for name in ("recording_url", "request_id", "callback", "audio_size"):
            del about[name]
        if self._idle:
            # The one that was used last has everything in memory.
            process = self._idle.pop()
        else:
            process = await self._loaded()
        try:
            kind, content = await asyncio.wait_for(
                self._in_thread(lambda: process.called(piece.audio, about)), self._timeout
            )
        except TimeoutError as error:
            late = UnreachableError(
                f"the object did not answer within {self._timeout:g} s, so we stopped it",
                engine=self._card.name,
                advice="raise python.timeout in its card",
            )
            late.was_sent = True
            raise late from error
        except (OSError, EOFError) as error:
            raise EngineBrokeError(
                "the object's process has ended", engine=self._card.name
            ) from error
        finally:
            if not process.is_at_rest:
                process.stop()
        self._idle.append(process)
        if kind == REPLY:
            return EngineResponse(content)
        raised = json.loads(content)
        said = quoted_beginning(raised["text"].encode("utf-8", "replace"), self._secrets.values())
        raise EngineBrokeError(
            f"the object raised {raised['type']}: {said}", engine=self._card.name, answer=said
        )


class _PythonProcess:
    """One process that runs an object; see `python_worker.py`. Its methods block."""

    def __init__(self, name: str) -> None:
        self._process = subprocess.Popen(  # noqa: S603
            [sys.executable, "-m", "mantisreed.engines.python_worker", name],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env={
                **os.environ,
                # The same modules as here, also those of a virtual environment or of this folder.
                "PYTHONPATH": os.pathsep.join(path or str(Path.cwd()) for path in sys.path),
            },
            start_new_session=True,
        )
        self.is_at_rest = False

    def problem(self) -> str | None:
        """Why the object could not be loaded; None when it was."""
        try:
            kind, content = self._frame()
        except (OSError, EOFError):
            kind, content = NOT_LOADED, b"its process has ended"
        if kind != READY:
            self.stop()
            return content.decode("utf-8", "replace")
        self.is_at_rest = True
        return None

    def called(self, audio: bytes, about: Mapping[str, Value]) -> tuple[bytes, bytes]:
        """The kind of the answer and its content.

        Raises:
            OSError, EOFError: the process has ended.
        """
        self.is_at_rest = False
        assert self._process.stdin is not None
        request = json.dumps({"size": len(audio), "about": about})
        self._process.stdin.write(request.encode() + b"\n")
        self._process.stdin.write(audio)
        self._process.stdin.flush()
        answer = self._frame()
        self.is_at_rest = True
        return answer

    def stop(self) -> None:
        """End it, whatever it does, with all that it has started."""
        with contextlib.suppress(ProcessLookupError, PermissionError):  # it has ended by itself
            os.killpg(self._process.pid, signal.SIGKILL)
        self._process.wait()
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):  # the process behind it is dead
                    stream.close()

    def _frame(self) -> tuple[bytes, bytes]:
        assert self._process.stdout is not None
        head = self._process.stdout.read(HEAD.size)
        if len(head) < HEAD.size:
            raise EOFError("its process has ended")
        kind, length = HEAD.unpack(head)
        if length > LARGEST_REPLY:
            raise EOFError(f"it gave more than {short_size(LARGEST_REPLY)}")
        content = self._process.stdout.read(length)
        if len(content) < length:
            raise EOFError("its process has ended")
        return kind, content


def _stop_all(processes: list[_PythonProcess]) -> None:
    while processes:
        processes.pop().stop()


def _too_large(card: EngineCard, name: str, beginning: bytes) -> UnreadableReplyError:
    error = UnreadableReplyError(
        f"{name} wrote more than {short_size(LARGEST_REPLY)}, which is no reply", engine=card.name
    )
    error.body, error.is_whole = beginning, False
    return error
