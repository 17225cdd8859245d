"""Tables of the logbook: keys, references and what is searched for as columns of their own, everything else as one JSON text."""

from __future__ import annotations

from typing import Final

from sqlalchemy import Column, ForeignKey, Integer, LargeBinary, MetaData, String, Table, Text

METADATA: Final = MetaData()


def _table(name: str, *columns: Column[object]) -> Table:
    return Table(
        name, METADATA, Column("key", String(40), primary_key=True), Column("revision", Integer, nullable=False), *columns,
        Column("data", Text, nullable=False),
    )  # fmt: skip


def _reference(name: str, to: str) -> Column[object]:
    """A reference that keeps what it refers to from being deleted; null where there is none."""
    return Column(name, String(64), ForeignKey(f"{to}.key"), nullable=True, index=True)


TABLES: Final[dict[str, Table]] = {
    t.name: t
    for t in (
        _table("machines", Column("name", String(80), unique=True, nullable=False)),
        _table("plates", Column("name", String(80), unique=True, nullable=False)),
        _table("plate_events", _reference("plate", "plates"), Column("at", String(40), nullable=False)),
        _table("spools", Column("name", String(80), unique=True, nullable=False)),
        _table("instruments", Column("name", String(80), unique=True, nullable=False)),
        _table("projects", Column("name", String(80), nullable=False), Column("bytes", LargeBinary, nullable=True)),
        _table("trials", Column("at", String(40), nullable=False), Column("name", String(80), nullable=False)),
        _table(
            "prints", Column("number", Integer, unique=True, nullable=False), Column("at", String(40), nullable=False, index=True),
            Column("name", String(80), nullable=False), _reference("machine", "machines"), _reference("plate", "plates"),
            _reference("spool", "spools"), _reference("trial", "trials"), _reference("project", "projects"),
        ),
        _table("conclusions", Column("at", String(40), nullable=False), _reference("trial", "trials")),
        _table("notes", Column("at", String(40), nullable=False)),
        _table("pictures", Column("at", String(40), nullable=False), Column("bytes", LargeBinary, nullable=True)),
    )
}  # fmt: skip
OWN: Final = frozenset({"key", "revision", "data", "bytes"})  # columns that are no fields of a record's own
