"""How a window looks and reads: theme, units, what is folded away; kept as the user's preferences."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from mandorla.ui.decimal_sign import use_comma
from mandorla.ui.help_window import TEXTS
from mandorla.ui.preferences_dialog import PreferencesDialog
from mandorla.ui.theme.palette import DARK, LIGHT

if TYPE_CHECKING:
    from mandorla.ui.main_window import MainWindow
    from mandorla.ui.preferences import Preferences


class Appearance:
    """The view menu of a window and what it does."""

    def __init__(self, window: MainWindow) -> None:
        self._window = window
        self.switches: dict[str, QAction] = {}

    def fill(self, menu: QMenu, make: Callable[..., QAction]) -> None:
        """Put the switches into a menu; ``make(text, slot, keys)`` makes an action of the window."""
        liked = self._window.preferences
        for name, text, keys in (
            ("dark", "Dark theme", "Ctrl+D"), ("fahrenheit", "Degrees Fahrenheit", None), ("inches", "Inches", None),
            ("folded_console", "Console as one line", "F9"), ("folded_sides", "Picture without side panels", "F10"),
        ):  # fmt: skip
            action = make(text, lambda n=name: self._toggle(n), keys)
            action.setCheckable(True)
            action.setChecked(getattr(liked, name))
            menu.addAction(action)
            self.switches[name] = action
        menu.addSeparator()
        menu.addAction(make("Preferences …", self.edit))
        menu.addSeparator()
        menu.addAction(make("Tour of the demo workshop", self._window.beginnings.show_tour))
        for name, title in list(TEXTS.items())[1:]:  # the guide has a key of its own
            menu.addAction(make(title, lambda n=name: self._window.beginnings.show_text(n)))

    def _toggle(self, name: str) -> None:
        liked = self._window.preferences
        setattr(liked, name, not getattr(liked, name))
        self._apply(name)
        self.save()

    def _apply(self, name: str) -> None:
        window, liked = self._window, self._window.preferences
        self.switches[name].setChecked(getattr(liked, name))
        if name == "dark":
            window.theme = DARK if liked.dark else LIGHT
            window.apply_theme()
        elif name in ("fahrenheit", "inches"):
            window.document.set_units(liked.units)
        elif name == "folded_console":
            window.console.fold(liked.folded_console)
        else:
            for page in window.built.values():
                page.fold_sides(liked.folded_sides)

    def edit(self) -> None:
        """Ask for all preferences at once."""
        window = self._window
        dialog = PreferencesDialog(window, window.preferences)
        dialog.exec()
        if dialog.taken is not None and dialog.taken != window.preferences:
            before = window.preferences
            self.take(dialog.taken)
            if not window.messages.offers:  # what a crash left is not pushed aside
                window.on_offer = lambda: self.take(before)
                window.messages.offer("The preferences were changed.", "Put the old ones back")

    def take(self, wanted: Preferences) -> None:
        """Use other preferences from now on."""
        window, before = self._window, self._window.preferences
        window.preferences = wanted
        for name in self.switches:
            if getattr(before, name) != getattr(wanted, name):
                self._apply(name)
        if before.comma != wanted.comma:
            use_comma(wanted.comma)
            window.document.set_units(wanted.units)
        self.save()

    def save(self) -> None:
        """Keep the preferences; says so where that cannot be done."""
        try:
            self._window.preferences.save()
        except OSError as error:
            self._window.messages.complain(f"The preferences could not be kept: {error.strerror}.")
