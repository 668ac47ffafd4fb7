"""The program that decodes recordings for `workers`: requests as lines on standard input, sound on standard output.

It ends when its input does.
"""

import base64
import json
import os
import signal
import sys
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from mantisreed.audio.decode import Decoder
from mantisreed.audio.workers import BLOCK, END, FAILED, HEAD
from mantisreed.errors import RecordingError


def serve(requests: BinaryIO, answers: BinaryIO) -> None:
    """Decode one recording for each line."""
    for line in requests:
        request = json.loads(line)
        path = Path(os.fsdecode(base64.b64decode(request.pop("path"))))
        decoder = Decoder(path, **request)
        try:
            for block in decoder.sound():
                content = np.ascontiguousarray(block)
                answers.write(HEAD.pack(BLOCK, content.nbytes + 2) + len(block).to_bytes(2, "little"))
                answers.write(content.data)
            _tell(answers, END, {"damage": decoder.damage(), "notes": decoder.notes()})
        except RecordingError as error:
            _tell(answers, FAILED, {"what": error.what, "where": error.where, "advice": error.advice})


def _tell(answers: BinaryIO, kind: bytes, content: dict[str, Any]) -> None:
    encoded = json.dumps(content).encode()
    answers.write(HEAD.pack(kind, len(encoded)) + encoded)
    answers.flush()


def main() -> None:
    """Decode what standard input asks for."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the program that started this one decides
    try:
        serve(sys.stdin.buffer, sys.stdout.buffer)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


if __name__ == "__main__":
    main()
