"""The logbook's file: several at once, nothing lost, everything refused in words."""

from __future__ import annotations

import json
import multiprocessing
import sqlite3
from pathlib import Path

import pytest
from pydantic import ValidationError
from sqlalchemy import create_engine, inspect

from mandorla.core.errors import InputError, LogbookError
from mandorla.core.logbook.copies import copies_of
from mandorla.core.logbook.interchange import export, import_rows, rows_from_json, rows_of
from mandorla.core.logbook.records import (
    BY_TABLE,
    KINDS,
    Conclusion,
    Effect,
    Instrument,
    KeptProject,
    Machine,
    Note,
    Outcome,
    Picture,
    Plate,
    PlateEvent,
    Predicted,
    Print,
    Spool,
    Trial,
)
from mandorla.core.logbook.store import Logbook, on_network, rescue
from mandorla.core.logbook.tables import METADATA, TABLES
from mandorla.core.logbook.workshop import Workshop, stale_because
from mandorla.core.project.samples import demo_logbook


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return tmp_path / "workshop.db"


def filled(path: Path) -> Logbook:
    book = Logbook(path)
    machine, plate = book.put(Machine(name="Loft 300")), book.put(Plate(name="Sheet", front="bare_glass"))
    spool, trial = book.put(Spool(name="Red", polymer="asa", lot="7")), book.put(Trial(name="Which"))
    book.put(PlateEvent(plate=plate.key, what="washed"))
    book.put(Instrument(name="Probe", calibrated="2026-01-02"))
    project = book.keep_project("Box", b"bytes \x00 of a file")
    printed = book.put(Print(
        name="Box “a, b”\nsecond line", machine=machine.key, plate=plate.key, spool=spool.key, trial=trial.key, project=project,
        setup={"settings.bed_rest": "350"}, predicted={"adhesion": Predicted(margin=-0.5, parts={"grip on the plate": 0.3})},
        outcome=Outcome(held=False, good=0, effects=(Effect(way="adhesion", low=0.01, high=0.02, x=0.1, y=-0.2),)),
    ))  # fmt: skip
    book.put(Conclusion(text="It holds", prints=(printed.key,), depends={"plate": plate.key}))
    book.put(Note(text="Note äöü 漢"))
    book.put(Picture(name="a.png", of=printed.key), b"\x89PNG\x00\xff")
    return book


def everything(book: Logbook) -> dict[str, list[object]]:
    return {k.table: [(r.model_copy(update={"revision": 0}), _bytes(book, r)) for r in book.all(k)] for k in KINDS}


def _bytes(book: Logbook, record: object) -> bytes:
    return book.bytes_of(record) if isinstance(record, KeptProject | Picture) else b""


# ---- records
def test_impossible_entries_are_refused() -> None:
    with pytest.raises(ValidationError, match="51 of 50 cannot be good"):
        Outcome(copies=50, good=51)
    with pytest.raises(ValidationError, match="in the future"):
        Print(name="x", at="2199-01-01")
    with pytest.raises(ValidationError, match="is no date"):
        PlateEvent(plate="p", at="yesterday")
    with pytest.raises(ValidationError, match="below the height"):
        Effect(way="adhesion", low=0.02, high=0.01)
    with pytest.raises(ValidationError, match="cannot have held and have failed"):
        Outcome(held=True, effects=(Effect(way="adhesion"),))


# ---- the file
def test_migrations_end_with_the_tables_of_today(path: Path) -> None:
    Logbook(path)
    engine = create_engine(f"sqlite:///{path}")
    found = inspect(engine)
    for name, table in TABLES.items():
        there = {c["name"]: c["nullable"] for c in found.get_columns(name)}
        assert there == {c.name: bool(c.nullable) for c in table.c}, name
        assert {f["constrained_columns"][0] for f in found.get_foreign_keys(name)} == {
            next(iter(f.columns)).name for f in table.foreign_key_constraints
        }
    assert set(found.get_table_names()) == {*METADATA.tables, "alembic_version"}
    engine.dispose()


def test_two_windows_that_edit_one_entry_do_not_overwrite_each_other(path: Path) -> None:
    one = filled(path)
    other = Logbook(path)
    mine, theirs = one.all(Print)[0], other.all(Print)[0]
    other.put(theirs.model_copy(update={"note": "theirs"}))
    with pytest.raises(InputError, match="changed this entry meanwhile"):
        one.put(mine.model_copy(update={"note": "mine"}))
    assert one.get(Print, mine.key).note == "theirs"


