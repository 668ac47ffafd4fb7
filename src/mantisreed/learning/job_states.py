"""What the states of a job mean, by their names."""

import re
from collections.abc import Iterator, Sequence
from itertools import chain
from typing import Any

from mantisreed.learning.found_lists import joined_path
from mantisreed.learning.proposal import toml_value

STATE = re.compile(r"stat(e|us)$|phase", re.I)
"""Names of fields that hold a state."""

_WAITING = re.compile(
    r"queue|wait|pend|process|run|progress|creat|accept|start|new|schedul|submit|open|work", re.I
)
_FAILED = re.compile(r"fail|err|abort|cancel|reject|expire|dead", re.I)
_DONE = re.compile(r"done|complet|finish|succe|ready|ok$|(?<![a-z])end", re.I)

_QUOTED = re.compile(r"[`\"'“]([A-Za-z][A-Za-z_-]{1,24})[`\"'”]")


def sorted_states(states: Sequence[str]) -> tuple[list[str], list[str], list[str]]:
    """The states that mean waiting, done and failed."""
    # First, as `completed_with_errors` has failed, whatever else its name says.
    failed = list(filter(_FAILED.search, states))
    done = [value for value in states if _DONE.search(value) and value not in failed]
    waiting = [value for value in states if value not in (*failed, *done)]
    return waiting, done, failed


def unclear_states(states: Sequence[str]) -> list[str]:
    """Of states that are taken for waiting those whose names do not say so."""
    return [value for value in states if not _WAITING.search(value)]


def state_lines(sample: Any, others: Sequence[Any], prose: str) -> Iterator[str]:
    """The lines of a step that asks, as far as a sample of its answer and the words around it tell.

    Args:
        sample: a document; None where none is known.
        others: samples of other answers, which may tell another state of the same job.
        prose: what stands around it.
    """
    found = next(_states_in(sample, ""), None)
    if found is None:
        yield 'interval = "5 s"'
        yield "# not sure: which answer says that it is done; so, 202 means waiting and 200 done"
        return
    path, state = found
    last = path.rpartition(".")[2]
    # Pages name the states that a sample does not show: `queued`, `running` or `done`.
    named = [word for word in _QUOTED.findall(prose) if word != last and _means_something(word)]
    elsewhere = chain.from_iterable(_states_in(other, "") for other in others)
    seen = [value for name, value in elsewhere if name == path]
    states = list(dict.fromkeys([state, *filter(_is_text, seen), *named]))
    # Words around it say nothing of numbers.
    if not isinstance(state, str):
        states = [state]
    waiting, done, failed = _sorted_any(states)
    yield f"state = {toml_value(path)}"
    found_states = {"waiting": waiting, "done": done, "failed": failed}
    for key, values in found_states.items():
        if values:
            yield f"{key} = {toml_value(values)}"
    lacking = [f"{key} = [...]" for key, values in found_states.items() if not values]
    if lacking:
        yield f"# not sure: {', '.join(lacking)}; the sample has {state!r}"


def _is_text(value: Any) -> bool:
    return isinstance(value, str)


def _means_something(word: str) -> bool:
    return any(pattern.search(word) for pattern in (_WAITING, _FAILED, _DONE))


def _sorted_any(states: Sequence[Any]) -> tuple[list[Any], list[Any], list[Any]]:
    """The same of states that may be numbers or truth, which say nothing by themselves."""
    if all(isinstance(value, str) for value in states):
        return sorted_states(states)
    return list(states), [], []


def _states_in(value: Any, path: str) -> Iterator[tuple[str, Any]]:
    if not isinstance(value, dict):
        return
    for name, item in value.items():
        here = joined_path(path, str(name))
        if STATE.search(str(name)) and isinstance(item, (str, int, bool)):
            yield here, item
        yield from _states_in(item, here)
