"""How many files and connections this process may have open, and how many requests at once that
leaves room for.
"""

import msgspec

from mantisreed.engines.card import EngineCard
from mantisreed.errors import InputError

_LEAST = 32  # open files; with fewer, not even one recording can be worked on
_OWN = 24  # the ledger, pipes to the processes that decode, standard streams and libraries
_FOR_EACH_REQUEST = 3  # its connection, its recording, an output
_WANTED = 65_536  # open files, where the system allows as many


def open_files() -> int | None:
    """How many files may be open at once, raised as far as the system lets us; None where that is
    not known.
    """
    try:
        import resource
    except ImportError:  # a system without such a limit
        return None
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = _WANTED if hard == resource.RLIM_INFINITY else min(hard, _WANTED)
    if soft == resource.RLIM_INFINITY or soft >= most:
        if soft != resource.RLIM_INFINITY:
            return soft
        return _WANTED
    try:
        # The soft limit is a habit of shells; up to the hard one everybody may go.
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
    except (OSError, ValueError):
        return soft
    return most


def room_for_requests() -> int:
    """How many requests may be under way at once.

    Raises:
        InputError: there is no room for any.
    """
    most = open_files()
    if most is None:
        return _WANTED
    if most < _LEAST:
        advice = f"`ulimit -n {_WANTED // 64}` lets it have more"
        raise InputError(f"this process may have only {most} files open at once", advice=advice)
    return max(1, (most - _OWN) // _FOR_EACH_REQUEST)


def fitted(card: EngineCard) -> tuple[EngineCard, str | None]:
    """The card with as many requests at once as there is room for, and what to tell where these are
    fewer.

    Raises:
        InputError: there is no room for any.
    """
    room = room_for_requests()
    if card.max_concurrent <= room:
        return card, None
    told = (
        f"so few files may be open at once that {room} requests go out together, not "
        f"{card.max_concurrent}"
    )
    return msgspec.structs.replace(card, max_concurrent=room), f"{told}; see `ulimit -n`"
