"""Libraries that not everybody needs: each comes with an extra, which is named where it is
missing.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec

from mantisreed.errors import InputError


class MissingExtraError(InputError):
    """A library is not installed."""


@contextmanager
def from_extra(name: str, what: str, where: str | None = None) -> Iterator[None]:
    """Import something inside, which is there only with an extra.

    Args:
        name: of the extra.
        what: it does, such as `what draws pictures`.
        where: it was asked for.

    Raises:
        MissingExtraError: it is not there; with the command that installs it.
    """
    try:
        yield
    except ImportError as error:
        raise missing(name, what, where) from error


def missing(name: str, what: str, where: str | None = None) -> MissingExtraError:
    """What is told where an extra is not installed; arguments as of `from_extra`."""
    advice = f"pip install 'mantisreed[{name}]'"
    return MissingExtraError(f"{what} is not installed", where=where, advice=advice)


def is_installed(module: str) -> bool:
    """Whether a module can be imported, without doing so."""
    return find_spec(module) is not None
