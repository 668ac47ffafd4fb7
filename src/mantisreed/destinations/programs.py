"""Programs of this machine that get a result and may give one."""

import asyncio
import json
import os
from collections.abc import Mapping
from contextlib import suppress
from typing import Any

from mantisreed.destinations.actions import Program
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.errors import reason_of
from mantisreed.running import stop_program
from mantisreed.secrets import Secret, redacted
from mantisreed.transcript.writing import one_line

_LARGEST_RESULT = 16 << 20  # bytes that a program may print
_LAST_SAID = 4096  # bytes of standard error that are kept
_BLOCK = 1 << 16  # bytes that are read at once
_QUOTED = 300  # characters of what it says on standard error


async def run_program(program: Program, parcel: Parcel, secrets: Mapping[str, Secret]) -> Any:
    """What the program prints: a text, a table, or None where that does not count.

    Raises:
        DeliveryError: it cannot be started, fails, takes too long, or prints what it should not.
    """
    words = [text for template in program.run if (text := parcel.filled(template))]
    where = words[0] if words else "command"
    given = {
        "text": str(parcel.facts.get("text") or ""),
        "json": json.dumps(parcel.facts, default=str),
        "nothing": "",
    }
    known = {name: secret.reveal() for name, secret in secrets.items()}
    environment = {
        name: template.text({**dict.fromkeys(template.names, ""), **known}) or ""
        for name, template in program.environment.items()
    }
    try:
        process = await asyncio.create_subprocess_exec(
            *words,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            env={**os.environ, **environment},
            start_new_session=True,
        )
    except (OSError, ValueError) as error:
        raise DeliveryError(f"it cannot be started ({reason_of(error)})", where=where) from error
    try:
        async with asyncio.timeout(float(program.timeout)):
            printed, said = await _spoken_with(
                process, given[program.stdin].encode("utf-8", "replace")
            )
    except ExceptionGroup as errors:
        if errors.subgroup(_TooMuchError) is None:
            raise
        raise DeliveryError(
            "it prints more than any result is long, so we stopped it", where=where
        ) from None
    except TimeoutError:
        raise DeliveryError(
            f"it took longer than {program.timeout:g} s, so we stopped it", where=where
        ) from None
    finally:
        await stop_program(process)
    if process.returncode:
        told = redacted(one_line(said.decode("utf-8", "replace"))[-_QUOTED:])
        raise DeliveryError(
            f"it ended with {process.returncode}{f': {told}' if told else ''}", where=where
        )
    return _result(program, printed, where)


class _TooMuchError(Exception):
    """A program prints more than we take."""


async def _spoken_with(process: asyncio.subprocess.Process, given: bytes) -> tuple[bytes, bytes]:
    """What a program prints, and the end of what it says on standard error, when it has ended.

    Raises:
        _TooMuchError: it prints too much; what came by then is all that was ever in memory.
    """
    assert process.stdin is not None and process.stdout is not None and process.stderr is not None
    stdin, stdout, stderr = process.stdin, process.stdout, process.stderr

    async def feed() -> None:
        with suppress(BrokenPipeError, ConnectionResetError):  # it has read enough
            stdin.write(given)
            await stdin.drain()
            stdin.close()

    async def printed() -> bytes:
        content = bytearray()
        while block := await stdout.read(_BLOCK):
            content += block
            if len(content) > _LARGEST_RESULT:
                raise _TooMuchError
        return bytes(content)

    async def said() -> bytes:
        content = b""
        while block := await stderr.read(_BLOCK):
            content = (content + block)[-_LAST_SAID:]
        return content

    async with asyncio.TaskGroup() as tasks:
        tasks.create_task(feed())
        printing, saying = tasks.create_task(printed()), tasks.create_task(said())
    await process.wait()
    return printing.result(), saying.result()


def _result(program: Program, printed: bytes, where: str) -> Any:
    if program.result == "nothing":
        return None
    text = printed.decode("utf-8", "replace").strip()
    if program.result == "text":
        return text
    try:
        found = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise DeliveryError("its output is not JSON", where=where) from error
    if not isinstance(found, dict):
        raise DeliveryError("its output is no JSON object", where=where)
    return found
