"""The logbook through its real widgets: a print begun and ended, causes, comparisons, trials, what was learned, what worked."""

from __future__ import annotations

import shutil
import sqlite3
import struct
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QSize
from PySide6.QtGui import QColor, QImage
from PySide6.QtWidgets import QComboBox, QPushButton

from mandorla.core.errors import InputError
from mandorla.core.logbook.interchange import import_rows, rows_from_json
from mandorla.core.logbook.place import default_path
from mandorla.core.logbook.records import Print
from mandorla.core.logbook.store import Logbook
from mandorla.core.logbook.workshop import Workshop
from mandorla.core.project.samples import demo_logbook, sample
from mandorla.core.project.store import read_bundle
from mandorla.core.results.keys import EVALUATION
from mandorla.ui.stages.logbook.log_view import LogView
from mandorla.ui.stages.logbook.pictures import picture_of
from tests.core.bundles import small_bundle
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def wait(hands: Hands, what: Callable[[], bool], seconds: float = 60.0) -> None:
    hands.bot.waitUntil(what, timeout=round(1000 * seconds))


def view_of(hands: Hands, key: str) -> LogView:
    hands.view(key)
    hands.settled()
    view = hands.page.stage_page.view_of(key)
    assert isinstance(view, LogView)
    return view


def saved(hands: Hands) -> None:
    """Wait until the book is written and read again."""
    wait(hands, lambda: not hands.document.logbook.busy)
    hands.settled()


def pick(box: QComboBox, text: str) -> None:
    index = next(i for i in range(box.count()) if text in box.itemText(i))
    box.setCurrentIndex(index)


@pytest.fixture
def empty(open_window: Callable[..., Hands]) -> Hands:
    hands = open_window(small_bundle())
    hands.stage("logbook")
    hands.settled()
    return hands


@pytest.fixture(scope="module")
def demo_book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's book with what was learned from it beside it."""
    shop = Workshop(tmp_path_factory.mktemp("book") / "demo.db")
    import_rows(shop.book, rows_from_json(demo_logbook(), "the demo"))
    shop.experience()
    return shop.book.path


@pytest.fixture
def demo(open_window: Callable[..., Hands], demo_book: Path, tmp_path: Path) -> Hands:
    hands = open_window(sample("boathouse"))
    for file in demo_book.parent.iterdir():
        if file.is_file():
            shutil.copy(file, tmp_path / file.name)
    hands.document.logbook.use(tmp_path / "demo.db")
    hands.stage("logbook")
    saved(hands)
    return hands


def test_a_first_print_is_begun_and_its_end_entered_in_one_click(empty: Hands) -> None:
    view = empty.page.stage_page.view_of("prints")
    assert "There is no logbook yet" in view.notice.text.text()
    empty.click(empty.button("Begin a logbook"))
    saved(empty)
    assert default_path().exists()
    pick(view.plate, "new …")
    empty.type_into(view.new_plate, "Loft sheet")
    pick(view.prepared, "washed")
    wait(empty, lambda: view.begin_button.isEnabled())
    assert "Predicted:" in view.begin_note.text()
    empty.click(empty.button("Begin print 1"))
    saved(empty)
    assert view.table.rows[0][0].startswith("1  Test project")
    assert view.table.rows[0][2] == "Loft sheet"
    assert "Not entered: number 1" in empty.sentence
    empty.click(view.held)
    saved(empty)
    assert view.table.rows[0][4] == "held"
    assert empty.document.results.experience is not None
    assert empty.document.results.experience.prints == 1
    kept = Logbook(default_path()).all(Print)[0]
    assert kept.predicted
    assert kept.project


