"""Results that go into the tables that named the recordings, row by row as they come."""

import time
from collections.abc import Sequence
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import Any

from mantisreed.errors import InputError, MantisreedError
from mantisreed.files import printable
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.sources.database_tables import DATABASE, read_database_table
from mantisreed.sources.recordings import TABLE_SUFFIXES, Source
from mantisreed.sources.tables import RecordingTable, read_table

_PAUSE = 2.0
"""Seconds between two writings of a table: one of ten thousand rows is not written ten thousand
times.
"""

_PLACES = 6
"""Digits behind the point of what a row cost."""


class Filling:
    """Tables that are being filled in.

    Attributes:
        conflicts: where a result had no place, as somebody had typed there meanwhile.
    """

    def __init__(self, sources: Sequence[str], column: str | None) -> None:
        """Read the tables.

        Raises:
            InputError: one of the sources is no table, or cannot be filled in.
        """
        self._tables: list[RecordingTable] = []
        for given in sources:
            if DATABASE.match(given):
                self._add(read_database_table(given, column))
                continue
            if Path(given).suffix.lower() not in TABLE_SUFFIXES:
                advice = "--fill takes .csv, .tsv, .jsonl and .xlsx files, and tables of databases"
                raise InputError(
                    "this is no table to be filled in", where=printable(given), advice=advice
                )
            self._add(read_table(Path(given), column))
        self._written = time.monotonic()
        self._is_changed = False
        self.conflicts: list[str] = []

    def _add(self, table: RecordingTable) -> None:
        table.check_for_filling()
        self._tables.append(table)

    @property
    def missing(self) -> list[Source]:
        """The recordings of rows that have no results yet."""
        return list(chain.from_iterable(table.missing for table in self._tables))

    @property
    def done(self) -> int:
        """How many rows have theirs."""
        rows = chain.from_iterable(table.rows for table in self._tables)
        return sum(row.is_done for row in rows)

    def take(self, outcome: Outcome) -> None:
        """Note what became of a recording, and write it from time to time."""
        self._note(outcome)
        # So that a table that is open in another program shows how far it is.
        if time.monotonic() - self._written > _PAUSE:
            with suppress(MantisreedError):  # it is tried again, and told in the end
                self.write()

    def finish(self, outcomes: Sequence[Outcome]) -> None:
        """Note all that is known in the end, and write it."""
        for outcome in outcomes:
            self._note(outcome)
        try:
            self.write()
        except MantisreedError as error:
            self.conflicts.append(str(error))

    def write(self) -> None:
        """Write what was noted.

        Raises:
            InputError: a file is no table with these recordings any more.
            OutputError: a table cannot be written.
        """
        if self._is_changed:
            for table in self._tables:
                # Somebody may have edited it meanwhile: their cells stay, and are told.
                told = table.write()
                self.conflicts += [f"{printable(table.file)}: {conflict}" for conflict in told]
        self._is_changed = False
        self._written = time.monotonic()

    def _note(self, outcome: Outcome) -> None:
        for table in self._tables:
            table.fill(outcome.recording, _results(outcome))
        self._is_changed = True


def _results(outcome: Outcome) -> dict[str, Any]:
    cost = outcome.cost
    results: dict[str, Any] = {
        "state": outcome.state,
        "cost": None if cost is None else round(cost, _PLACES),
    }
    if transcript := outcome.transcript:
        confidence = transcript.mean_confidence
        results |= {
            "text": " ".join(passage.text for passage in transcript.passages),
            "words": len(transcript.words),
            "confidence": None if confidence is None else round(confidence, 3),
            "files": "; ".join(map(printable, outcome.files)),
        }
    if outcome.error:
        results["error"] = str(outcome.error)
    return results
