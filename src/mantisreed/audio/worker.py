"""The program that decodes recordings for `workers`: requests as lines on standard input, sound on
standard output.

It ends when its input does.
"""

import base64
import json
import os
import signal
import sys
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
import numpy as np

from mantisreed.audio.containers import probe
from mantisreed.audio.decode import Decoder
from mantisreed.audio.workers import BLOCK, END, FAILED, HEAD, MOST_MEMORY, seconds_for
from mantisreed.errors import RecordingError, reason_of
from mantisreed.files import printable


def serve(requests: BinaryIO, answers: BinaryIO) -> None:
    """Do what each line asks for. Whatever goes wrong with a recording is the answer, and nothing
    else.
    """
    for line in requests:
        request = json.loads(line)
        path = Path(os.fsdecode(base64.b64decode(request.pop("path"))))
        _limit_time(path)
        try:
            _ACTIONS[request.pop("do")](answers, path, **request)
        except RecordingError as error:
            _tell(
                answers, FAILED, {"what": error.what, "where": error.where, "advice": error.advice}
            )
        except MemoryError:
            what = f"decoding it takes more than {MOST_MEMORY >> 30} GB of memory"
            _tell(answers, FAILED, {"what": what, "where": printable(path), "advice": None})
        except BrokenPipeError:
            raise
        except (
            Exception
        ) as error:  # whatever the decoder thinks of: this recording failed, and nothing else
            what = f"it cannot be decoded ({type(error).__name__}: {reason_of(error)})"
            _tell(answers, FAILED, {"what": what, "where": printable(path), "advice": None})


def _sound(answers: BinaryIO, path: Path, **given: Any) -> None:
    decoder = Decoder(path, **given)
    for block in decoder.sound():
        content = np.ascontiguousarray(block)
        answers.write(HEAD.pack(BLOCK, content.nbytes + 2) + len(block).to_bytes(2, "little"))
        answers.write(content.data)
    _tell(answers, END, {"damage": decoder.damage(), "notes": decoder.notes()})


def _contents(answers: BinaryIO, path: Path) -> None:
    _give(answers, probe(path))


def _examination(answers: BinaryIO, path: Path, **given: Any) -> None:
    from mantisreed.audio.examine import examine  # takes long to import, and is rarely asked for

    _give(answers, examine(path, **given))


_ACTIONS = {"sound": _sound, "contents": _contents, "examination": _examination}


def _give(answers: BinaryIO, found: object) -> None:
    encoded = msgspec.msgpack.encode(
        found, enc_hook=lambda array: np.asarray(array, np.float32).tobytes()
    )
    answers.write(HEAD.pack(END, len(encoded)) + encoded)
    answers.flush()


def _tell(answers: BinaryIO, kind: bytes, content: dict[str, Any]) -> None:
    encoded = json.dumps(content).encode()
    answers.write(HEAD.pack(kind, len(encoded)) + encoded)
    answers.flush()


def _limit_time(path: Path) -> None:
    """Let the recording take so much computing from now on; where the system cannot, it takes what
    it takes.
    """
    try:
        import resource

        used = resource.getrusage(resource.RUSAGE_SELF)
        spent = used.ru_utime + used.ru_stime
        size = path.stat().st_size if path.exists() else 0
        hardest = resource.getrlimit(resource.RLIMIT_CPU)[1]
        resource.setrlimit(resource.RLIMIT_CPU, (round(spent + seconds_for(size) + 1), hardest))
    except (ImportError, OSError, ValueError):  # a system without such limits
        pass


def _limit_process() -> None:
    """Take from this process what decoding does not need: memory beyond measure, files to write,
    core dumps.
    """
    try:
        import resource

        for kind, most in (
            (resource.RLIMIT_AS, MOST_MEMORY),
            (resource.RLIMIT_FSIZE, 0),
            (resource.RLIMIT_CORE, 0),
        ):
            hardest = resource.getrlimit(kind)[1]
            resource.setrlimit(
                kind, (most if hardest == resource.RLIM_INFINITY else min(most, hardest), hardest)
            )
    except (ImportError, OSError, ValueError):  # a system without such limits
        pass


def main() -> None:
    """Decode what standard input asks for."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the program that started this one decides
    _limit_process()
    try:
        serve(sys.stdin.buffer, sys.stdout.buffer)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


if __name__ == "__main__":
    main()
