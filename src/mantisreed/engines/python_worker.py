"""The program that runs a user's Python object for `PythonClient`, so that it can be stopped.

It loads one object and answers requests on standard input until that ends: a line of JSON with the
keyword arguments and the audio's size, then the audio. Answers are frames on standard output: a
byte for the kind, eight bytes of length, and the content. What the object prints goes to standard
error.
"""

import json
import os
import signal
import struct
import sys
from importlib import import_module, metadata
from typing import Any, BinaryIO

ENTRY_POINTS = "mantisreed.engines"

HEAD = struct.Struct("<cQ")
READY, REPLY, RAISED, NOT_LOADED = b"o", b"r", b"e", b"l"


def loaded(name: str) -> Any:
    """The object behind an entry point's name, or behind `module:object`; a class is called without
    arguments.
    """
    if ":" in name:
        module, _, attribute = name.partition(":")
        found = getattr(import_module(module), attribute)
    else:
        (point,) = metadata.entry_points(group=ENTRY_POINTS, name=name)
        found = point.load()
    if isinstance(found, type):
        return found()
    return found


def serve(name: str, requests: BinaryIO, answers: BinaryIO) -> None:
    """Load the object, and call it for each request."""
    try:
        engine = loaded(name)
    except BaseException as error:  # whatever a module does when it is imported, also leaving
        _tell(answers, NOT_LOADED, str(error or type(error).__name__).encode("utf-8", "replace"))
        return
    _tell(answers, READY, b"")
    while line := requests.readline():
        request = json.loads(line)
        audio = requests.read(request["size"])
        try:
            reply = engine.hear(audio, **request["about"])
            content = _as_bytes(reply)
        except BaseException as error:
            said = json.dumps({"type": type(error).__name__, "text": str(error)})
            _tell(answers, RAISED, said.encode("utf-8", "replace"))
            continue
        _tell(answers, REPLY, content)


def _as_bytes(reply: object) -> bytes:
    if isinstance(reply, bytes):
        return reply
    return (reply if isinstance(reply, str) else json.dumps(reply)).encode("utf-8", "surrogatepass")


def _tell(answers: BinaryIO, kind: bytes, content: bytes) -> None:
    answers.write(HEAD.pack(kind, len(content)))
    answers.write(content)
    answers.flush()


def main() -> None:
    """Serve the object that the first argument names."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the program that started this one decides
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "wb")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    serve(sys.argv[1], sys.stdin.buffer, answers)


if __name__ == "__main__":
    main()
