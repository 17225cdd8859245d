"""The workshop's logbook: one SQLite file that several windows and the command line have open at once.

Every change is one transaction, on disk when it returns. A write-ahead log on a local disk, a rollback journal on a network folder,
where a write-ahead log is not safe. At the first opening of a day the file is checked and a copy is kept. Where its place takes no
journal any more (full, for reading only) it is read from a copy, and every entry is refused with the reason.
"""

from __future__ import annotations

import hashlib
import json
import logging
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final, TypeVar

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from pydantic import ValidationError
from sqlalchemy import Connection, Engine, create_engine, delete, event, func, insert, or_, select, update
from sqlalchemy.exc import DatabaseError, IntegrityError, OperationalError
from sqlalchemy.pool import NullPool

from mandorla.core.errors import InputError, LogbookError, Problem
from mandorla.core.logbook.copies import FOLDER, copies_of
from mandorla.core.logbook.reading_copy import ReadingCopy, why_no_journal
from mandorla.core.logbook.records import BY_TABLE, KINDS, MOST_BYTES, KeptProject, Print, Record
from mandorla.core.logbook.tables import OWN, TABLES

R = TypeVar("R", bound=Record)
BACKUPS: Final = 10  # copies that are kept
_WAIT: Final = 5.0  # s for which another writer is waited for
_NETWORK: Final = frozenset(
    {"nfs", "nfs4", "cifs", "smb3", "smbfs", "fuse.sshfs", "9p", "afs", "ceph", "davfs", "fuse.davfs"}
)
_LOG = logging.getLogger(__name__)


def on_network(folder: Path, mounts: Path = Path("/proc/mounts")) -> bool:
    """Whether a folder lies on a network file system, by the longest mount point that holds it."""
    try:
        rows = [line.split() for line in mounts.read_text().splitlines()]
    except OSError:
        return False
    here, best, kind = str(folder.resolve()), "", ""
    for row in rows:
        if len(row) < 3:
            continue
        at = row[1].replace("\\040", " ")
        inside = here == at or here.startswith(at.rstrip("/") + "/")
        if inside and len(at) >= len(best):
            best, kind = at, row[2]
    return kind in _NETWORK


def _scripts() -> Config:
    found = Config()
    found.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    return found


def _revisions() -> frozenset[str]:
    """Revisions of the tables that this version knows."""
    return frozenset(s.revision for s in ScriptDirectory.from_config(_scripts()).walk_revisions())


def _bring_up(connection: Connection) -> None:
    """Bring the tables up to this version."""
    scripts = _scripts()
    scripts.attributes["connection"] = connection
    command.upgrade(scripts, "head")


def _engine_of(url: str, begin: str, pragmas: Sequence[str] = ()) -> Engine:
    """An engine whose connections have these settings and whose transactions begin so."""
    engine = create_engine(url, poolclass=NullPool, connect_args={"timeout": _WAIT})

    def connected(connection: sqlite3.Connection, _: object) -> None:
        connection.isolation_level = None  # transactions are begun by the engine's own event
        cursor = connection.cursor()
        for text in ("PRAGMA foreign_keys=ON", f"PRAGMA busy_timeout={int(1000 * _WAIT)}", *pragmas):
            cursor.execute(text)
        cursor.close()

    event.listen(engine, "connect", connected)
    event.listen(engine, "begin", lambda c: c.exec_driver_sql(begin))
    return engine


