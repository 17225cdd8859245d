"""Opening, saving, refusing, recovering: the work in hand is kept whatever is opened."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import textwrap
from collections.abc import Callable
from pathlib import Path

import pytest
import trimesh
from pypdf import PdfReader
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication, QMessageBox

from mandorla.core.folders import recovery_folder
from mandorla.core.project.open_notes import note_of, opened_by
from mandorla.core.project.recovery import Autosave, find_recoverable, started_at
from mandorla.core.project.store import read_bundle, write_bundle
from mandorla.core.results import suggestions
from mandorla.ui.preferences import Preferences, load_preferences
from mandorla.ui.widgets.recovery_dialog import RecoveryDialog
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl
from tests.ui.conftest import Hands, guarded

pytestmark = pytest.mark.gui


def broken_meshes(folder: Path) -> dict[str, Path]:
    """Files that are no printable part, by what is wrong."""
    good = stl(block(50.0, 40.0, 30.0))
    open_body = block(50.0, 40.0, 30.0)
    open_body.update_faces(open_body.faces[:, 0] >= 0)
    open_body.update_faces([i != 0 for i in range(len(open_body.faces))])
    sphere = stl(trimesh.creation.icosphere(subdivisions=2, radius=20.0), "stl_ascii")
    files = {
        "no STL file": b"",
        "empty": b"\0" * 84,
        "cut off": good[:-30],
        "not closed": stl(open_body),
        "wrongly scaled": stl(block(50000.0, 40000.0, 30000.0)),
        "too large": b"\0" * 80 + (50_000_000).to_bytes(4, "little") + b"\0" * 50,
        "is no vertex": sphere.replace(b"vertex", b"vertex what", 3),
    }
    found = {}
    for i, (what, data) in enumerate(files.items()):
        found[what] = folder / f"broken-{i}.stl"
        found[what].write_bytes(data)
    return found


def test_broken_meshes_are_explained_and_the_part_stays(hands: Hands, tmp_path: Path) -> None:
    hands.stage(4)
    before = hands.document.project
    for what, path in broken_meshes(tmp_path).items():
        hands.page.open_file(path)
        hands.bot.waitUntil(lambda w=what: w in hands.message, timeout=30000)
        assert path.name in hands.message
        assert hands.document.project is before
    hands.page.open_file(tmp_path / "missing.stl")
    hands.bot.waitUntil(lambda: "cannot be read" in hands.message, timeout=30000)
    assert not hands.document.undo_stack.canUndo()


def test_a_wrong_unit_is_mended_by_choosing_another(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "metres.stl"
    path.write_bytes(stl(block(0.12, 0.06, 0.02)))
    hands.stage(4)
    hands.page.open_file(path)
    hands.bot.waitUntil(lambda: "choose the unit" in hands.message, timeout=30000)
    hands.page.unit_choice.setCurrentIndex(hands.page.unit_choice.findData("m"))
    hands.page.open_file(path)
    hands.bot.waitUntil(lambda: "units read as m" in hands.message, timeout=30000)
    hands.quick()
    hands.bot.waitUntil(lambda: "120 × 60 × 20 mm" in hands.sentence, timeout=20000)


def test_unit_and_scale_of_the_open_part_can_be_changed_and_undone(hands: Hands) -> None:
    hands.stage(4)
    hands.quick()
    assert "120 × 60 × 20 mm" in hands.sentence
    hands.type_into(hands.field("part.scale"), "150 %")
    hands.quick()
    assert "180 × 90 × 30 mm" in hands.sentence
    hands.type_into(hands.field("part.scale"), "9000 %")
    assert "The part would be 1.08e+04 mm" in hands.message
    assert hands.document.project.part.scale == pytest.approx(1.5)
    choice = hands.page.unit_choice
    choice.setFocus()
    hands.bot.keyClick(choice, Qt.Key.Key_End)  # metres
    assert "The part would be" in hands.message
    assert choice.currentData() == "mm"
    hands.press("Ctrl+Z")
    hands.quick()
    assert "120 × 60 × 20 mm" in hands.sentence


@pytest.mark.parametrize("spoil", ["cut", "newer", "text"])
def test_broken_projects_are_explained_and_the_work_stays(hands: Hands, tmp_path: Path, spoil: str) -> None:
    path = tmp_path / f"{spoil}.mandorla"
    write_bundle(path, small_bundle())
    if spoil == "cut":
        path.write_bytes(path.read_bytes()[:700])
    elif spoil == "text":
        path.write_text("not a project")
    else:
        import zipfile

        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("project.json", '{"schema_version": 99}')
    hands.click(hands.window.console.steppers["settings.fan"].up)
    before, document = hands.document.project, hands.document
    spoiled = path.read_bytes()
    hands.in_file_dialog(path, lambda: hands.press("Ctrl+O"))
    assert path.name in hands.message
    assert hands.document is document
    assert hands.document.project is before
    assert path.read_bytes() == spoiled, "a refused file is not written over"


def test_save_open_and_recent_files(hands: Hands, tmp_path: Path) -> None:
    path = tmp_path / "mine"
    hands.click(hands.window.console.steppers["settings.fan"].up)
    assert "not saved" in hands.window.subtitle.text()
    hands.in_file_dialog(path, lambda: hands.press("Ctrl+Shift+S"))
    saved = tmp_path / "mine.mandorla"
    assert saved.exists()
    assert "not saved" not in hands.window.subtitle.text()
    assert read_bundle(saved).project == hands.document.project
    hands.click(hands.window.console.steppers["settings.fan"].up)
    hands.press("Ctrl+S")
    assert read_bundle(saved).project == hands.document.project
    assert load_preferences().recent == [str(saved)]
    assert hands.window.open_project(saved)
    hands.quick()
    assert hands.document.path == saved
    assert [a.text() for a in hands.window.recent_menu.actions()] == ["mine.mandorla"]


def test_saving_over_another_project_is_asked_under_its_whole_name(hands: Hands, tmp_path: Path) -> None:
    other = tmp_path / "other.mandorla"
    write_bundle(other, small_bundle("Another one"))
    hands.click(hands.window.console.steppers["settings.fan"].up)

    def save_as() -> None:
        hands.in_file_dialog(tmp_path / "other", lambda: hands.press("Ctrl+Shift+S"))

    question = hands.in_question(QMessageBox.StandardButton.No, save_as)
    assert "“other.mandorla” exists already" in question
    assert read_bundle(other).project.name == "Another one"
    hands.in_question(QMessageBox.StandardButton.Yes, save_as)
    assert read_bundle(other).project == hands.document.project


def press_in_question(hands: Hands, text: str, action: Callable[[], object]) -> str:
    """Do ``action`` and press the button of a text in the question that it asks; returns the question."""
    asked: list[str] = []

    def answer() -> None:
        boxes = [w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
        if not boxes:
            QTimer.singleShot(50, answer)
            return
        asked.append(boxes[0].text())
        hands.click(next(b for b in boxes[0].buttons() if b.text() == text))

    QTimer.singleShot(50, answer)
    with guarded():
        action()
    assert asked, "nothing was asked"
    hands.window.activateWindow()
    QApplication.processEvents()
    return asked[0]


def test_a_file_saved_by_another_window_meanwhile_is_asked_about(
    open_window: Callable[..., Hands], tmp_path: Path
) -> None:
    path = tmp_path / "shared.mandorla"
    write_bundle(path, small_bundle())
    hands = open_window(read_bundle(path), path)
    write_bundle(path, small_bundle("Saved by the other window"))
    hands.click(hands.window.console.steppers["settings.fan"].up)
    question = hands.in_question(QMessageBox.StandardButton.Cancel, lambda: hands.press("Ctrl+S"))
    assert "was changed on disk" in question
    assert read_bundle(path).project.name == "Saved by the other window"
    press_in_question(hands, "Replace it", lambda: hands.press("Ctrl+S"))
    assert read_bundle(path).project == hands.document.project
    hands.click(hands.window.console.steppers["settings.fan"].up)
    hands.press("Ctrl+S")  # its own save is no other window's
    assert read_bundle(path).project == hands.document.project


def test_the_other_windows_version_can_be_taken(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    path = tmp_path / "shared.mandorla"
    write_bundle(path, small_bundle())
    hands = open_window(read_bundle(path), path)
    write_bundle(path, small_bundle("Saved by the other window"))
    hands.click(hands.window.console.steppers["settings.fan"].up)
    press_in_question(hands, "Open that one", lambda: hands.press("Ctrl+S"))
    assert hands.document.project.name == "Saved by the other window"
    assert hands.document.undo_stack.isClean()


@pytest.mark.parametrize("way", ["Under all names", "Here only", "Cancel"])
def test_a_file_with_two_names_is_asked_about(open_window: Callable[..., Hands], tmp_path: Path, way: str) -> None:
    path, other = tmp_path / "one.mandorla", tmp_path / "other.mandorla"
    write_bundle(path, small_bundle())
    os.link(path, other)
    hands = open_window(read_bundle(path), path)
    before = other.read_bytes()
    hands.click(hands.window.console.steppers["settings.fan"].up)
    question = press_in_question(hands, way, lambda: hands.press("Ctrl+S"))
    assert "one file with 2 names" in question
    wanted = hands.document.project
    assert (read_bundle(path).project == wanted) == (way != "Cancel")
    assert (read_bundle(other).project == wanted) == (way == "Under all names")
    assert (other.read_bytes() == before) == (way != "Under all names")
    assert os.path.samefile(path, other) == (way != "Here only")
    assert hands.document.undo_stack.isClean() == (way != "Cancel")


def test_who_else_has_a_project_open_is_said(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    path = tmp_path / "shared.mandorla"
    write_bundle(path, small_bundle())
    other = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    try:
        note = {
            "user": "berit",
            "host": socket.gethostname(),
            "pid": other.pid,
            "started": started_at(other.pid),
            "since": 1.8e9,
        }
        note_of(path).write_text(json.dumps(note), encoding="utf-8")
        hands = open_window(small_bundle())
        assert hands.window.open_project(path)
        assert "berit has this project open on" in hands.message
    finally:
        other.kill()
        other.wait()
    hands.window.close()
    assert opened_by(path) is None


def left_behind(name: str, original: Path | None) -> None:
    """A recovery copy of a process that no longer runs."""
    keeper = Autosave(recovery_folder())
    keeper.keep(small_bundle(name), original)
    note = keeper.copy.with_suffix(".json")
    note.write_text(json.dumps(json.loads(note.read_text(encoding="utf-8")) | {"pid": 2**22 + 7}), encoding="utf-8")


def test_every_crashed_session_is_offered_and_one_is_brought_back(hands: Hands, tmp_path: Path) -> None:
    for name in ("First", "Second", "Third"):
        left_behind(name, tmp_path / f"{name}.mandorla")
    hands.window.recovering.look()
    assert "3 projects were not closed properly" in hands.message
    seen: list[list[str]] = []

    def choose() -> None:
        dialogs = [w for w in QApplication.topLevelWidgets() if isinstance(w, RecoveryDialog) and w.isVisible()]
        if not dialogs:
            QTimer.singleShot(50, choose)
            return
        shown = dialogs[0]
        texts = [shown.list.item(i).text() for i in range(shown.list.count())]
        seen.append(texts)
        shown.list.setCurrentRow(next(i for i, t in enumerate(texts) if t.startswith("Second")))
        hands.click(shown.drop)
        texts = [shown.list.item(i).text() for i in range(shown.list.count())]
        shown.list.setCurrentRow(next(i for i, t in enumerate(texts) if t.startswith("First")))
        hands.click(shown.bring)

    QTimer.singleShot(50, choose)
    with guarded():
        hands.click(hands.window.messages.action)
    hands.quick()
    assert len(seen[0]) == 3
    assert hands.document.project.name == "First"
    assert hands.document.path == tmp_path / "First.mandorla"
    hands.bot.waitUntil(
        lambda: [f.project_name for f in find_recoverable(recovery_folder())] == ["Third"], timeout=15000
    )


def in_recovery_dialog(action: Callable[[RecoveryDialog], object]) -> None:
    """Do something in the dialog of kept copies as soon as it is there."""

    def look() -> None:
        dialogs = [w for w in QApplication.topLevelWidgets() if isinstance(w, RecoveryDialog) and w.isVisible()]
        if dialogs:
            action(dialogs[0])
        else:
            QTimer.singleShot(50, look)

    QTimer.singleShot(50, look)


def test_work_in_hand_is_asked_about_before_other_work_is_brought_back(hands: Hands) -> None:
    left_behind("Lost", None)
    hands.click(hands.window.console.steppers["settings.fan"].up)
    before = hands.document.project
    hands.window.recovering.look()
    in_recovery_dialog(lambda dialog: hands.click(dialog.bring))
    hands.in_question(QMessageBox.StandardButton.Cancel, lambda: hands.click(hands.window.messages.action))
    assert hands.document.project is before
    assert [f.project_name for f in find_recoverable(recovery_folder())] == ["Lost"]


def test_unsaved_work_is_asked_about(hands: Hands, tmp_path: Path) -> None:
    other = tmp_path / "other.mandorla"
    write_bundle(other, small_bundle("Another one"))
    hands.click(hands.window.console.steppers["settings.fan"].up)
    before = hands.document.project
    question = hands.in_question(QMessageBox.StandardButton.Cancel, lambda: hands.window.open_project(other))
    assert "not saved" in question
    assert hands.document.project is before
    hands.in_question(QMessageBox.StandardButton.Discard, lambda: hands.window.open_project(other))
    hands.quick()
    assert hands.document.project.name == "Another one"


def test_closing_asks_too_and_cancel_keeps_the_window(hands: Hands) -> None:
    hands.click(hands.window.console.steppers["settings.fan"].up)
    hands.in_question(QMessageBox.StandardButton.Cancel, hands.window.close)
    assert hands.window.isVisible()


def test_a_folder_that_cannot_be_written_keeps_the_work(hands: Hands, tmp_path: Path) -> None:
    hands.click(hands.window.console.steppers["settings.fan"].up)
    assert not hands.window.save_to(tmp_path / "gone" / "x.mandorla")
    assert "cannot be written" in hands.message
    assert not hands.document.undo_stack.isClean()


def test_report_from_the_window(hands: Hands, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(suggestions, "BUDGET", 0.0)  # what checks say is tested where suggestions are
    hands.settled()
    target = tmp_path / "report.pdf"
    hands.in_file_dialog(target, lambda: hands.press("Ctrl+R"))
    hands.bot.waitUntil(lambda: "Report written" in hands.message, timeout=120000)
    pages = PdfReader(target).pages
    assert 2 <= len(pages) <= 8
    assert min(len(page.extract_text()) for page in pages) > 300, "no page for a line or two"


def test_report_without_a_part_is_explained(empty: Hands, tmp_path: Path) -> None:
    empty.window.write_report(tmp_path / "r.pdf")
    assert "needs a part" in empty.message


CHILD = """
    import sys
    from pathlib import Path
    from mandorla.ui.application import make_application
    from mandorla.ui.document import Document
    from mandorla.ui.main_window import MainWindow
    from mandorla.ui.preferences import Preferences
    from PySide6.QtCore import QTimer
    from tests.core.bundles import small_bundle
    app = make_application()
    preferences = Preferences()
    window = MainWindow(Document(small_bundle(), Path(sys.argv[1]), preferences.units), preferences)
    window.show()
    def work():
        window.document.edit("settings.fan", 0.35, "fan")
        window.document.keep_recovery_copy()
        window.document.copy_kept.connect(lambda: print("kept", flush=True))
    QTimer.singleShot(100, work)
    app.exec()