def test_what_was_seen_is_entered_with_where_and_how_high_and_predictions_follow(empty: Hands, tmp_path: Path) -> None:
    view = empty.page.stage_page.view_of("prints")
    empty.click(empty.button("Begin a logbook"))
    saved(empty)
    wait(empty, lambda: view.begin_button.isEnabled())
    before = empty.evaluation
    assert before is not None
    for n in (1, 2):
        empty.click(empty.button(f"Begin print {n}"))
        saved(empty)
        view.seen["flatness"].setChecked(True)
        view.seen["loose_plate"].setChecked(True)
        empty.type_into(view.low, "12 mm")
        empty.type_into(view.high, "4 mm")
        empty.click(view.enter)
        assert "below the height" in view.refusal.text()
        empty.type_into(view.low, "4 mm")
        empty.type_into(view.high, "9 mm")
        empty.type_into(view.lift, "2 mm")
        empty.click(view.foot, QPoint(view.foot.width() // 2, view.foot.height() // 2))
        assert len(view.foot.places) == 1
        empty.click(view.enter)
        saved(empty)
    text = view.table.rows[0][4]
    assert "The plate rose between 4 mm and 9 mm" in text
    assert "2.00 mm up" in text
    empty.wait_for(EVALUATION)
    after = empty.evaluation
    assert after is not None
    assert after.judgement.assessed["flatness"].margin < before.judgement.assessed["flatness"].margin
    assert "2 prints" in empty.window.console.verdicts["Fails first"].accessibleDescription() or any(
        "2 prints" in w.text() for w in empty.window.console.verdicts["Fails first"].findChildren(type(view.about))
    )
    empty.in_file_dialog(tmp_path / "as-was.mandorla", lambda: empty.click(view.as_was))
    wait(empty, lambda: (tmp_path / "as-was.mandorla").exists())
    assert read_bundle(tmp_path / "as-was.mandorla").project == empty.document.project
    empty.in_file_dialog(tmp_path / "book.json", lambda: empty.click(view.export))
    wait(empty, lambda: (tmp_path / "book.json").exists())


def test_counts_that_cannot_be_and_a_locked_book_are_told(empty: Hands, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mandorla.core.logbook.store._WAIT", 0.1)
    view = empty.page.stage_page.view_of("prints")
    empty.click(empty.button("Begin a logbook"))
    saved(empty)
    wait(empty, lambda: view.begin_button.isEnabled())
    empty.click(empty.button("Begin print 1"))
    saved(empty)
    view.copies.setValue(50)
    view.good.setValue(51)
    empty.click(view.enter)
    assert "51 of 50 cannot be good" in view.refusal.text()
    holder = sqlite3.connect(default_path(), isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    view.good.setValue(48)
    empty.click(view.enter)
    wait(empty, lambda: "stayed locked" in empty.message)
    holder.execute("ROLLBACK")
    holder.close()
    empty.click(view.enter)
    saved(empty)
    assert view.table.rows[0][4] == "48 of 50 good"


def test_a_damaged_book_offers_its_copy(open_window: Callable[..., Hands]) -> None:
    path = default_path()
    Logbook(path).put(Print(name="kept"))
    Logbook(path)  # keeps a copy
    path.write_bytes(b"no database " * 500)
    for end in ("-wal", "-shm"):
        path.with_name(path.name + end).unlink(missing_ok=True)
    hands = open_window(small_bundle())
    hands.stage("logbook")
    view = hands.page.stage_page.view_of("prints")
    wait(hands, lambda: "damaged" in view.notice.text.text())
    (offer,) = [b for b in view.findChildren(QPushButton) if b.text().startswith("Take the copy of")]
    hands.click(offer)
    wait(hands, lambda: view.drawn)
    assert view.table.rows[0][0] == "1  kept"
    assert list(path.parent.glob("*damaged*"))


def test_signs_lead_to_causes_with_their_tests(demo: Hands) -> None:
    view = view_of(demo, "diagnose")
    pick(view.about, "print 27")
    assert len(view.table.rows) >= 6
    for key in ("clean", "smooth", "marks"):
        view.signs[key].setChecked(True)
    assert view.table.rows[0][0] == "The surface is worn, or a bad specimen"
    assert "Test:" in demo.sentence
    for key in ("clean", "smooth", "marks"):
        view.signs[key].setChecked(False)
    view.signs["ripples"].setChecked(True)
    assert view.table.rows[0][0] == "The nozzle was too near to the plate"
    demo.click(view.keep_button)
    saved(demo)
    kept = next(p for p in demo.document.logbook.shown.prints if p.number == 27)  # type: ignore[union-attr]
    assert kept.outcome is not None
    assert kept.outcome.signs == ("ripples",)


def test_what_another_window_writes_is_seen(demo: Hands) -> None:
    path = demo.document.logbook.path
    view = view_of(demo, "prints")
    assert view.table.rows[0][0] == "61  Hatch frame"
    Logbook(path).put(Print(name="From elsewhere"))
    demo.document.logbook.look()
    wait(demo, lambda: view.table.rows[0][0] == "62  From elsewhere")


def test_groups_are_compared_concluded_and_withdrawn(demo: Hands) -> None:
    view = view_of(demo, "compare")
    demo.type_into(view.first, "9, 10, 14, 16")
    demo.type_into(view.second, "13, 15, 18")
    assert "nothing can be concluded about any single one" in demo.sentence
    assert not view.conclude_button.isEnabled()
    demo.type_into(view.first, "14, 16, 17, 20, 21")
    demo.type_into(view.second, "13, 15, 18, 19, 22")
    assert [row[0] for row in view.table.rows] == ["Plate and side"]
    assert "Only plate and side differed" in demo.sentence
    demo.type_into(view.text, "The other sheet is weak")
    demo.click(view.conclude_button)
    saved(demo)
    assert view.list.rows[0][0] == "The other sheet is weak"
    assert "from prints 13, 14, 15" in view.about.text().lower()
    demo.type_into(view.why, "it was dirty")
    demo.click(view.withdraw_button)
    saved(demo)
    assert view.list.rows[0][0].startswith("withdrawn:")
    item = view.list.item(0, 0)
    assert item is not None
    assert item.font().strikeOut()
    assert any(row[0].startswith("out of date:") for row in view.list.rows)
    demo.type_into(view.first, "900")
    assert "no print number 900" in view.answer.text()


def test_trials_say_where_they_stand_and_new_ones_are_planned(demo: Hands) -> None:
    view = view_of(demo, "trials")
    assert "Clips on the sill: Holds nine times of ten from" in demo.sentence
    assert any(name == "holds" for name, *_ in view.curve.series)
    view.list.setCurrentRow(1)
    assert "Decided: Old sheet fails more often" in demo.sentence
    assert not view.curve.isVisibleTo(view)
    demo.type_into(view.name, "Wash")
    demo.type_into(view.a, "soap")
    demo.type_into(view.b, "soap")
    demo.click(demo.button("Plan it"))
    assert "two arms" in demo.message
    demo.type_into(view.b, "alcohol")
    demo.click(demo.button("Plan it"))
    saved(demo)
    assert demo.sentence.startswith("Wash: Go on")
    demo.click(view.close_button)
    saved(demo)
    assert view.list.item(0).text() == "Wash (closed)"
    demo.type_into(view.ladder_name, "Rest")
    wait(demo, lambda: view.ladder_button.isEnabled())
    demo.click(view.ladder_button)
    saved(demo)
    assert demo.sentence.startswith("Rest: Holds nine times")
    prints = view_of(demo, "prints")
    offered = [prints.trial.itemText(i) for i in range(prints.trial.count())]
    assert "Rest" in offered
    assert not any("Wash" in text for text in offered)


def test_what_was_learned_is_shown_and_switched_off(demo: Hands) -> None:
    view = view_of(demo, "learned")
    assert demo.sentence.startswith("From 59 prints.")
    rows = {row[0]: row[2] for row in view.table.rows}
    assert "grip on the plate" in rows
    assert rows["magnet's pull"] != "+0.0 ± 1.0"
    assert "Old sheet, front: grips less than it did" in view.weak.text()
    assert view.figures.figures[0].value == "57"
    taught = demo.evaluation
    demo.switch("criteria.from_prints", False)
    demo.settled()
    assert "Switched off" in demo.sentence
    plain = demo.evaluation
    assert taught is not None
    assert plain is not None
    assert plain.part is not None
    assert plain.part.learned.prints == 0
    assert plain.judgement.anything != taught.judgement.anything
    demo.click(demo.window.undo_button)
    demo.settled()
    assert demo.evaluation is not None
    assert demo.evaluation.judgement.anything == taught.judgement.anything


def test_what_worked_is_taken_and_things_are_kept_up(demo: Hands, tmp_path: Path) -> None:
    view = view_of(demo, "things")
    assert demo.sentence.startswith("Best proven here: bed 99.0 °C, then 94.0 °C, chamber 50.0 °C")
    demo.click(view.take_button)
    demo.settled()
    assert demo.document.project.settings.chamber == pytest.approx(323.15)
    rows = [r[0] for r in view.table.rows]
    other = next(i for i, text in enumerate(rows) if text.startswith("Windowsill"))
    view.table.selectRow(other)
    wait(demo, lambda: "for the same plate and air" in view.take_note.text())
    demo.click(view.take_button)
    assert demo.document.project.settings.bed_rest != pytest.approx(367.15)
    before = next(r for r in view.plates.rows if r[0] == "Slipway sheet, front")
    pick(view.plate, "Slipway sheet")
    demo.click(demo.button("Note it"))
    saved(demo)
    assert before[2] != "0"
    assert next(r for r in view.plates.rows if r[0] == "Slipway sheet, front")[2] == "0"
    pick(view.plate, "Old sheet")
    demo.in_file_dialog(tmp_path / "old.md", lambda: demo.click(demo.button("Evidence sheet …")))
    text = (tmp_path / "old.md").read_text(encoding="utf-8")
    assert "A corner came off in" in text
    assert "Trial: Which sheet" in text
    assert "99 % that it is below it" in text or "100 % that it is below it" in text
    demo.type_into(view.spool, "Blue")
    demo.type_into(view.opened, "someday")
    demo.click(demo.button("Enter the spool"))
    assert "is no date" in demo.message
    demo.type_into(view.opened, "2026-05-01")
    demo.click(demo.button("Enter the spool"))
    saved(demo)
    assert any(r[0] == "Blue" for r in view.spools.rows)
    demo.type_into(view.instrument, "Contact probe")
    demo.type_into(view.calibrated, "2026-06-01")
    demo.click(demo.button("Enter the instrument"))
    saved(demo)
    assert "Contact probe" not in view.due.text()
    assert len(view.energy.rows) == 4


def test_an_entry_is_written_even_where_the_window_is_closed_at_once(empty: Hands) -> None:
    view = empty.page.stage_page.view_of("prints")
    empty.click(empty.button("Begin a logbook"))
    saved(empty)
    wait(empty, lambda: view.begin_button.isEnabled())
    empty.click(empty.button("Begin print 1"))
    empty.document.close()
    assert [p.number for p in Logbook(default_path()).all(Print)] == [1]


def test_a_print_keeps_its_pictures_and_shows_them(empty: Hands, tmp_path: Path) -> None:
    hands, view = empty, view_of(empty, "prints")
    hands.click(hands.button("Begin a logbook"))
    saved(hands)
    wait(hands, lambda: view.begin_button.isEnabled())
    hands.click(hands.button("Begin print 1"))
    saved(hands)
    assert not view.pictures.isVisible()
    image = QImage(2400, 1600, QImage.Format.Format_RGB32)
    image.fill(QColor("#b06030"))
    assert image.save(str(tmp_path / "corner.jpg"))
    (tmp_path / "words.png").write_text("this is no picture")

    said: list[str] = []
    hands.document.logbook.refused.connect(said.append)
    hands.in_file_dialog(tmp_path / "words.png", lambda: hands.click(view.picture))
    saved(hands)
    assert "no picture" in said[0]
    assert not view.pictures.isVisible(), "what cannot be read is not kept"

    hands.in_file_dialog(tmp_path / "corner.jpg", lambda: hands.click(view.picture))
    saved(hands)
    wait(hands, lambda: bool(view.pictures.buttons) and not view.pictures.buttons[0].icon().isNull())
    hands.click(view.pictures.buttons[0])
    dialog = view.pictures.open
    assert dialog is not None
    wait(hands, lambda: not dialog.image.pixmap().isNull())
    shown = dialog.image.pixmap()
    assert 300 < shown.width() <= min(880, 0.6 * dialog.screen().availableSize().width())
    assert shown.width() / shown.height() == pytest.approx(1.5, rel=0.01), "whole, and not distorted"
    assert dialog.image.width() >= shown.width()
    hands.in_file_dialog(tmp_path / "copy.jpg", lambda: hands.click(dialog.save))
    saved(hands)
    assert (tmp_path / "copy.jpg").read_bytes() == (tmp_path / "corner.jpg").read_bytes()
    hands.click(dialog.remove)
    assert "nowhere else" in dialog.remove.text()
    hands.click(dialog.remove)
    saved(hands)
    assert not view.pictures.isVisible()


def test_a_picture_of_too_many_points_is_not_unpacked() -> None:
    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 60000, 60000, 8, 2, 0, 0, 0))
    data = b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(b"\0"))
    with pytest.raises(InputError, match="too many"):
        picture_of(data, QSize(100, 100))
