"""Rows in tables: CSV files and databases. Each result has one row, however often it is
delivered.
"""

import csv
import errno
import hashlib
import io
import json
import os
from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from filelock import FileLock

from mantisreed.destinations.actions import Rows
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.errors import InputError, reason_of
from mantisreed.exports.tables import harmless_cell
from mantisreed.extras import from_extra, is_installed, missing
from mantisreed.files import FileState, printable, write_whole
from mantisreed.folders import HIDDEN_FOLDER
from mantisreed.secrets import Secret
from mantisreed.sources.database_tables import database_url
from mantisreed.state import make_folder

_WRITER = "what writes rows into databases"
_DELIVERY = "delivery"
"""The column by which a row is known."""

_SHOWN_KEY = 16  # characters of a key that stand in a row


def row_of(rows: Rows, parcel: Parcel) -> dict[str, Any]:
    """The row: texts and numbers; lists of them with semicolons between, and JSON for anything
    else.
    """
    row: dict[str, Any] = {_DELIVERY: parcel.key[:_SHOWN_KEY]}
    return row | {name: _cell(path.find(parcel.facts)) for name, path in rows.columns.items()}


def _cell(found: Any) -> Any:
    if isinstance(found, list) and all(isinstance(one, (str, int, float)) for one in found):
        return "; ".join(map(str, found))
    if isinstance(found, (dict, list)):
        return json.dumps(found, ensure_ascii=False)
    return found


def add_row(rows: Rows, parcel: Parcel, folder: Path, password: Secret | None) -> None:
    """Add the row, if it is not there.

    Args:
        rows: the table.
        parcel: what the row is of.
        folder: that relative paths start in.
        password: of the database.

    Raises:
        DeliveryError: the table cannot be written.
        InputError: it has other columns.
    """
    row = row_of(rows, parcel)
    if rows.file is not None:
        _add_to_file(folder / rows.file, row, folder / HIDDEN_FOLDER)
    else:
        _add_to_database(rows, row, folder, password)


def check_library(database: str) -> None:
    """See, before anything is done, that the libraries for a database are there.

    Raises:
        MissingExtraError: one of them is not.
    """
    if not is_installed("sqlalchemy"):
        raise missing("sql", _WRITER)
    if database.startswith("postgres") and not is_installed("psycopg"):
        raise missing("postgresql", "the driver of this database")


def check_file(file: Path, rows: Rows) -> None:
    """See, before anything is done, that rows can be added to a CSV file.

    Raises:
        InputError: it is no file, cannot be read, or has other columns.
    """
    if not file.exists():
        return
    if not file.is_file():
        raise InputError("is not a file, and cannot be a table", where=printable(file))
    try:
        known = _looked_at(file)
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise InputError(
            f"cannot be read as a table ({reason_of(error)})", where=printable(file)
        ) from error
    if known.columns:
        _check_columns(known.columns, {_DELIVERY: "", **rows.columns}, printable(file))


@dataclass(frozen=True, slots=True)
class _KnownRows:
    """What is in a CSV file, as it was when we last looked; it need not be read again for each row.

    Attributes:
        state: what the system said of it.
        columns: of its first row.
        deliveries: of its rows.
        last_row: where the last row is not ended by a line break; a writer may have been stopped in
            it.
    """

    state: FileState
    columns: list[str]
    deliveries: set[str]
    last_row: dict[str, str] | None


_known: dict[Path, _KnownRows] = {}


def _add_to_file(file: Path, row: Mapping[str, Any], hidden: Path) -> None:
    for needed in (file.parent, hidden):
        make_folder(needed)
    if file.exists() and not file.is_file():
        raise InputError("is not a file, and cannot be a table", where=printable(file))
    name = hashlib.sha256(os.fsencode(file.resolve())).hexdigest()[:16]
    try:
        # Threads of this process share the lock object's file, and wait for each other as processes
        # do.
        with FileLock(hidden / f"rows-{name}.lock", thread_local=False):
            cells = {
                column: harmless_cell("" if value is None else str(value))
                for column, value in row.items()
            }
            known = _looked_at(file)
            if known.last_row is not None and _is_torn(known.last_row, cells):
                _remove_last_row(file)
                known = _looked_at(file)
            if row[_DELIVERY] in known.deliveries:
                return
            sink = io.StringIO(newline="")
            if not known.columns:
                csv.writer(sink).writerow(row)
            else:
                _check_columns(known.columns, row, printable(file))
            if known.last_row is not None:
                # It is whole, and somebody's editor left the end of its line away.
                sink.write("\r\n")
            columns = known.columns or list(row)
            csv.DictWriter(sink, columns).writerow(cells)
            _append(file, sink.getvalue().encode("utf-8", "replace"))
            _known[file] = _KnownRows(
                FileState.of(file), columns, _with(known.deliveries, row[_DELIVERY]), None
            )
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise DeliveryError(
            f"cannot be written ({reason_of(error)})", where=printable(file)
        ) from error