def test_what_prints_refer_to_cannot_be_deleted_and_names_are_taken_once(path: Path) -> None:
    book = filled(path)
    plate = book.all(Plate)[0]
    with pytest.raises(InputError, match="retire it"):
        book.remove(plate)
    assert book.put(plate.model_copy(update={"retired": True})).retired
    with pytest.raises(InputError, match="has this name already"):
        book.put(Plate(name="Sheet", front="bare_glass"))
    with pytest.raises(InputError, match="not there"):
        book.put(Print(name="y", machine="nobody"))
    with pytest.raises(InputError, match="no such entry"):
        book.get(Print, "nobody")


def test_numbers_count_and_every_entry_changes_the_digest(path: Path) -> None:
    book = Logbook(path)
    before = book.digest
    numbers = [book.put(Print(name=f"p{k}")).number for k in range(3)]
    assert numbers == [1, 2, 3]
    after = book.digest
    assert after != before
    book.put(book.all(Print)[0].model_copy(update={"note": "x"}))
    assert book.digest != after
    assert [r.name for r in book.search("p1") if isinstance(r, Print)] == ["p1"]


def test_a_book_that_is_locked_damaged_or_newer_is_refused_in_words(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("mandorla.core.logbook.store._WAIT", 0.05)
    book = filled(path)
    Logbook(path)  # the second opening of a day keeps a copy
    assert len(copies_of(path)) == 1
    holder = sqlite3.connect(path, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    with pytest.raises(LogbookError, match="stayed locked"):
        book.put(Note(text="waits"))
    holder.execute("ROLLBACK")
    holder.execute("UPDATE alembic_version SET version_num='99'")
    holder.close()
    with pytest.raises(LogbookError, match="newer version"):
        Logbook(path)
    data = bytearray(path.read_bytes())
    data[5000:9000] = b"\x07" * 4000
    path.write_bytes(bytes(data))
    for end in ("-wal", "-shm"):
        path.with_name(path.name + end).unlink(missing_ok=True)
    with pytest.raises(LogbookError, match=r"(damaged|malformed).*The newest copy is"):
        Logbook(path)
    path.write_bytes(b"no database at all, only text " * 40)
    with pytest.raises(LogbookError, match="damaged"):
        Logbook(path)
    assert Logbook(copies_of(path)[0], read_only=True).all(Machine)[0].name == "Loft 300"


def test_a_book_that_can_only_be_read_is_read(path: Path) -> None:
    filled(path)
    book = Logbook(path, read_only=True)
    assert book.all(Machine)[0].name == "Loft 300"
    with pytest.raises(LogbookError, match="only be read"):
        book.put(Note(text="no"))
    with pytest.raises(LogbookError, match="There is no logbook"):
        Logbook(path.with_name("none.db"), read_only=True)


def test_what_is_left_of_a_damaged_book_is_saved(path: Path) -> None:
    filled(path)
    left = rescue(path)
    assert [row["name"] for row in left["machines"]] == ["Loft 300"]
    assert left["prints"][0]["number"] == 1
    path.write_bytes(b"\x00" * 5000)
    with pytest.raises(LogbookError, match="Nothing can be read"):
        rescue(path)


def test_network_folders_are_told_from_local_ones(tmp_path: Path) -> None:
    mounts = tmp_path / "mounts"
    share = tmp_path / "with space"
    (share / "deep").mkdir(parents=True)
    escaped = str(share.resolve()).replace(" ", "\\040")
    mounts.write_text(f"/dev/sda1 / ext4 rw 0 0\nserver:/x {escaped} nfs4 rw 0 0\n")
    assert on_network(share / "deep", mounts)
    assert not on_network(tmp_path, mounts)
    assert not on_network(tmp_path, tmp_path / "no such file")


def test_journals_fit_the_folder(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def mode(book: Logbook) -> str:
        with book._begin() as connection:
            return str(connection.exec_driver_sql("PRAGMA journal_mode").scalar())

    assert mode(Logbook(path)) == "wal"
    monkeypatch.setattr("mandorla.core.logbook.store.on_network", lambda folder: True)
    assert mode(Logbook(path.with_name("shared.db"))) == "delete"


def _writes(path: Path, told: multiprocessing.Queue[int]) -> None:
    book = Logbook(path)
    for n in range(10_000):
        book.put(Note(text=f"entry {n}"))
        told.put(n)


def test_a_kill_at_any_moment_loses_no_entry_that_was_told(path: Path) -> None:
    context = multiprocessing.get_context("spawn")
    Logbook(path)
    for _ in range(3):
        told: multiprocessing.Queue[int] = context.Queue()
        before = len(Logbook(path).all(Note))
        writer = context.Process(target=_writes, args=(path, told))
        writer.start()
        last = -1
        while last < 12:
            last = told.get(timeout=60)
        writer.kill()
        writer.join()
        told.close()
        told.join_thread()
        assert len(Logbook(path).all(Note)) >= before + last + 1


# ---- out and in
@pytest.mark.parametrize("name", ["out.json", "out"])
def test_a_book_goes_out_and_in_without_loss(name: str, path: Path, tmp_path: Path) -> None:
    book = filled(path)
    export(book, tmp_path / name)
    other = Logbook(tmp_path / "other.db")
    done = import_rows(other, rows_of(tmp_path / name))
    assert done.new == sum(len(v) for v in everything(book).values())
    assert everything(other) == everything(book)
    again = import_rows(other, rows_of(tmp_path / name))
    assert (again.new, again.known, again.other) == (0, done.new, 0)


def test_prints_of_another_workshop_get_free_numbers(path: Path, tmp_path: Path) -> None:
    mine, theirs = filled(path), Logbook(tmp_path / "theirs.db")
    for k in range(3):
        theirs.put(Print(name=f"theirs {k}"))
    export(theirs, tmp_path / "theirs.json")
    assert import_rows(mine, rows_of(tmp_path / "theirs.json")).new == 3
    assert sorted(p.number for p in mine.all(Print)) == [1, 2, 3, 4]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "no JSON"), ('{"a": 1}', "no logbook"), ('{"format": "mandorla-logbook", "version": 99, "tables": {}}', "newer"),
        ('{"format": "mandorla-logbook", "version": 1, "tables": {"cars": []}}', "cars"),
        ("[" * 100_000, "no JSON"),
    ],
)  # fmt: skip
def test_what_is_no_export_is_refused(text: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        rows_from_json(text.encode(), "it")


def test_refused_entries_leave_the_book_as_it_was(path: Path, tmp_path: Path) -> None:
    book = filled(path)
    before = everything(book)
    rows = {
        "machines": [{"key": "new", "name": "New"}],
        "prints": [{"key": "bad", "name": "x", "outcome": {"copies": 2, "good": 3}}],
    }
    with pytest.raises(InputError, match="1 entries cannot be imported") as refused:
        import_rows(book, rows)
    assert "3 of 2 cannot be good" in str(refused.value)
    assert everything(book) == before
    (tmp_path / "csv").mkdir()
    (tmp_path / "csv" / "machines.csv").write_text("key,label\na,b\n")
    with pytest.raises(InputError, match="label"):
        rows_of(tmp_path / "csv")


# ---- conclusions
def test_conclusions_go_stale_and_can_be_withdrawn(path: Path) -> None:
    shop = Workshop(path)
    plate = shop.plate("Sheet", "bare_glass")
    c = shop.book.put(
        Conclusion(
            text="It holds", at="2026-03-01T00:00:00+00:00", depends={"plate": plate.key, "lot": "1", "polymer": "asa"}
        )
    )
    spools = [Spool(name="A", polymer="asa", lot="1", opened="2026-02-01")]
    assert stale_because(c, [], [], spools) == ""
    spools.append(Spool(name="B", polymer="asa", lot="2", opened="2026-04-01"))
    assert "another lot" in stale_because(c, [], [], spools)
    event = PlateEvent(plate=plate.key, at="2026-05-01", what="renewed")
    assert "renewed" in stale_because(c, [], [event], [])
    with pytest.raises(InputError, match="Say why"):
        shop.withdraw(c, " ")
    gone = shop.withdraw(c, "the plate was bad")
    assert gone.withdrawn
    assert gone.why == "the plate was bad"
    assert stale_because(gone, [], [event], []) == ""


def test_the_demos_book_tells_its_story(path: Path) -> None:
    shop = Workshop(path)
    import_rows(shop.book, rows_from_json(demo_logbook(), "the demo"))
    prints, conclusions = shop.book.all(Print), shop.book.all(Conclusion)
    assert 50 <= len(prints) <= 70
    assert any(c.withdrawn and c.why for c in conclusions)
    assert {t.kind for t in shop.book.all(Trial)} == {"ab", "ladder"}
    assert len({p.spool for p in prints if p.polymer == "asa"}) >= 2
    assert sum(not p.entered for p in prints) == 2
    assert set(json.loads(demo_logbook())["tables"]) == set(BY_TABLE)
