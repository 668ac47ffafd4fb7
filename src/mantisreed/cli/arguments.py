"""Arguments that several commands take, so that they read the same everywhere."""

import argparse

SHORTEST_PIECE = 5
"""Seconds; shorter pieces cannot be cut sensibly."""


def add_sources(parser: argparse.ArgumentParser) -> None:
    """The recordings, and which track of them."""
    parser.add_argument("sources", nargs="+", metavar="SOURCE", help="a recording, a folder of them, or an http link")
    parser.add_argument(
        "--track", type=int, metavar="N", help="which track of sound, from 1 (default: the default one)"
    )


def add_config(parser: argparse.ArgumentParser) -> None:
    """The settings file."""
    parser.add_argument("--config", metavar="FILE", help="settings file (default: mantisreed.toml here or above)")


def add_engine(parser: argparse.ArgumentParser) -> None:
    """The settings file, the engine, and how long its pieces may be."""
    add_config(parser)
    parser.add_argument("--engine", metavar="NAME", help="engine card, or NAME:PROFILE (default: as in the settings)")
    parser.add_argument("--piece-length", metavar="DURATION", help="cut into pieces of at most this, such as 10min")


def piece_seconds(piece_length: str | None) -> float | None:
    """What `--piece-length` says, in seconds.

    Raises:
        InputError: it is no duration, or too short to cut by.
    """
    from mantisreed.errors import InputError
    from mantisreed.units import parse_duration

    if piece_length is None:
        return None
    try:
        seconds = parse_duration(piece_length)
    except ValueError as error:
        raise InputError(str(error), where="--piece-length") from error
    if seconds < SHORTEST_PIECE:
        raise InputError(f"a piece has to last {SHORTEST_PIECE} s or more", where="--piece-length")
    return seconds