def _append(file: Path, content: bytes) -> None:
    """Add to a file, all or nothing: a part that a full disk has taken is taken back."""
    with file.open("ab", buffering=0) as table:
        size = table.seek(0, os.SEEK_END)
        try:
            if table.write(content) != len(content):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            os.fsync(table.fileno())
        except OSError:
            table.truncate(size)
            raise


def _is_torn(last: Mapping[str, str], cells: Mapping[str, str]) -> bool:
    """Whether a last row without an end of line is the beginning of this row."""
    written = [value or "" for name, value in last.items() if name in cells and value is not None]
    wanted = list(cells.values())[: len(written)]
    if not written:
        return False
    return written[:-1] == wanted[:-1] and wanted[-1].startswith(written[-1])


def _remove_last_row(file: Path) -> None:
    """Write the table again without its last row, which is torn."""
    content = file.read_bytes().decode("utf-8-sig")
    rows = list(csv.reader(io.StringIO(content, newline="")))
    sink = io.StringIO(newline="")
    csv.writer(sink).writerows(rows[:-1])
    write_whole(file, sink.getvalue().encode("utf-8", "replace"))


def _with(deliveries: set[str], one: str) -> set[str]:
    deliveries.add(one)  # not a new set for each row of ten thousand
    return deliveries


def _looked_at(file: Path) -> _KnownRows:
    """What is in the file now."""
    if not file.exists():
        return _KnownRows(FileState(0, 0, 0, 0), [], set(), None)
    state, before = FileState.of(file), _known.get(file)
    if before is not None and before.state == state:
        return before
    content = file.read_bytes().decode("utf-8-sig")
    reader = csv.DictReader(io.StringIO(content, newline=""))
    rows = list(reader)
    deliveries = {str(row.get(_DELIVERY)) for row in rows}
    last = rows[-1] if rows and not content.endswith("\n") else None
    return _KnownRows(state, list(reader.fieldnames or ()), deliveries, last)


def _check_columns(known: list[str], row: Mapping[str, Any], where: str) -> None:
    missing = [name for name in row if name not in known]
    if missing:
        advice = "add it to the table's first row, or name another file"
        raise InputError(f"the table has no column {missing[0]!r}", where=where, advice=advice)


def _add_to_database(
    rows: Rows, row: Mapping[str, Any], folder: Path, password: Secret | None
) -> None:
    with from_extra("sql", _WRITER):
        import sqlalchemy as sa

    assert rows.database is not None
    engine = sa.create_engine(database_url(rows.database, folder, password), poolclass=sa.NullPool)
    where = sa.engine.make_url(rows.database).render_as_string(hide_password=True)
    try:
        with closing(engine.connect()) as connection:
            _make_table(rows, row, connection)
        with closing(engine.connect()) as connection, connection.begin():
            table = sa.Table(rows.table, sa.MetaData(), autoload_with=connection)
            _check_columns(list(table.c.keys()), row, rows.table)
            is_there = sa.select(table.c[_DELIVERY]).where(table.c[_DELIVERY] == row[_DELIVERY])
            if connection.execute(is_there).first() is None:
                connection.execute(
                    sa.insert(table).values(
                        **{name: _storable(value) for name, value in row.items()}
                    )
                )
    except sa.exc.IntegrityError as error:
        # Another process has just put it there, which is all that was wanted; anything else is
        # told.
        if _DELIVERY not in str(error.orig):
            raise DeliveryError(
                f"the database refuses the row ({reason_of(error.orig or error)})", where=where
            ) from error
    except sa.exc.SQLAlchemyError as error:
        reason = reason_of(getattr(error, "orig", None) or error)
        # Connections break, servers restart, and others hold locks: all of that passes.
        passes = isinstance(
            error, (sa.exc.OperationalError, sa.exc.InterfaceError, sa.exc.InternalError)
        )
        raise DeliveryError(
            f"the database cannot be written ({reason})", where=where, may_pass=passes
        ) from error
    finally:
        engine.dispose()


def _make_table(rows: Rows, row: Mapping[str, Any], connection: Any) -> None:
    """Make the table, if it is not there.

    Rows of one run come at one moment, and each finds that there is no table: databases tell all
    but one of them that it exists by now, each in words of its own.
    """
    import sqlalchemy as sa

    if sa.inspect(connection).has_table(rows.table):
        return
    columns = [sa.Column(name, _type_of(value)) for name, value in row.items() if name != _DELIVERY]
    known_by = sa.Column(_DELIVERY, sa.String(_SHOWN_KEY), primary_key=True)
    table = sa.Table(rows.table, sa.MetaData(), known_by, *columns)
    connection.rollback()  # what was looked at does not hold any more
    try:
        with connection.begin():
            table.create(connection)
    except sa.exc.DBAPIError:
        if not sa.inspect(connection).has_table(rows.table):
            raise


def _type_of(value: Any) -> Any:
    import sqlalchemy as sa

    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return sa.Float()
    return sa.Text()


def _storable(value: Any) -> Any:
    if value is None or isinstance(value, (int, float)):
        return value
    return str(value).replace("\0", "")
