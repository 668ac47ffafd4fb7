"""Tables of recordings in databases: `sqlite:///calls.db#calls`, `postgresql://host/marsh#calls`.
Results are put into columns of the same rows, which are known by the table's primary key.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mantisreed.errors import InputError, OutputError, reason_of
from mantisreed.extras import from_extra, missing
from mantisreed.files import printable
from mantisreed.secrets import Secret, without_secrets
from mantisreed.sources.tables import RESULTS, RecordingTable, rows_named_by
from mantisreed.sources.workbooks import fitting

DATABASE = re.compile(r"(?:sqlite|postgresql)://", re.IGNORECASE)
"""How the address of a database begins."""

_KEY = ""
"""Under this name a row's values hold its primary key."""

_TYPES = {"words": "INTEGER", "confidence": "FLOAT", "cost": "FLOAT"}
"""Of columns that are added for results; the others are texts."""


@dataclass(slots=True)
class DatabaseTable(RecordingTable):
    """A table of recordings in a database.

    Attributes:
        address: of the table.
    """

    address: "TableAddress" = field(kw_only=True)

    def write(self) -> list[str]:
        """As the table in a file does it.

        Raises:
            InputError: the table is another one by now.
            OutputError: the database cannot be written; nothing was changed.
        """
        with _connected(self.address, is_writing=True) as connection:
            _add_columns(connection, self.address)
            table = _reflected(connection, self.address)
            now = _table_in(connection, self.address, self._named_by)
            before = [dict(row.values) for row in now.rows]
            conflicts = self._put_into(now)
            for row, old in zip(now.rows, before, strict=True):
                new = {name: row.values.get(name) for name in RESULTS}
                if any(new[name] != old.get(name) for name in RESULTS):
                    _update(connection, table, row.values[_KEY], new)
        self.columns = now.columns
        return conflicts


@dataclass(frozen=True, slots=True)
class TableAddress:
    """A table in a database.

    Attributes:
        database: its address.
        table: its name.
    """

    database: str
    table: str

    @classmethod
    def parsed(cls, given: str) -> "TableAddress":
        """Read `DATABASE#TABLE`.

        Raises:
            InputError: it names no table.
        """
        database, _, table = given.partition("#")
        if not table:
            raise InputError(
                "name a table of the database",
                where=printable(without_passwords(given)),
                advice="sqlite:///calls.db#calls",
            )
        return cls(database, table)

    @property
    def shown(self) -> str:
        """For people: without a password."""
        return printable(f"{without_passwords(self.database)}#{self.table}")

    @property
    def folder(self) -> Path:
        """That relative paths of recordings start in: where the file is, else here."""
        if self.database.lower().startswith("sqlite:///"):
            return Path(self.database[len("sqlite:///") :]).parent
        return Path()


def read_database_table(given: str, column: str | None = None) -> DatabaseTable:
    """The table at an address; its arguments as those of `read_table`.

    Raises:
        InputError: it cannot be read, or has no such column, or no rows.
    """
    address = TableAddress.parsed(given)
    with _connected(address, is_writing=False) as connection:
        return _table_in(connection, address, column)


def without_passwords(address: str) -> str:
    """An address of a database with its password hidden."""
    matched = re.match(r"[^:]+://[^/@:]*:([^/@]+)@", address)
    if matched is None:
        return address
    return without_secrets(address, [Secret(matched[1])])


def database_url(address: str, folder: Path, password: Secret | None) -> Any:
    """The address as SQLAlchemy takes it: files relative to a folder, PostgreSQL by the driver that
    we have.
    """
    import sqlalchemy as sa

    url = sa.engine.make_url(address)
    if url.get_backend_name() == "sqlite":
        return url.set(database=str(folder / (url.database or "")))
    url = url.set(drivername="postgresql+psycopg")
    if password is None:
        return url
    return url.set(password=password.reveal())


@contextmanager
def _connected(address: TableAddress, *, is_writing: bool) -> Iterator[Any]:
    """A connection with one transaction.

    Raises:
        InputError: the database cannot be read.
        OutputError: it cannot be written.
    """
    with from_extra("sql", "what reads and writes tables of databases", address.shown):
        import sqlalchemy as sa

    try:
        url = database_url(address.database, Path(), None)
        if url.get_backend_name() == "sqlite" and not Path(url.database).is_file():
            raise InputError("there is no such database", where=address.shown)
        engine = sa.create_engine(url, poolclass=sa.NullPool)
        with engine.begin() as connection:
            yield connection
    except ImportError as error:
        raise missing("postgresql", "the driver of this database", address.shown) from error
    except sa.exc.SQLAlchemyError as error:
        reason = reason_of(getattr(error, "orig", None) or error)
        if is_writing:
            what = f"the table cannot be written ({reason})"
            raise OutputError(what, where=address.shown) from error
        raise InputError(f"the table cannot be read ({reason})", where=address.shown) from error


def _reflected(connection: Any, address: TableAddress) -> Any:
    """The table as the database describes it.

    Raises:
        InputError: there is none, or its rows have no key.
    """
    import sqlalchemy as sa

    try:
        table = sa.Table(address.table, sa.MetaData(), autoload_with=connection)
    except sa.exc.NoSuchTableError:
        names = ", ".join(sa.inspect(connection).get_table_names()) or "none"
        advice = f"it has: {printable(names)}"
        what = f"there is no table {address.table!r}"
        raise InputError(what, where=address.shown, advice=advice) from None
    if not table.primary_key.columns:
        what = "the table has no primary key, by which its rows are known"
        raise InputError(what, where=address.shown)
    return table


def _table_in(connection: Any, address: TableAddress, column: str | None) -> DatabaseTable:
    import sqlalchemy as sa

    table = _reflected(connection, address)
    keys = list(table.primary_key.columns)
    found = connection.execute(sa.select(table).order_by(*keys)).mappings()
    rows = [{**_readable(row), _KEY: tuple(row[key.name] for key in keys)} for row in found.all()]
    columns = list(table.c.keys())
    chosen, named = rows_named_by(address.shown, columns, rows, column, address.folder)
    made = DatabaseTable(
        Path(address.table), columns, named, lambda table: b"", b"", chosen, address=address
    )
    made._fitting = fitting
    return made


def _readable(row: Mapping[str, Any]) -> dict[str, Any]:
    """The values of a row as tables of text have them."""
    return {
        name: value if isinstance(value, (str, int, float, type(None))) else str(value)
        for name, value in row.items()
    }


def _add_columns(connection: Any, address: TableAddress) -> None:
    """Add the columns for results that are not there."""
    import sqlalchemy as sa

    table = _reflected(connection, address)
    preparer = connection.dialect.identifier_preparer
    for name in RESULTS:
        if name not in table.c:
            kind = _TYPES.get(name, "TEXT")
            quoted = f"{preparer.format_table(table)} ADD COLUMN {preparer.quote(name)} {kind}"
            connection.execute(sa.text(f"ALTER TABLE {quoted}"))


def _update(connection: Any, table: Any, key: Sequence[Any], values: Mapping[str, Any]) -> None:
    import sqlalchemy as sa

    places = zip(table.primary_key.columns, key, strict=True)
    is_it = sa.and_(*(column == value for column, value in places))
    connection.execute(sa.update(table).where(is_it).values(dict(values)))
