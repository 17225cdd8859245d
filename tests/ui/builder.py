"""Builds a whole rig from nothing in the window, field by field, with mouse and keyboard."""

from __future__ import annotations

from PySide6.QtCore import QPointF

from mandorla.core.project.paths import get_value, meaning_at
from mandorla.core.rig.bed import Outline
from mandorla.core.rig.chamber import SIDES
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.units import KINDS
from tests.ui.conftest import Hands


class Builder:
    """Goes through the views of the Rig stage and enters what a given rig has."""

    def __init__(self, hands: Hands, rig: Rig) -> None:
        self.hands, self.rig, self.typed = hands, rig, 0

    def enter(self, path: str) -> None:
        """Type the rig's value into the visible field of a path, where it differs."""
        wanted: object = self.rig
        for name in path.removeprefix("rig.").split("."):
            wanted = wanted[int(name)] if name.isdigit() else getattr(wanted, name)  # type: ignore[index]
        self._type(path, wanted)

    def _type(self, path: str, wanted: object) -> None:
        project = self.hands.document.project
        if get_value(project, path) == wanted:
            return
        meaning = meaning_at(project, path)
        text = str(wanted)
        if meaning is not None:
            unit = KINDS[meaning.kind][0]
            text = f"{unit.from_si(float(wanted)):.12g} {unit.symbol}".strip()  # type: ignore[arg-type]
        self.hands.type_into(self.hands.field(path), text)
        self.typed += 1

    def pick(self, path: str, wanted: object) -> None:
        """Choose from the list of a path."""
        self.hands.choose(path, wanted)

    def build(self, settings: Settings) -> None:
        """Everything, in an order in which nothing contradicts anything on the way."""
        hands = self.hands
        hands.stage(1)
        self._name_and_size()
        self._layers()
        self._heater()
        self._plan()
        self._chamber()
        self._power()
        self._limits()
        steppers = hands.window.console.steppers
        for name in Settings.model_fields:
            value = getattr(settings, name)
            path = f"settings.{name}"
            if get_value(hands.document.project, path) != value:
                unit = KINDS[meaning_at(hands.document.project, path).kind][0]
                hands.type_into(steppers[path].editor, f"{unit.from_si(value):.12g} {unit.symbol}")
        hands.quick()

    def _name_and_size(self) -> None:
        hands, bed = self.hands, self.rig.bed
        hands.view(0)
        hands.tab(hands.page.stack_view.tabs, 1)
        self.enter("rig.name")
        smaller = bed.width < hands.document.project.rig.bed.width
        heated, outer = ("rig.bed.heater.width", "rig.bed.heater.depth"), ("rig.bed.width", "rig.bed.depth")
        for path in (*heated, *outer) if smaller else (*outer, *heated):
            self.enter(path)

    def here(self, key: str) -> str:
        """The key in the project of the layer that the wanted rig has under a key: the same name has the same place."""
        name = self.rig.bed.layer(key).name
        return next(v.key for v in self.hands.document.project.rig.bed.layers if v.name == name)

    def _layers(self) -> None:
        hands, view, layers = self.hands, self.hands.page.stack_view, self.rig.bed.layers
        while len(hands.document.project.rig.bed.layers) < len(layers):
            self._click_layer(len(hands.document.project.rig.bed.layers) - 1)
            hands.click(view.add_button)
        hands.tab(view.tabs, 0)
        for i, layer in enumerate(layers):
            self._click_layer(i)
            base = f"rig.bed.layers.{i}"
            self.enter(f"{base}.name")
            self.pick(f"{base}.material", layer.material)
            self.enter(f"{base}.thickness")
            self.pick(f"{base}.joint", layer.joint)
            self.enter(f"{base}.contact_resistance")
            hands.switch(f"{base}.bonded", layer.bonded)
            if layer.outline is not None:
                hands.click(hands.button("Enter an own outline", view.tabs))
                self.pick(f"{base}.outline.shape", layer.outline.shape)
                for name in ("width", "depth", "x", "y"):
                    self.enter(f"{base}.outline.{name}")

    def _click_layer(self, index: int) -> None:
        section = self.hands.page.stack_view.section
        self.hands.click(section, section.boxes()[index].center() + QPointF(150, 0))
        assert section.index == index

    def _heater(self) -> None:
        hands, bed = self.hands, self.rig.bed
        view = hands.page.stack_view
        hands.tab(view.tabs, 1)
        self.pick("rig.bed.heater.layer", self.here(bed.heater.layer))
        self.pick("rig.bed.heater.kind", bed.heater.kind)
        hands.switch("rig.bed.heater.mains", bed.heater.mains)
        hands.switch("rig.bed.earthed", bed.earthed)
        for name in ("power", "voltage", "resistance_coefficient"):
            self.enter(f"rig.bed.heater.{name}")
        self.pick("rig.bed.sensor.layer", self.here(bed.sensor.layer))
        for name in ("depth_fraction", "bias", "time_constant"):
            self.enter(f"rig.bed.sensor.{name}")
        self.pick("rig.bed.control.kind", bed.control.kind)
        for name in ("proportional_band", "integral_time", "derivative_time", "hysteresis", "power_limit"):
            self.enter(f"rig.bed.control.{name}")
        for i, fuse in enumerate(bed.fuses):
            hands.click(hands.button("Add fuse", view.tabs))
            self.pick(f"rig.bed.fuses.{i}.layer", self.here(fuse.layer))
            self.enter(f"rig.bed.fuses.{i}.rating")

    def _plan(self) -> None:
        hands, bed = self.hands, self.rig.bed
        hands.view(1)
        view = hands.page.plan_view
        self.pick("rig.bed.shape", bed.shape)
        self.pick("rig.bed.mounts", bed.mounts)
        hands.switch("rig.bed.moves", bed.moves)
        self.enter("rig.bed.sensor.x")
        self.enter("rig.bed.sensor.y")
        for i, zone in enumerate(bed.heater.zones):
            hands.click(hands.button("Add zone", view))
            base = f"rig.bed.heater.zones.{i}"
            self.pick(f"{base}.outline.shape", zone.outline.shape)
            for name in Outline.model_fields:
                if name != "shape":
                    self.enter(f"{base}.outline.{name}")
            self.enter(f"{base}.share")
        for i, spot in enumerate(bed.spots):
            hands.click(hands.button("Add spot", view))
            base = f"rig.bed.spots.{i}"
            self.pick(f"{base}.kind", spot.kind)
            self.pick(f"{base}.layer", self.here(spot.layer))
            for name in ("x", "y", "diameter", "conductance"):
                self.enter(f"{base}.{name}")

    def _chamber(self) -> None:
        hands, c, room = self.hands, self.rig.chamber, self.rig.room
        hands.view(2)
        view = hands.page.chamber_view
        hands.tab(view.tabs, 1)
        for name in ("width", "depth", "height", "bed_height"):
            self.enter(f"rig.chamber.{name}")
        hands.switch("rig.chamber.enclosed", c.enclosed)
        for name in (
            "air_changes", "vent_area", "exhaust_flow", "exhaust_fraction", "circulation", "circulation_flow", "door.width",
            "door.height", "door.opens_at", "door.open_for",
        ):  # fmt: skip
            self.enter(f"rig.chamber.{name}")
        hands.tab(view.tabs, 2)
        self.pick("rig.chamber.heater_air", c.heater_air)
        self.pick("rig.chamber.sensor_air", c.sensor_air)
        for name in (
            "heater_power", "sensor_bias", "sensor_time_constant", "internal_mass", "internal_area",
        ):  # fmt: skip
            self.enter(f"rig.chamber.{name}")
        hands.tab(view.tabs, 3)
        self.enter("rig.room_temperature")
        self.pick("rig.room.kind", room.kind)
        self.enter("rig.draft")
        self.enter("rig.room.draft_cooler")
        self.pick("rig.room.draft_from", room.draft_from)
        if c.enclosed:
            self._panels()

    def _panels(self) -> None:
        """Panel by panel: a usual build first, then what differs from it."""
        hands, view = self.hands, self.hands.page.chamber_view
        hands.tab(view.tabs, 0)
        from mandorla.core.materials.library_data import wall_builds
        from mandorla.core.rig.chamber import panel_of

        for side in SIDES:
            wanted = getattr(self.rig.chamber.panels, side)
            hands.click(view.net, view.net.boxes()[side].center())
            assert view.net.side == side
            names = tuple(layer.material for layer in wanted.layers)
            near = [k for k in wall_builds() if tuple(a.material for a in panel_of(k).layers) == names]
            exact = [k for k in near if panel_of(k).layers == wanted.layers]
            self.pick(f"rig.chamber.panels.{side}.build", (exact or near)[0])
            for i in range(len(wanted.layers)):
                self.enter(f"rig.chamber.panels.{side}.layers.{i}.thickness")
            hands.switch(f"rig.chamber.panels.{side}.foil", wanted.foil)

    def _power(self) -> None:
        """Consumers one by one, the ends of their ranges out of the way first."""
        hands, plug = self.hands, self.rig.plug
        hands.view("power")
        view = hands.page.stage_page.view_of("power")
        for name in ("high", "typical", "low"):
            self.enter(f"rig.plug.hot_end.{name}")
        if plug.consumers is None:
            return
        hands.click(view.own_button)
        while len(hands.document.project.rig.plug.consumers) > len(plug.consumers):
            hands.click(view.remove_button)
        while len(hands.document.project.rig.plug.consumers) < len(plug.consumers):
            hands.click(view.add_button)
        for i in range(len(plug.consumers)):
            view.table.selectRow(i)
            base = f"rig.plug.consumers.{i}"
            hands.type_into(hands.field(f"{base}.power_low"), "0 W")
            hands.type_into(hands.field(f"{base}.power_high"), "20000 W")
            for name in ("name", "power", "power_low", "power_high", *(d.value for d in Doing), "inside", "upper"):
                self.enter(f"{base}.{name}")

    def _limits(self) -> None:
        hands = self.hands
        hands.view(0)
        hands.tab(hands.page.stack_view.tabs, 2)
        for name in type(self.rig.limits).model_fields:
            self.enter(f"rig.limits.{name}")