class Logbook:
    """An open logbook.

    Parameters
    ----------
    path
        The file; it is made where there is none.
    read_only
        Open a book that must not be touched: nothing is checked, brought up to date or copied.

    Attributes
    ----------
    only_read
        Why nothing can be written at present, in words; empty where it can.

    Raises
    ------
    LogbookError
        A file that is no logbook, damaged, newer than this version, or not to be opened; the newest copy is named.
    """

    def __init__(self, path: Path, *, read_only: bool = False) -> None:
        self.path, self.read_only, self.only_read = path, read_only, ""
        self._copy: ReadingCopy | None = None
        self._reader: Engine | None = None
        self._network = on_network(path.parent)
        if read_only:
            url = f"sqlite:///file:{path.as_posix()}?mode=ro&uri=true"
        else:
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise LogbookError(f"“{path.parent}” cannot be made: {error.strerror}.") from None
            url = f"sqlite:///{path.as_posix()}"
        journal = f"PRAGMA journal_mode={'DELETE' if self._network else 'WAL'}"
        own = () if read_only else (journal, "PRAGMA synchronous=FULL")
        self._engine = _engine_of(url, "BEGIN" if read_only else "BEGIN IMMEDIATE", own)
        new = not path.exists()
        if read_only and new:
            raise LogbookError(f"There is no logbook at “{path}”.")
        if not read_only:
            self._open(new)

    def _entered(self, stack: ExitStack) -> Connection:
        """A transaction, of the book or, where its place takes no journal, of a copy that nothing is written into."""
        try:
            with ExitStack() as own:
                connection = own.enter_context(self._engine.connect())
                own.enter_context(connection.begin())
                stack.push(own.pop_all())
                self.only_read = ""
                return connection
        except OperationalError as error:
            why = why_no_journal(self.path, str(error.orig))
            if not why or not self.path.exists():
                raise
            self.only_read = why
        connection = stack.enter_context(self._reading().connect())
        stack.enter_context(connection.begin())
        return connection

    def _reading(self) -> Engine:
        try:
            if self._copy is None:
                self._copy = ReadingCopy(self.path)
            if not self._copy.fresh() and self._reader is not None:
                return self._reader
        except OSError as error:
            raise LogbookError(
                f"“{self.path}” cannot be read: {self.only_read}, and a copy to read from cannot be made ({error.strerror})."
            ) from None
        url = f"sqlite:///{self._copy.path.as_posix()}"
        with _engine_of(url, "BEGIN IMMEDIATE").connect() as connection, connection.begin():
            if MigrationContext.configure(connection).get_current_revision() in _revisions():
                _bring_up(connection)
        self._reader = _engine_of(url, "BEGIN", ("PRAGMA query_only=ON",))
        return self._reader

    @contextmanager
    def _begin(self) -> Iterator[Connection]:
        """A transaction; what goes wrong is said in words."""
        try:
            with ExitStack() as stack:
                yield self._entered(stack)
        except IntegrityError as error:
            raise InputError(_refused(str(error.orig))) from None
        except OperationalError as error:
            text = str(error.orig)
            if "locked" in text or "busy" in text:
                raise LogbookError(
                    f"“{self.path}” is being written by somebody else and stayed locked for {_WAIT:.0f} s: try again."
                ) from None
            why = (
                self.only_read
                or why_no_journal(self.path, text)
                or ("it can only be read" if "readonly" in text else "")
            )
            if why:
                raise LogbookError(f"Nothing was written into “{self.path}”: {why}.") from None
            raise LogbookError(f"“{self.path}”: {text}.{self._newest()}") from None
        except DatabaseError as error:
            raise LogbookError(f"“{self.path}” is damaged ({error.orig}).{self._newest()}") from None

    def _open(self, new: bool) -> None:
        """Check, keep a copy, bring up to date."""
        if not new:
            with self._begin() as connection:
                said = [row[0] for row in connection.exec_driver_sql("PRAGMA quick_check(5)")]
                if said != ["ok"]:
                    raise LogbookError(f"“{self.path}” is damaged ({said[0]}).{self._newest()}")
                there = MigrationContext.configure(connection).get_current_revision()
            if there is not None and there not in _revisions():
                raise LogbookError(
                    f"“{self.path}” was written by a newer version (its tables are of revision {there})."
                )
            self._keep_copy()
        with self._begin() as connection:
            _bring_up(connection)

    # ---- copies
    def _newest(self) -> str:
        copies = copies_of(self.path)
        return f" The newest copy is “{copies[0]}”." if copies else " There is no copy of it."

    def _keep_copy(self) -> None:
        """Keep a copy once a day; one that cannot be kept is no reason not to work."""
        folder = self.path.parent / FOLDER
        made = folder / f"{self.path.stem}-{datetime.now(UTC):%Y%m%d}.db"
        if made.exists():
            return
        part = made.with_suffix(".part")
        try:
            folder.mkdir(exist_ok=True)
            with closing(sqlite3.connect(self.path)) as source, closing(sqlite3.connect(part)) as target:
                source.backup(target)
            part.replace(made)
            for old in copies_of(self.path)[BACKUPS:]:
                old.unlink()
        except (OSError, sqlite3.Error) as error:
            _LOG.warning("no copy of the logbook: %s", error)
            with suppress(OSError):
                part.unlink(missing_ok=True)

    # ---- reading
    def all(self, kind: type[R]) -> list[R]:
        """All records of a kind, in the order of their moments or names."""
        table = TABLES[kind.table]
        order = table.c.at if "at" in table.c else table.c.name
        then = table.c.number if "number" in table.c else table.c.key  # several begin within a second
        with self._begin() as connection:
            rows = connection.execute(select(*(c for c in table.c if c.name != "bytes")).order_by(order, then)).all()
        return [self._record(kind, row._mapping) for row in rows]

    def get(self, kind: type[R], key: str) -> R:
        """One record. Raises :class:`InputError` where there is none."""
        table = TABLES[kind.table]
        with self._begin() as connection:
            row = connection.execute(
                select(*(c for c in table.c if c.name != "bytes")).where(table.c.key == key)
            ).first()
        if row is None:
            raise InputError(f"There is no such entry among the {kind.table.replace('_', ' ')} any more.")
        return self._record(kind, row._mapping)

    def _record(self, kind: type[R], row: Any) -> R:
        own = {name: row[name] or "" for name in row if name not in OWN and name != "number"}
        numbers = {"number": row["number"]} if "number" in row else {}
        try:
            values = json.loads(row["data"])
            return kind.model_validate({**values, **own, **numbers, "key": row["key"], "revision": row["revision"]})
        except (ValidationError, json.JSONDecodeError) as error:
            raise LogbookError(
                f"“{self.path}”: entry {row['key']} of {kind.table} cannot be read ({str(error).splitlines()[0]})."
            ) from None

    def bytes_of(self, record: Record) -> bytes:
        """The bytes beside a kept project or a picture."""
        table = TABLES[record.table]
        with self._begin() as connection:
            found = connection.execute(select(table.c.bytes).where(table.c.key == record.key)).scalar()
        return bytes(found) if found is not None else b""

    @property
    def digest(self) -> str:
        """Changes with every entry of the book: how many there are of each kind and the sum of their revisions."""
        made = hashlib.blake2b(digest_size=16)
        with self._begin() as connection:
            for name, table in TABLES.items():
                row = connection.execute(
                    select(func.count(), func.total(table.c.revision), func.max(table.c.key)).select_from(table)
                ).one()
                made.update(f"{name} {row[0]} {row[1]} {row[2]};".encode())
        return made.hexdigest()

    def search(self, text: str) -> list[Record]:
        """Everything in which a text stands, newest first within each kind."""
        found: list[Record] = []
        like = f"%{text.replace('%', '').replace('_', '')}%"
        for kind in KINDS:
            table = TABLES[kind.table]
            shown = [c for c in table.c if c.name != "bytes"]
            texts = [c.ilike(like) for c in shown if c.name in ("name", "data", "at")]
            with self._begin() as connection:
                rows = connection.execute(select(*shown).where(or_(*texts)).order_by(table.c.key)).all()
            found += [self._record(kind, row._mapping) for row in rows]
        return found

    # ---- writing
    def put(self, record: R, data: bytes | None = None) -> R:
        """Write a record, a new one or a new state of one; it comes back with its revision.

        Raises
        ------
        InputError
            Where somebody else has changed it meanwhile, a name is taken, or it refers to something that is not there.
        """
        with self._begin() as connection:
            return self._write(connection, record, data)

    def put_all(self, records: Sequence[Record]) -> None:
        """Write many in one transaction: all or none."""
        self.put_with_bytes([(record, None) for record in records])

    def put_with_bytes(self, records: Sequence[tuple[Record, bytes | None]]) -> None:
        """Write many with the bytes beside them in one transaction: all or none."""
        with self._begin() as connection:
            for record, data in records:
                self._write(connection, record, data)

    def _write(self, connection: Connection, record: R, data: bytes | None) -> R:
        table = TABLES[record.table]
        if isinstance(record, Print) and record.number == 0:
            last = connection.execute(select(func.max(table.c.number))).scalar() or 0
            record = record.model_copy(update={"number": int(last) + 1})
        values = record.model_dump(mode="json")
        columns: dict[str, object] = {
            c.name: values.pop(c.name) or (0 if c.name == "number" else None) for c in table.c if c.name not in OWN
        }
        for name in ("name", "at"):
            if name in columns:
                columns[name] = columns[name] or ""
        for name in ("key", "revision"):
            values.pop(name)
        if data is not None:
            if len(data) > MOST_BYTES:
                raise InputError(f"{len(data) / 1e6:.0f} MB are more than a logbook takes of one thing.")
            columns["bytes"] = data
        text = json.dumps(values, ensure_ascii=False)
        there = connection.execute(select(table.c.revision).where(table.c.key == record.key)).scalar()
        if there is None:
            connection.execute(insert(table).values(key=record.key, revision=1, data=text, **columns))
            return record.model_copy(update={"revision": 1})
        if there != record.revision:
            raise InputError(
                "Somebody else has changed this entry meanwhile. It is shown as it is now; make your change again."
            )
        connection.execute(
            update(table).where(table.c.key == record.key).values(revision=there + 1, data=text, **columns)
        )
        return record.model_copy(update={"revision": there + 1})

    def keep_project(self, name: str, data: bytes) -> str:
        """Keep a project's file; its hash, under which it stands. The same file is kept once."""
        key = hashlib.sha256(data).hexdigest()[:32]
        table = TABLES["projects"]
        with self._begin() as connection:
            if connection.execute(select(table.c.key).where(table.c.key == key)).first() is None:
                self._write(connection, KeptProject(key=key, name=name[:80]), data)
        return key

    def remove(self, record: Record) -> None:
        """Delete a record. Raises :class:`InputError` where others refer to it: retire it instead."""
        table = TABLES[record.table]
        with self._begin() as connection:
            connection.execute(delete(table).where(table.c.key == record.key))


