"""Programs of this machine that get a result and may give one."""

import asyncio
import json
import os
from collections.abc import Mapping
from typing import Any

from mantisreed.cards.secrets import Secret, redacted
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.destinations.rules import Program
from mantisreed.errors import reason_of
from mantisreed.transcript.writing import one_line

_LARGEST_RESULT = 16 << 20  # bytes that a program may print
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
        printed, said = await asyncio.wait_for(
            process.communicate(given[program.stdin].encode("utf-8", "replace")), float(program.timeout)
        )
    except TimeoutError:
        raise DeliveryError(f"it took longer than {program.timeout:g} s, and was stopped", where=where) from None
    finally:
        _stop(process)
    if process.returncode:
        told = redacted(one_line(said.decode("utf-8", "replace"))[-_QUOTED:])
        raise DeliveryError(f"it ended with {process.returncode}{f': {told}' if told else ''}", where=where)
    return _result(program, printed, where)


def _stop(process: asyncio.subprocess.Process) -> None:
    """End a program with all that it has started."""
    if process.returncode is not None:
        return
    try:
        os.killpg(process.pid, 9)
    except (OSError, AttributeError):
        process.kill()


def _result(program: Program, printed: bytes, where: str) -> Any:
    if program.result == "nothing":
        return None
    if len(printed) > _LARGEST_RESULT:
        raise DeliveryError("it prints more than any result is long", where=where)
    text = printed.decode("utf-8", "replace").strip()
    if program.result == "text":
        return text
    try:
        found = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise DeliveryError("what it prints is not JSON", where=where) from error
    if not isinstance(found, dict):
        raise DeliveryError("what it prints is no JSON object", where=where)
    return found
