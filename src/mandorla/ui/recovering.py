"""What the last time left behind: work that was not closed properly, and crash files."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QMessageBox

from mandorla.core.errors import MandorlaError
from mandorla.core.folders import recovery_folder, state_folder
from mandorla.core.project.recovery import discard, find_recoverable, recover
from mandorla.ui.crash import crashes, put_away
from mandorla.ui.document import Document
from mandorla.ui.widgets.recovery_dialog import RecoveryDialog

if TYPE_CHECKING:
    from mandorla.ui.main_window import MainWindow


class Recovering:
    """Offers what was kept of work that a kill or a power cut ended."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window

    def look(self) -> None:
        """Offer work that killed windows left behind, else what went wrong the last time."""
        window, found = self._window, find_recoverable(recovery_folder())
        if found:
            who = f"“{found[0].project_name}” was" if len(found) == 1 else f"{len(found)} projects were"
            window.on_offer = self._recover
            window.messages.offer(f"{who} not closed properly; unsaved changes were kept.", "Show what was kept …")
            return
        crashed = crashes(state_folder())
        if crashed:
            window.on_offer = partial(self._show_crash, crashed)
            window.messages.offer(
                "Mandorla stopped with an internal error last time; a crash file was written.", "Show it"
            )

    def _show_crash(self, files: list[Path]) -> None:
        box = QMessageBox(self._window)
        box.setWindowTitle("Last crash")
        box.setText(f"Written in {files[0]}. Attach it, and what you did before, to a report.")
        box.setDetailedText(files[0].read_text(encoding="utf-8", errors="replace")[-20000:])
        box.exec()
        for file in files:
            put_away(file)

    def _recover(self) -> None:
        """Bring one kept copy back; unsaved work in hand is asked about first, the copy goes when a new one is kept."""
        window, found = self._window, find_recoverable(recovery_folder())
        if not found:
            return
        dialog = RecoveryDialog(window, found, window.preferences.units)
        dialog.exec()
        for given_up in dialog.given_up:
            discard(given_up)
        if dialog.chosen is None:
            return
        item = dialog.chosen
        try:
            bundle = recover(item)
        except MandorlaError as error:
            window.messages.complain(str(error))
            return
        if not window.may_leave():
            return
        document = Document(bundle, item.original, window.preferences.units)
        document.copy_kept.connect(lambda: discard(item))  # never a moment without a copy
        window.use_document(document)
        document.mark_unsaved()
        window.messages.say("Unsaved changes were restored; save them to keep them.")
