"""Pictures of a print: small ones in a row; a click shows one whole, to be saved or taken away."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Final

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt, Signal
from PySide6.QtGui import QIcon, QImage, QImageReader, QPixmap
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from mandorla.core.errors import InputError
from mandorla.core.logbook.records import Picture
from mandorla.ui.widgets.flow import FlowRow
from mandorla.ui.widgets.form import soft

SMALL: Final = QSize(104, 72)
LARGE: Final = QSize(880, 620)
SHARE: Final = 0.6  # of the screen that a picture takes at most
MOST_PIXELS: Final = 100_000_000  # of a picture that is unpacked


def picture_of(data: bytes, within: QSize) -> QImage:
    """A picture unpacked no larger than ``within``. Raises :class:`InputError` for what is none, or is too large."""
    buffer = QBuffer()
    buffer.setData(QByteArray(data))
    buffer.open(QIODevice.OpenModeFlag.ReadOnly)
    reader = QImageReader(buffer)
    reader.setAutoTransform(True)
    size = reader.size()
    if size.width() * size.height() > MOST_PIXELS:
        raise InputError(f"The picture has {size.width()} x {size.height()} points: too many to be shown.")
    if size.isValid() and (size.width() > within.width() or size.height() > within.height()):
        # a picture that lies on its side is turned after it was made smaller
        turned = reader.transformation().value & 4  # QImageIOHandler.TransformationRotate90
        reader.setScaledSize(size.scaled(within.transposed() if turned else within, Qt.AspectRatioMode.KeepAspectRatio))
    image = reader.read()
    if image.isNull():
        raise InputError("This is no picture that can be read (PNG or JPEG).")
    return image


class PictureRow(QWidget):
    """The pictures of one print. ``load(picture, size, done)`` brings one; ``save`` and ``remove`` are told which is meant."""

    def __init__(
        self,
        load: Callable[[Picture, QSize, Callable[[QImage | None], None]], None],
        save: Callable[[Picture], None],
        remove: Callable[[Picture], None],
    ) -> None:
        super().__init__()
        self._load, self._save, self._remove = load, save, remove
        self._of: tuple[str, ...] = ()
        self.buttons: list[QToolButton] = []
        self.open: PictureDialog | None = None
        self.row = FlowRow()
        self.setLayout(self.row)
        self.hide()

    def show_pictures(self, pictures: Sequence[Picture]) -> None:
        """Show these; the same ones stay as they are."""
        keys = tuple(p.key for p in pictures)
        self.setVisible(bool(keys))
        if keys == self._of:
            return
        self._of = keys
        for old in self.buttons:
            self.row.removeWidget(old)
            old.deleteLater()
        self.buttons = []
        for picture in pictures:
            button = QToolButton()
            button.setIconSize(SMALL)
            button.setFixedSize(SMALL + QSize(8, 8))
            button.setAccessibleName(f"Picture {picture.name}")
            button.setToolTip(f"{picture.name}, {picture.at[:10]}")
            button.setText(picture.name)
            button.clicked.connect(partial(self.show_whole, picture))
            self.row.addWidget(button)
            self.buttons.append(button)
            self._load(picture, SMALL, partial(self._come, picture.key, button))

    def _come(self, key: str, button: QToolButton, image: QImage | None) -> None:
        if key not in self._of or button not in self.buttons:  # others are shown by now
            return
        if image is not None:
            button.setIcon(QIcon(QPixmap.fromImage(image)))
        else:
            button.setToolTip(f"{button.text()}: cannot be read")

    def show_whole(self, picture: Picture) -> None:
        """Show one as large as it fits."""
        dialog = self.open = PictureDialog(picture, self.window())  # a panel makes what lies in it transparent
        dialog.save.clicked.connect(partial(self._save, picture))
        dialog.taken_out.connect(partial(self._take_away, picture, dialog))
        self._load(picture, LARGE, dialog.show_image)
        dialog.show()

    def _take_away(self, picture: Picture, dialog: PictureDialog) -> None:
        dialog.close()
        self._remove(picture)


class PictureDialog(QDialog):
    """One picture with its name and day. Taking it out cannot be undone, so it is asked twice."""

    taken_out = Signal()

    def __init__(self, picture: Picture, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{picture.name}, {picture.at[:10]}")
        column = QVBoxLayout(self)
        self.image = QLabel("The picture is being read …")
        self.image.setAccessibleName(f"Picture {picture.name}")
        self.image.setMinimumSize(320, 220)
        self.image.setAlignment(Qt.AlignmentFlag.AlignCenter)
        column.addWidget(self.image, 1)
        row = QHBoxLayout()
        row.addWidget(soft(f"{picture.name}, kept {picture.at[:10]}"), 1)
        self.save, self.remove = QPushButton("Save a copy …"), QPushButton("Take it out of the logbook")
        self.shut = QPushButton("Close")
        self.shut.setDefault(True)
        self.shut.clicked.connect(self.close)
        self.remove.clicked.connect(self._ask)
        self._asked = False
        for button in (self.remove, self.save, self.shut):
            row.addWidget(button)
        column.addLayout(row)

    def _ask(self) -> None:
        if self._asked:
            self.taken_out.emit()
        self._asked = True
        self.remove.setText("Take it out: it is kept nowhere else")

    def show_image(self, image: QImage | None) -> None:
        """What came: the picture, or nothing that can be shown."""
        if image is None:
            self.image.setText("This picture cannot be read any more.")
            return
        room = self.screen().availableSize()
        within = QSize(int(SHARE * room.width()), int(SHARE * room.height()))
        if image.width() > within.width() or image.height() > within.height():
            image = image.scaled(within, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
        self.image.setPixmap(QPixmap.fromImage(image))
        self.image.setMinimumSize(image.size())
        self.resize(self.sizeHint())