def _refused(text: str) -> str:
    if "UNIQUE" in text and "number" in text:
        return "Another print has this number."
    if "UNIQUE" in text:
        return "Another one has this name already."
    if "FOREIGN KEY" in text:
        return "Prints refer to this, or it refers to something that is not there: retire it instead of deleting it."
    return f"The logbook refuses it: {text}."


def rescue(path: Path) -> dict[str, list[dict[str, Any]]]:
    """What can still be read of a damaged book, by table; it is opened for reading only. Raises :class:`LogbookError`."""
    found: dict[str, list[dict[str, Any]]] = {}
    try:
        connection = sqlite3.connect(f"file:{path.as_posix()}?mode=ro&immutable=1", uri=True)
    except sqlite3.Error as error:
        raise LogbookError(f"“{path}” cannot be opened even for reading: {error}.") from None
    try:
        for name in BY_TABLE:
            rows: list[dict[str, Any]] = []
            try:
                cursor = connection.execute(f"SELECT * FROM {name}")
                names = [d[0] for d in cursor.description]
                for row in cursor:
                    by = dict(zip(names, row, strict=True))
                    rows.append({**json.loads(by.pop("data")), **{k: v for k, v in by.items() if k != "bytes"}})
            except (sqlite3.Error, json.JSONDecodeError) as error:
                _LOG.warning("rescue of %s: %s", name, error)
            found[name] = rows
    finally:
        connection.close()
    if not any(found.values()):
        raise LogbookError(
            f"Nothing can be read of “{path}”.",
            problems=(Problem(str(path), "the file", "a logbook or a copy of one"),),
        )
    return found
