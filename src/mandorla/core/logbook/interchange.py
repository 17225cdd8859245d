"""A logbook out and in without loss: one JSON file with everything, or a folder of CSV files, one a kind of record."""

from __future__ import annotations

import base64
import csv
import io
import json
from pathlib import Path
from typing import Any, Final, NamedTuple

from pydantic import ValidationError

from mandorla.core.errors import InputError, Problem
from mandorla.core.input_file import bytes_of, text_of
from mandorla.core.json_text import json_of
from mandorla.core.logbook.records import BY_TABLE, KINDS, Record
from mandorla.core.logbook.store import Logbook

FORMAT: Final = "mandorla-logbook"
VERSION: Final = 1
LARGEST: Final = 512 * 1024 * 1024
_MOST_PROBLEMS: Final = 12


class Imported(NamedTuple):
    """How many entries were new, how many were there already as they are, how many were there with another content (kept as they
    were here)."""

    new: int
    known: int
    other: int


def as_json(book: Logbook) -> str:
    """Everything in a book, bytes as base 64."""
    tables: dict[str, Any] = {}
    for kind in KINDS:
        rows = []
        for record in book.all(kind):
            row = record.model_dump(mode="json", exclude={"revision"})
            if kind.table in ("projects", "pictures"):
                row["bytes"] = base64.b64encode(book.bytes_of(record)).decode()
            rows.append(row)
        tables[kind.table] = rows
    return json.dumps({"format": FORMAT, "version": VERSION, "tables": tables}, indent=1, ensure_ascii=False) + "\n"


def as_csv(book: Logbook, table: str) -> str:
    """One kind of record as CSV; a field that is no plain value is JSON in its cell. Raises KeyError for a table that is none."""
    kind, out = BY_TABLE[table], io.StringIO()
    fields = [name for name in kind.model_fields if name != "revision"]
    bytes_too = table in ("projects", "pictures")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([*fields, *(["bytes"] if bytes_too else [])])
    for record in book.all(kind):
        row = record.model_dump(mode="json")
        cells = [_cell(row[f]) for f in fields]
        writer.writerow([*cells, *([base64.b64encode(book.bytes_of(record)).decode()] if bytes_too else [])])
    return out.getvalue()


def _cell(value: object) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def export(book: Logbook, path: Path) -> list[Path]:
    """Write a book to a ``.json`` file, or to CSV files in a folder. Raises :class:`InputError` where that cannot be written."""
    try:
        if path.suffix == ".json":
            path.write_text(as_json(book), encoding="utf-8")
            return [path]
        path.mkdir(parents=True, exist_ok=True)
        found = []
        for table in BY_TABLE:
            found.append(path / f"{table}.csv")
            found[-1].write_text(as_csv(book, table), encoding="utf-8")
        return found
    except OSError as error:
        raise InputError(f"“{path}” cannot be written: {error.strerror}.") from None


def rows_of(path: Path) -> dict[str, list[dict[str, Any]]]:
    """Entries of a JSON file or of a folder of CSV files, by table. Raises :class:`InputError` for anything else."""
    try:
        if path.is_dir():
            found = {}
            for table in BY_TABLE:
                file = path / f"{table}.csv"
                if file.exists():
                    _small(file)
                    found[table] = _from_csv(text_of(file), table, file.name)
            if not found:
                raise InputError(f"“{path}” holds no CSV file of a logbook ({', '.join(BY_TABLE)}).")
            return found
        _small(path)
        return rows_from_json(bytes_of(path), f"“{path}”")
    except OSError as error:
        raise InputError(f"“{path}” cannot be read: {error.strerror}.") from None
    except (UnicodeDecodeError, csv.Error) as error:
        raise InputError(f"“{path}” is no CSV of a logbook: {str(error)[:120]}.") from None


def rows_from_json(data: bytes, what: str) -> dict[str, list[dict[str, Any]]]:
    """Entries of an export in JSON, by table. Raises :class:`InputError` for anything else."""
    try:
        found = json_of(data, "it")
    except InputError as error:
        raise InputError(f"{what} is no JSON of a logbook: {error.message}") from None
    if not isinstance(found, dict) or found.get("format") != FORMAT or not isinstance(found.get("tables"), dict):
        raise InputError(f"{what} is no logbook that was exported here.")
    if not isinstance(found.get("version"), int) or found["version"] > VERSION:
        raise InputError(f"{what} was exported by a newer version.")
    tables = found["tables"]
    unknown = sorted(set(tables) - set(BY_TABLE))
    if unknown or not all(isinstance(rows, list) for rows in tables.values()):
        raise InputError(f"{what}: {', '.join(unknown) or 'its tables'} cannot be read.")
    return {str(t): [r for r in rows if isinstance(r, dict)] for t, rows in tables.items()}