"""


@pytest.mark.slow
def test_work_comes_back_after_a_kill(open_window: Callable[..., Hands], tmp_path: Path) -> None:
    root = Path(__file__).resolve().parents[2]
    file = tmp_path / "original.mandorla"
    write_bundle(file, small_bundle())
    child = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(CHILD), str(file)], stdout=subprocess.PIPE, text=True, cwd=root,
        env=dict(os.environ),
    )  # fmt: skip
    assert child.stdout is not None
    assert child.stdout.readline() == "kept\n"
    child.send_signal(signal.SIGKILL)
    child.wait()
    child.stdout.close()
    assert read_bundle(file).project.settings.fan == 0.0
    hands = open_window()
    hands.window.recovering.look()
    assert "was not closed properly" in hands.message
    seen: list[str] = []

    def bring(dialog: RecoveryDialog) -> None:
        seen.extend(dialog.differs.item(n).text() for n in range(dialog.differs.count()))
        hands.click(dialog.bring)

    in_recovery_dialog(bring)
    with guarded():
        hands.click(hands.window.messages.action)
    hands.quick()
    assert seen == ["Part fan: 0.0 % → 35.0 %"], "what the copy has that the file has not"
    assert hands.document.project.settings.fan == pytest.approx(0.35)
    assert hands.document.path == file
    assert not hands.document.undo_stack.isClean(), "recovered work is not saved yet"
    assert read_bundle(file).project.settings.fan == 0.0, "the file is written only when the user saves"


def test_autosave_keeps_a_copy_while_there_is_unsaved_work(hands: Hands, tmp_path: Path) -> None:
    hands.click(hands.window.console.steppers["settings.fan"].up)
    hands.bot.waitUntil(lambda: any(recovery_folder().glob("*.mandorla")), timeout=15000)
    assert hands.window.save_to(tmp_path / "saved.mandorla")
    assert not any(recovery_folder().glob("*.mandorla"))


def test_spoiled_preferences_are_replaced_by_defaults(tmp_path: Path) -> None:
    home = Path(os.environ["MANDORLA_HOME"])
    home.mkdir(parents=True)
    (home / "preferences.json").write_text('{"dark": "maybe", "recent": [1, "a.mandorla"], "new": 3}')
    assert load_preferences() == Preferences(recent=["a.mandorla"])
    (home / "preferences.json").write_text("{")
    assert load_preferences() == Preferences()
