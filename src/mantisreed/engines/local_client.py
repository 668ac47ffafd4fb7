"""Engines that are no web service: a program on this machine, or a Python object."""

import asyncio
import contextlib
import json
import os
import shutil
import signal
import tempfile
from collections.abc import Mapping
from importlib import import_module, metadata
from pathlib import Path
from typing import Any, Protocol

from mantisreed.engines.answers import quoted_beginning
from mantisreed.engines.card import Command, EngineCard
from mantisreed.engines.client import Answered, Ticket
from mantisreed.engines.placeholders import Value, filled, filled_all
from mantisreed.engines.request import Piece, Wishes, piece_values
from mantisreed.engines.secrets import Secret
from mantisreed.errors import EngineBrokeError, InputError, UnreachableError, UnreadableReplyError

ENTRY_POINTS = "mantisreed.engines"

_LARGEST_OUTPUT = 256 * 1024 * 1024
_LAST_WORDS = 4000


class _AnswersAtOnce:
    """An engine that has no jobs of its own."""

    async def ask(self, ticket: Ticket) -> Answered | None:
        """Never called: no ticket was given out."""
        raise NotImplementedError

    async def look_up(self, piece: Piece, wishes: Wishes) -> Ticket | None:
        """There is no knowing."""
        return None

    async def cancel(self, ticket: Ticket) -> bool:
        """There is nothing to call off."""
        return False


class CommandClient(_AnswersAtOnce):
    """A program that is started for each piece."""

    def __init__(self, card: EngineCard, secrets: Mapping[str, Secret]) -> None:
        assert card.command is not None
        self._card = card
        self._command: Command = card.command
        self._secrets = secrets

    async def submit(self, piece: Piece, wishes: Wishes) -> Answered | Ticket:
        """See `EngineClient`."""
        with tempfile.TemporaryDirectory(prefix="mantisreed-") as folder:
            audio_file, reply_file = Path(folder, f"piece.{piece.form.extension}"), Path(folder, "reply")
            values = piece_values(self._card, piece, wishes, self._secrets)
            values |= {"audio_file": str(audio_file), "reply_file": str(reply_file)}
            if self._command.sound == "file":
                await asyncio.to_thread(audio_file.write_bytes, piece.audio)
            output = await self._run(piece, values)
            if self._command.answers == "stdout":
                return Answered(output)
            try:
                return Answered(await asyncio.to_thread(reply_file.read_bytes))
            except OSError as error:
                raise UnreadableReplyError(
                    "the program ended well but left no reply file",
                    engine=self._card.name,
                    advice="does its card name {reply_file} among the arguments?",
                ) from error

    async def _run(self, piece: Piece, values: Mapping[str, Value]) -> bytes:
        filled_in = (filled(template, values) for template in self._command.run)
        arguments = [argument for argument in filled_in if argument is not None]
        process = await self._started(arguments, filled_all(self._command.environment, values))
        sound = piece.audio if self._command.sound == "stdin" else b""
        try:
            output, errors = await asyncio.wait_for(process.communicate(sound), self._command.time_limit)
        except TimeoutError as error:
            raise UnreachableError(
                f"{arguments[0]} did not end within {self._command.time_limit:g} s and was stopped",
                engine=self._card.name,
                advice="raise command.time_limit in its card",
            ) from error
        finally:
            # Whatever it has started goes with it, also when we are interrupted.
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
            await process.wait()
        assert process.returncode is not None
        if process.returncode != 0:
            said = quoted_beginning(errors[-_LAST_WORDS:], self._secrets.values())
            ended = f"ended with code {process.returncode}" if process.returncode > 0 else "was killed"
            last_words = f", saying: {said}" if said else " and said nothing"
            raise EngineBrokeError(f"{arguments[0]} {ended}{last_words}", engine=self._card.name, answer=said)
        if len(output) > _LARGEST_OUTPUT:
            raise UnreadableReplyError(f"{arguments[0]} wrote more than a reply can be", engine=self._card.name)
        return output

    async def _started(self, arguments: list[str], environment: Mapping[str, str]) -> asyncio.subprocess.Process:
        try:
            return await asyncio.create_subprocess_exec(
                *arguments,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
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
            about: `format`, `content_type`, `sample_rate`, `channels`, `duration`, `language`, `target`, `hints`, and
                the card's values and secrets.

        Returns:
            Bytes or text as they are, or a document as JSON has it; read by the card's `reply`.
        """
        ...


class PythonClient(_AnswersAtOnce):
    """An object of the user's own, called in a thread."""

    def __init__(self, card: EngineCard, secrets: Mapping[str, Secret]) -> None:
        """Find the object.

        Raises:
            InputError: there is no such entry point, or it cannot be imported.
        """
        assert card.python is not None
        self._card = card
        self._secrets = secrets
        self._engine: PythonEngine = _loaded(card.python.object, card.name)

    async def submit(self, piece: Piece, wishes: Wishes) -> Answered | Ticket:
        """See `EngineClient`."""
        about = piece_values(self._card, piece, wishes, self._secrets)
        del about["audio_link"], about["request_id"], about["callback"]
        try:
            found = await asyncio.to_thread(self._engine.hear, piece.audio, **about)
        except Exception as error:
            said = quoted_beginning(str(error).encode(), self._secrets.values())
            raise EngineBrokeError(
                f"the object raised {type(error).__name__}: {said}", engine=self._card.name, answer=said
            ) from error
        if isinstance(found, bytes):
            return Answered(found)
        return Answered((found if isinstance(found, str) else json.dumps(found)).encode())


def _loaded(name: str, engine: str) -> Any:
    """The object behind an entry point's name, or behind `module:object`; a class is called without arguments."""
    try:
        if ":" in name:
            module, _, attribute = name.partition(":")
            found = getattr(import_module(module), attribute)
        else:
            (point,) = metadata.entry_points(group=ENTRY_POINTS, name=name)
            found = point.load()
        return found() if isinstance(found, type) else found
    except Exception as error:
        raise InputError(
            f"the object {name!r} of engine {engine} cannot be loaded ({error or type(error).__name__})",
            advice=f"name an entry point of the group {ENTRY_POINTS!r}, or module:object",
        ) from error
