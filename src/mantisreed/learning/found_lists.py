"""Lists in a sample that may hold words or passages."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import chain
from statistics import fmean
from typing import Any

from mantisreed.cards.paths import quoted_name
from mantisreed.learning.column import Column, Judged
from mantisreed.learning.columns import texts_of, times_of


@dataclass(frozen=True)
class FoundList:
    """A list of items somewhere in a document.

    Attributes:
        path: from the document to it; `@` for the document itself.
        columns: the fields of its items.
        is_side_by_side: whether its columns are lists of their own; then paths start at the
            document.
    """

    path: str
    columns: tuple[Column, ...]
    is_side_by_side: bool = False

    @property
    def count(self) -> int:
        """How many items it has."""
        return max((len(column.values) for column in self.columns), default=0)

    @cached_property
    def texts(self) -> list[Judged]:
        """Which columns can be text."""
        return texts_of(self.columns)

    @property
    def words_each(self) -> float:
        """How many words an item has, on average."""
        if self.said:
            return fmean(len(value.split()) for value in self.said)
        return 0.0

    @cached_property
    def said(self) -> list[str]:
        """What its items say."""
        if not self.texts:
            return []
        name = self.texts[0].keys["text"]
        column = next(column for column in self.columns if column.name == name)
        return [value for value in column.present if isinstance(value, str)]

    def times(self, length: float | None) -> list[Judged]:
        """In which ways its columns can be times."""
        if self.said:
            characters = sum(len(text.strip()) + 1 for text in self.said)
        else:
            characters = 14 * self.count
        taken = {self.texts[0].keys["text"]} if self.texts else set()
        return times_of(
            [column for column in self.columns if column.name not in taken], characters, length
        )


def lists_in(document: Any) -> Iterator[FoundList]:
    """Every list in a document whose items have fields, and lists that stand side by side."""
    for path, items in raw_lists(document, ""):
        yield FoundList(path, columns_of(items))
    yield from _side_by_side(document, "")


def raw_lists(value: Any, path: str) -> Iterator[tuple[str, list[Any]]]:
    """Lists of tables or lists, those inside lists joined over all items: `passages[].words`."""
    if isinstance(value, dict):
        for name, item in value.items():
            yield from raw_lists(item, joined_path(path, name))
        tables = list(value.values())
        # A table of tables alike is a list whose items have names, such as one for each channel.
        if len(tables) > 1 and all(isinstance(item, dict) and item for item in tables):
            shared = set.intersection(*map(set, tables))
            # One shared name is chance.
            if len(shared) >= 2:
                yield _joined_raw(path, "*"), tables
    elif _is_list_of_items(value):
        yield path or "@", value
        yield from _inner_lists(value, path)


def _is_list_of_items(value: Any) -> bool:
    if not isinstance(value, list) or not value:
        return False
    if all(isinstance(item, dict) for item in value):
        return True
    return all(
        isinstance(item, list) and len(item) >= 2 and not isinstance(item[0], (dict, list))
        for item in value
    )


def _inner_lists(items: list[Any], path: str) -> Iterator[tuple[str, list[Any]]]:
    tables = [item for item in items if isinstance(item, dict)]
    for name in dict.fromkeys(chain.from_iterable(tables)):
        values = [table[name] for table in tables if table.get(name)]
        yield from _within(values, f"{path}[].{quoted_name(name)}")


def _within(values: list[Any], path: str) -> Iterator[tuple[str, list[Any]]]:
    if not values:
        return
    if all(map(_is_list_of_items, values)):
        yield path, list(chain.from_iterable(values))
        # Of alternatives the first is the best one, and the others would only be heard twice.
        firsts = [value[0] for value in values if isinstance(value[0], dict)]
        for name in dict.fromkeys(chain.from_iterable(firsts)):
            yield from _within(
                [first[name] for first in firsts if first.get(name)],
                f"{path}[0].{quoted_name(name)}",
            )
    elif all(isinstance(value, dict) for value in values):
        for name in dict.fromkeys(chain.from_iterable(values)):
            yield from _within(
                [value[name] for value in values if value.get(name)], f"{path}.{quoted_name(name)}"
            )


def columns_of(items: Sequence[Any]) -> tuple[Column, ...]:
    """The columns of a list of items."""
    flat = list(map(_flat, items))
    names = dict.fromkeys(chain.from_iterable(flat))
    return tuple(Column(name, [item.get(name) for item in flat]) for name in names)


def _flat(item: Any) -> dict[str, Any]:
    """An item's values by path: those of tables in it, and of the first of a list of tables in
    it.
    """
    if isinstance(item, list):
        return {
            f"[{number}]": value
            for number, value in enumerate(item)
            if not isinstance(value, (dict, list))
        }
    if not isinstance(item, dict):
        return {}
    flat: dict[str, Any] = {}
    for name, value in item.items():
        if isinstance(value, dict):
            flat |= {f"{quoted_name(name)}.{inner}": found for inner, found in _flat(value).items()}
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            first = {
                key: found for key, found in value[0].items() if not isinstance(found, (dict, list))
            }
            flat |= {
                f"{quoted_name(name)}[0].{quoted_name(inner)}": found
                for inner, found in first.items()
            }
        elif not isinstance(value, list):
            flat[quoted_name(name)] = value
    return flat


def _side_by_side(value: Any, path: str) -> Iterator[FoundList]:
    """Lists of the same length in one table: the words here, their times there."""
    if not isinstance(value, dict):
        return
    lists = {name: item for name, item in value.items() if _is_plain_list(item)}
    counts = set(map(len, lists.values()))
    for count in counts:
        names = [name for name, items in lists.items() if len(items) == count]
        # One list alone has no times beside it, and lists of one item are alike by chance.
        if len(names) >= 2 and count >= 2:
            columns = tuple(Column(joined_path(path, name), lists[name]) for name in names)
            yield FoundList(path or "@", columns, is_side_by_side=True)
    for name, item in value.items():
        yield from _side_by_side(item, joined_path(path, name))


def _is_plain_list(value: Any) -> bool:
    return (
        isinstance(value, list)
        and bool(value)
        and not any(isinstance(item, (dict, list)) for item in value)
    )


def joined_path(path: str, name: str) -> str:
    """The path to a name inside of what a path leads to."""
    return _joined_raw(path, quoted_name(name))


def _joined_raw(path: str, name: str) -> str:
    if path:
        return f"{path}.{name}"
    return name
