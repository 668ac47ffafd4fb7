"""What fuzzers share: so many inputs, a budget of computing and memory, and the first failure kept
in a file.
"""

import argparse
import resource
import sys
import time
from collections.abc import Callable, Iterator
from itertools import islice
from pathlib import Path

MOST_MEMORY = 4 << 30
"""Bytes of address space for all of it."""

_ADDITIONS, _THEIR_TIME = 500_000, 0.025
"""What tells how fast the machine is, and the seconds that it takes an ordinary one."""

Case = tuple[str, bytes, Callable[[], bool]]
"""What an input is of, the input, and what reads it: True when it is read, False when it is refused
in words.
"""


def fuzz(
    description: str, cases: Callable[[int], Iterator[Case]], *, always: float, each_byte: float
) -> int:
    """Try inputs and print what became of them; gives the exit code.

    Args:
        description: of the program, for its help.
        cases: makes inputs of a seed, without end.
        always, each_byte: seconds of computing that any input may take, and for each byte of it;
            on a slow machine, or in a slow minute, so many times more.
    """
    parser = argparse.ArgumentParser(
        description=description, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--inputs", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    started, read, slowest = time.monotonic(), 0, (0.0, "")
    for name, content, check in islice(cases(options.seed), options.inputs):
        budget = always + each_byte * len(content)
        begun = time.process_time()
        try:
            read += check()
            took = time.process_time() - begun
            if took >= budget:
                took = _taken_again(check)
            assert took < budget, f"{took:.2f} s of computing for {len(content)} bytes"
        except Exception as error:
            kept = Path(f"failed.{name.replace(' ', '-')}")
            kept.write_bytes(content)
            print(
                f"{name} failed: {type(error).__name__}: {error}; the input is in {kept}",
                file=sys.stderr,
            )
            return 1
        slowest = max(slowest, (took, f"{name}, {len(content)} bytes"))
    seconds, refused = time.monotonic() - started, options.inputs - read
    print(
        f"{options.inputs} inputs in {seconds:.0f} s: {read} read, {refused} refused, none failed"
    )
    print(f"slowest: {slowest[0]:.2f} s ({slowest[1]})")
    return 0


def _taken_again(check: Callable[[], bool]) -> float:
    """Seconds of computing that an input takes an ordinary machine. Tried again, as anything may
    have come between; and measured by a sum beside it, as machines have slow minutes.
    """
    begun = time.process_time()
    check()
    between = time.process_time()
    total = 0
    for number in range(_ADDITIONS):
        total += number
    summed = time.process_time() - between
    return (between - begun) / max(1.0, summed / _THEIR_TIME)
