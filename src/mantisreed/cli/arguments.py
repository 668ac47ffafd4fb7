"""Arguments that several commands take, so that they read the same everywhere."""

import argparse

SHORTEST_PIECE = 5
"""Seconds; shorter pieces cannot be cut sensibly."""

SHORTEST_OVERLAP = 1
"""Seconds; shorter ones hold no whole word."""


TYPE_CHECKING = False
if TYPE_CHECKING:
    from mantisreed.pipeline.pieces import Channels, PieceOptions


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
    """The settings file and the engine."""
    add_config(parser)
    parser.add_argument("--engine", metavar="NAME", help="engine card, or NAME:PROFILE (default: as in the settings)")


def add_pieces(parser: argparse.ArgumentParser) -> None:
    """How recordings are cut and what of them is sent."""
    parser.add_argument(
        "--channels", metavar="mix|apart|N", help="all channels as one, each alone, or only number N (default: mix)"
    )
    parser.add_argument("--piece-length", metavar="DURATION", help="cut into pieces of at most this, such as 10min")
    parser.add_argument(
        "--overlap",
        metavar="DURATION",
        help="let all neighbouring pieces share this much (default: 4s, only where there is no pause)",
    )
    parser.add_argument("--keep-silence", action="store_true", help="send long silence as well")


def piece_options(
    track: int | None, channels: str | None, piece_length: str | None, overlap: str | None, keep_silence: bool
) -> "PieceOptions":
    """What the arguments of `add_sources` and `add_pieces` say.

    Raises:
        InputError: one of them makes no sense.
    """
    from mantisreed.errors import InputError
    from mantisreed.pipeline.pieces import PieceOptions

    length = _seconds(piece_length, "--piece-length", SHORTEST_PIECE)
    shared = _seconds(overlap, "--overlap", SHORTEST_OVERLAP)
    if shared and shared > (length or 60.0) / 4:
        limit = f"a quarter of a piece, {(length or 60.0) / 4:g} s"
        raise InputError(f"neighbouring pieces can share at most {limit}", where="--overlap")
    return PieceOptions(
        track=track,
        channels=_channels(channels or "mix"),
        piece_length=length,
        overlap=shared,
        keep_silence=keep_silence,
    )


def _channels(given: str) -> "Channels":
    from mantisreed.errors import InputError

    if given == "mix":
        return "mix"
    if given == "apart":
        return "apart"
    if given.isdecimal() and int(given) > 0:
        return int(given)
    raise InputError(f"{given!r} is neither mix nor apart nor the number of a channel", where="--channels")


def _seconds(given: str | None, option: str, least: float) -> float | None:
    from mantisreed.errors import InputError
    from mantisreed.units import parse_duration

    if given is None:
        return None
    try:
        seconds = parse_duration(given)
    except ValueError as error:
        raise InputError(str(error), where=option) from error
    if seconds < least:
        what = option.removeprefix("--").split("-")[0]
        raise InputError(
            f"{'an' if what[0] in 'aeiou' else 'a'} {what} has to last {least:g} s or more", where=option
        )
    return seconds