def _small(path: Path) -> None:
    if path.stat().st_size > LARGEST:
        raise InputError(f"“{path}” is larger than {LARGEST // 2**20} MB.")


def _from_csv(text: str, table: str, name: str) -> list[dict[str, Any]]:
    before = csv.field_size_limit(LARGEST)  # a picture's bytes stand in one cell
    try:
        return _rows(csv.DictReader(io.StringIO(text)), table, name)
    finally:
        csv.field_size_limit(before)


def _rows(reader: csv.DictReader[str], table: str, name: str) -> list[dict[str, Any]]:
    kind = BY_TABLE[table]
    heads = set(reader.fieldnames or ())
    unknown = sorted(heads - set(kind.model_fields) - {"bytes"})
    if unknown or "key" not in heads:
        what = f"columns that are not known: {', '.join(unknown[:6])}" if unknown else "no column “key”"
        raise InputError(
            f"“{name}” has {what}.",
            problems=(Problem(name, ", ".join(sorted(heads)[:8]), "columns " + ", ".join(kind.model_fields)),),
        )
    text_fields = {f for f, v in kind.model_fields.items() if v.annotation is str or "Literal" in str(v.annotation)}
    found = []
    for row in reader:
        values: dict[str, Any] = {}
        for field, cell in row.items():
            if field is None or cell is None:
                raise InputError(f"“{name}”, line {reader.line_num}: it has another number of cells than the heads.")
            values[field] = cell if field in text_fields or field in ("key", "bytes") else _value(cell)
        found.append(values)
    return found


def _value(cell: str) -> Any:
    try:
        return json_of(cell, "a cell")
    except InputError:
        return cell


def import_rows(book: Logbook, tables: dict[str, list[dict[str, Any]]]) -> Imported:
    """Take entries in, all or none; what is there already (by key) stays as it is here.

    Raises
    ------
    InputError
        With all entries that are refused.
    """
    new: list[tuple[Record, bytes | None]] = []
    known = other = 0
    problems: list[Problem] = []
    for kind in KINDS:
        here = {r.key: r for r in book.all(kind)}
        for n, row in enumerate(tables.get(kind.table, ()), start=1):
            values = {k: v for k, v in row.items() if k not in ("bytes", "revision")}
            try:
                record = kind.model_validate(values)
                data = base64.b64decode(str(row["bytes"]), validate=True) if row.get("bytes") else None
            except ValidationError as error:
                first = error.errors()[0]
                where = ".".join(str(v) for v in first["loc"])
                problems.append(
                    Problem(f"{kind.table}, entry {n}, {where}", str(first.get("input"))[:60], first["msg"])
                )
                continue
            except ValueError:
                problems.append(Problem(f"{kind.table}, entry {n}, bytes", "text", "base 64"))
                continue
            if record.key in here:
                same = here[record.key].model_copy(update={"revision": 0}) == record
                known, other = known + same, other + (not same)
            else:
                new.append((record, data))
    if problems:
        raise InputError(
            f"{len(problems)} entries cannot be imported; nothing was.", problems=tuple(problems[:_MOST_PROBLEMS])
        )
    _numbered(book, new)
    book.put_with_bytes(new)
    return Imported(len(new), known, other)


def _numbered(book: Logbook, new: list[tuple[Record, bytes | None]]) -> None:
    """Give prints whose number is taken here another one."""
    kind = BY_TABLE["prints"]
    taken = {getattr(p, "number", 0) for p in book.all(kind)}
    free = max(taken, default=0)
    for k, (record, data) in enumerate(new):
        number = getattr(record, "number", None)
        if number is None or not isinstance(record, kind):
            continue
        free = max(free, number)
        if number in taken:
            free += 1
            new[k] = (record.model_copy(update={"number": free}), data)
            number = free
        taken.add(number)
