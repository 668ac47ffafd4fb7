"""The options that every benchmark takes."""

import argparse
import os
import tempfile
from typing import Any


def parsed(parser: argparse.ArgumentParser, smoke: dict[str, Any]) -> argparse.Namespace:
    """The options of a benchmark.

    Args:
        parser: with the options of the benchmark itself.
        smoke: what `--smoke` sets: so little work that it ends in seconds. Then its figures say
            nothing, but it is known to run; continuous integration does so with all of them.
    """
    # What benchmarks write lies in temporary folders, and is their own.
    os.environ["MANTISREED_TRUST"] = tempfile.gettempdir()
    parser.add_argument("--smoke", action="store_true", help="only see that it runs")
    if parser.parse_args().smoke:
        parser.set_defaults(**smoke)
    return parser.parse_args()
