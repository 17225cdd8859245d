"""The plates at hand: one is picked, its body and both its sides are edited; added, removed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final, cast

from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QPushButton, QVBoxLayout

from mandorla.core.errors import InputError
from mandorla.core.materials.library_data import polymers
from mandorla.core.materials.plate_library import finishes, plate_bodies, plate_surfaces
from mandorla.core.part.plates import MOST_PLATES, OwnGrip, Plate, PlateSide, SideName, UseRange
from mandorla.core.rig.bed import free_key
from mandorla.core.units import celsius
from mandorla.ui.document import Document
from mandorla.ui.widgets.fields import ChoiceEdit
from mandorla.ui.widgets.form import Form, heading, soft
from mandorla.ui.widgets.pick_list import PickList
from mandorla.ui.widgets.row_list import Column, RowKind, RowList

_MOST_ROWS: Final = 40
_SURFACE_OF: Final = {  # what a new plate of a body is printed on
    "sheet_with_film": "polyetherimide_textured", "bare_sheet": "bare_spring_steel", "film_on_magnet": "polyetherimide_smooth",
    "mirror_tile": "mirror_back", "laminate_sheet": "glass_fibre_laminate",
}  # fmt: skip


def new_plate(body: str, taken: set[str]) -> Plate:
    """A new plate of a body, both sides alike where it has two."""
    kind = plate_bodies()[body]
    side = PlateSide(surface=_SURFACE_OF.get(body, "bare_glass"))
    key = free_key(kind.name, taken)
    number = key.rpartition("-")[2]
    name = f"{kind.name} {number}" if number.isdigit() else kind.name
    return Plate(key=key, name=name, body=body, front=side, back=side if kind.both_sides else None)


class PlateEditor(QFrame):
    """A list of plates, and the form of the picked one."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document, self._picked = document, 0
        self._side: SideName = "front"
        self._shape: object = None
        self._form: Form | None = None
        self._lists: list[RowList] = []
        self.setObjectName("panel")
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(12, 10, 12, 12)
        self._column.setSpacing(6)
        self._column.addWidget(heading("Plates at hand"))
        self.plates = PickList("Plates at hand")
        self.plates.picked.connect(self._pick)
        self._column.addWidget(self.plates)
        row = QHBoxLayout()
        self.body = QComboBox()
        self.body.setAccessibleName("Body of a new plate")
        for key, kind in plate_bodies().items():
            self.body.addItem(kind.name, key)
        self.body.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.body.setMinimumContentsLength(10)
        self.add_button, self.remove_button = QPushButton("Add"), QPushButton("Remove")
        self.add_button.setAccessibleName("Add a plate")
        self.remove_button.setAccessibleName("Remove the picked plate")
        self.add_button.clicked.connect(self._add)
        self.remove_button.clicked.connect(self._remove)
        row.addWidget(self.body, 1)
        row.addWidget(self.add_button)
        row.addWidget(self.remove_button)
        self._column.addLayout(row)
        self.none = soft("None yet: add the plates that you own, with their sides, age and own figures.")
        self._column.addWidget(self.none)
        row = QHBoxLayout()
        self.sides: dict[SideName, QPushButton] = {}
        for name, text in (("front", "Front"), ("back", "Back")):
            button = QPushButton(text)
            button.setCheckable(True)
            button.setAccessibleName(f"Edit the {name} of the plate")
            side = cast("SideName", name)
            button.clicked.connect(lambda _=False, s=side: self._turn(s))
            self.sides[side] = button
            row.addWidget(button)
        row.addStretch(1)
        self._column.addLayout(row)
        document.project_changed.connect(self.refresh)
        self.refresh()

    @property
    def _plates(self) -> tuple[Plate, ...]:
        return self._document.project.process.plates

    def refresh(self) -> None:
        """Show the plates and the picked one's form."""
        plates = self._plates
        self._picked = min(self._picked, max(0, len(plates) - 1))
        self.plates.setVisible(bool(plates))
        self.none.setVisible(not plates)
        texts = [f"{p.name}{' · in use' if p.key == self._document.project.process.plate else ''}" for p in plates]
        self.plates.show_items(texts, self._picked)
        rows = sum(max(24, self.plates.sizeHintForRow(i)) for i in range(len(plates)))
        self.plates.setFixedHeight(min(160, rows + 8))
        self.add_button.setEnabled(len(plates) < MOST_PLATES)
        self.remove_button.setEnabled(bool(plates))
        plate = plates[self._picked] if plates else None
        if plate is not None and plate.side(self._side) is None:
            self._side = "front"
        for name, button in self.sides.items():
            button.setVisible(plate is not None)
            button.setChecked(name == self._side)
            button.setEnabled(plate is not None and plate.side(name) is not None)
        shape = None if plate is None else (self._picked, plate.key, self._side, plate.back is None)
        if shape != self._shape:
            self._shape = shape
            self._build(plate)

    def _build(self, plate: Plate | None) -> None:
        for old in (self._form, *self._lists):
            if old is not None:
                self._column.removeWidget(old)
                old.hide()
                old.deleteLater()
        self._form, self._lists = None, []
        if plate is None:
            return
        base = f"process.plates.{self._picked}"
        side, form = f"{base}.{self._side}", Form(self._document)
        form.add_field(f"{base}.name", "Name")
        bodies: dict[object, str] = {k: b.name for k, b in plate_bodies().items()}
        form.add_widget("Body", ChoiceEdit(self._document, f"{base}.body", "Body", bodies))
        form.add_field(f"{base}.thickness", without="as usual")
        form.add_wide(heading(f"Its {self._side}"))
        surfaces: dict[object, str] = {k: s.name for k, s in plate_surfaces().items()}
        form.add_widget("Surface", ChoiceEdit(self._document, f"{side}.surface", f"Surface, {self._side}", surfaces))
        kinds: dict[object, str] = {"": "As usual for it", **{k: f.name for k, f in finishes().items()}}
        form.add_widget("Finish", ChoiceEdit(self._document, f"{side}.finish", f"Finish, {self._side}", kinds))
        form.add_field(f"{side}.texture_depth", without="by its finish")
        form.add_field(f"{side}.prints")
        form.add_field(f"{side}.worn", without="by its prints")
        form.add_field(f"{side}.highest", without="as its surface")
        self._form = form
        self._column.addWidget(form)
        for kind in (_ranges(side), _grips(side, self._document)):
            rows = RowList(self._document, kind)
            self._lists.append(rows)
            self._column.addWidget(rows)

    def _pick(self, row: int) -> None:
        self._picked = row
        self.refresh()

    def _turn(self, side: SideName) -> None:
        self._side = side
        self.refresh()

    def _add(self) -> None:
        plate = new_plate(self.body.currentData(), {p.key for p in self._plates})
        self._picked = len(self._plates)
        self._set((*self._plates, plate), {}, f"Add {plate.name}")

    def _remove(self) -> None:
        gone = self._plates[self._picked]
        first = (
            {"process.plate": "", "process.side": "front"} if gone.key == self._document.project.process.plate else {}
        )
        left = tuple(p for p in self._plates if p.key != gone.key)
        self._set(left, first, f"Remove {gone.name}")

    def _set(self, plates: tuple[Plate, ...], first: Mapping[str, object], label: str) -> None:
        try:
            self._document.edit_many({**first, "process.plates": tuple(p.model_dump() for p in plates)}, label)
        except InputError as error:
            self._document.problem.emit(str(error))


def _named() -> dict[object, str]:
    return {k: p.name for k, p in polymers().items()}


def _ranges(side: str) -> RowKind:
    columns = (Column("polymer", "Polymer", _named), Column("lowest", "Used from"), Column("highest", "Used up to"))
    return RowKind(
        f"{side}.ranges", "range of use", columns, lambda: UseRange(polymer="pla", lowest=celsius(20), highest=celsius(60)),
        _MOST_ROWS, "No ranges of its maker: the surface's usual one counts.",
    )  # fmt: skip


def _grips(side: str, document: Document) -> RowKind:
    columns = (
        Column("polymer", "Polymer", _named),
        Column("grip", "Grip over the library's"),
        Column("within", "Known to a factor of"),
    )
    return RowKind(
        f"{side}.grips", "own figure", columns, lambda: OwnGrip(polymer=document.project.process.polymer, within=1.5), _MOST_ROWS,
        "No own figures of its grip.",
    )  # fmt: skip
