"""Rows in tables: CSV files and databases. Each result has one row, however often it is delivered."""

import csv
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

from mantisreed.cards.secrets import Secret
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.destinations.rules import Rows
from mantisreed.errors import InputError, reason_of
from mantisreed.exports.tables import harmless_cell
from mantisreed.files import HIDDEN_FOLDER, FileState, make_folder, printable

_DELIVERY = "delivery"
"""The column by which a row is known."""

_SHOWN_KEY = 16  # characters of a key that stand in a row


def row_of(rows: Rows, parcel: Parcel) -> dict[str, Any]:
    """The row: texts and numbers; lists of them with semicolons between, and JSON for anything else."""
    row: dict[str, Any] = {_DELIVERY: parcel.key[:_SHOWN_KEY]}
    return row | {name: _cell(path.find(parcel.facts)) for name, path in rows.columns.items()}


def _cell(found: Any) -> Any:
    if isinstance(found, list) and all(isinstance(one, (str, int, float)) for one in found):
        return "; ".join(map(str, found))
    return json.dumps(found, ensure_ascii=False) if isinstance(found, (dict, list)) else found


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


@dataclass(frozen=True, slots=True)
class _Known:
    """What is in a CSV file, as it was when we last looked; it need not be read again for each row."""

    state: FileState
    columns: list[str]
    deliveries: set[str]
    ends_whole: bool


_known: dict[Path, _Known] = {}


def _add_to_file(file: Path, row: Mapping[str, Any], hidden: Path) -> None:
    for needed in (file.parent, hidden):
        make_folder(needed)
    if file.exists() and not file.is_file():
        raise InputError("is not a file, and cannot be a table", where=printable(file))
    name = hashlib.sha256(os.fsencode(file.resolve())).hexdigest()[:16]
    try:
        # Threads of this process share the lock object's file, and wait for each other as processes do.
        with FileLock(hidden / f"rows-{name}.lock", thread_local=False):
            known = _looked_at(file)
            if row[_DELIVERY] in known.deliveries:
                return
            sink = io.StringIO(newline="")
            if not known.columns:
                csv.writer(sink).writerow(row)
            else:
                _check_columns(known.columns, row, printable(file))
            if not known.ends_whole:
                sink.write("\r\n")  # after the last row of somebody who was stopped in the middle of it
            columns = known.columns or list(row)
            cells = {column: harmless_cell("" if value is None else str(value)) for column, value in row.items()}
            csv.DictWriter(sink, columns).writerow(cells)
            with file.open("ab") as table:
                table.write(sink.getvalue().encode("utf-8", "replace"))
            _known[file] = _Known(FileState.of(file), columns, _with(known.deliveries, row[_DELIVERY]), True)
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise DeliveryError(f"cannot be written ({reason_of(error)})", where=printable(file)) from error


def _with(deliveries: set[str], one: str) -> set[str]:
    deliveries.add(one)  # not a new set for each row of ten thousand
    return deliveries


def _looked_at(file: Path) -> _Known:
    """What is in the file now."""
    if not file.exists():
        return _Known(FileState(0, 0, 0, 0), [], set(), True)
    state, before = FileState.of(file), _known.get(file)
    if before is not None and before.state == state:
        return before
    content = file.read_bytes().decode("utf-8-sig")
    reader = csv.DictReader(io.StringIO(content, newline=""))
    deliveries = {str(row.get(_DELIVERY)) for row in reader}
    return _Known(state, list(reader.fieldnames or ()), deliveries, not content or content.endswith("\n"))


def _check_columns(known: list[str], row: Mapping[str, Any], where: str) -> None:
    missing = [name for name in row if name not in known]
    if missing:
        advice = "add it to the table's first row, or name another file"
        raise InputError(f"the table has no column {missing[0]!r}", where=where, advice=advice)


def _add_to_database(rows: Rows, row: Mapping[str, Any], folder: Path, password: Secret | None) -> None:
    import sqlalchemy as sa

    assert rows.database is not None
    engine = sa.create_engine(database_url(rows.database, folder, password), poolclass=sa.NullPool)
    where = sa.engine.make_url(rows.database).render_as_string(hide_password=True)
    try:
        with closing(engine.connect()) as connection, connection.begin():
            table = _table(rows, row, engine, connection)
            is_there = sa.select(table.c[_DELIVERY]).where(table.c[_DELIVERY] == row[_DELIVERY])
            if connection.execute(is_there).first() is None:
                connection.execute(sa.insert(table).values(**{name: _storable(value) for name, value in row.items()}))
    except sa.exc.IntegrityError as error:
        # Another process has just put it there, which is all that was wanted; anything else is told.
        if _DELIVERY not in str(error.orig):
            raise DeliveryError(
                f"the database refuses the row ({reason_of(error.orig or error)})", where=where
            ) from error
    except sa.exc.SQLAlchemyError as error:
        reason = reason_of(getattr(error, "orig", None) or error)
        passes = isinstance(error, sa.exc.OperationalError)
        raise DeliveryError(f"the database cannot be written ({reason})", where=where, may_pass=passes) from error
    finally:
        engine.dispose()


def database_url(address: str, folder: Path, password: Secret | None) -> Any:
    """The address as SQLAlchemy takes it: files relative to the workspace, PostgreSQL by the driver that we have."""
    import sqlalchemy as sa

    url = sa.engine.make_url(address)
    if url.get_backend_name() == "sqlite":
        return url.set(database=str(folder / (url.database or "")))
    url = url.set(drivername="postgresql+psycopg")
    return url if password is None else url.set(password=password.reveal())


def _table(rows: Rows, row: Mapping[str, Any], engine: Any, connection: Any) -> Any:
    """The table, made if it is not there."""
    import sqlalchemy as sa

    metadata = sa.MetaData()
    if sa.inspect(connection).has_table(rows.table):
        table = sa.Table(rows.table, metadata, autoload_with=connection)
        _check_columns(list(table.c.keys()), row, rows.table)
        return table
    columns = [sa.Column(name, _type_of(value)) for name, value in row.items() if name != _DELIVERY]
    table = sa.Table(rows.table, metadata, sa.Column(_DELIVERY, sa.String(_SHOWN_KEY), primary_key=True), *columns)
    metadata.create_all(connection)
    return table


def _type_of(value: Any) -> Any:
    import sqlalchemy as sa

    return sa.Float() if isinstance(value, (int, float)) and not isinstance(value, bool) else sa.Text()


def _storable(value: Any) -> Any:
    return value if value is None or isinstance(value, (int, float)) else str(value).replace("\0", "")
