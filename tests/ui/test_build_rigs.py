"""The three rigs of the demo workshop are built from nothing in the window, and give the same figures on the command line."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.failure.state import State
from mandorla.core.project.samples import SAMPLES, new_bundle, sample
from mandorla.core.results import keys
from mandorla.core.rig.model import Rig
from tests.ui.builder import Builder
from tests.ui.conftest import Hands

pytestmark = pytest.mark.gui


def close(a: object, b: object, where: str = "rig") -> None:
    """Equal up to the twelve digits that were typed."""
    if isinstance(a, float) and isinstance(b, float):
        assert a == pytest.approx(b, rel=1e-9, abs=1e-12), where
    elif isinstance(a, dict) and isinstance(b, dict):
        assert a.keys() == b.keys(), where
        for key in a:
            close(a[key], b[key], f"{where}.{key}")
    elif isinstance(a, list | tuple) and isinstance(b, list | tuple):
        assert len(a) == len(b), where
        for i, (x, y) in enumerate(zip(a, b, strict=True)):
            close(x, y, f"{where}.{i}")
    else:
        assert a == b, where


def what_counts(rig: Rig) -> dict[str, object]:
    """A rig's data without keys and sources, and without the size of a chamber that is not there."""
    data = rig.model_dump()
    bed = data["bed"]
    names = {layer.pop("key"): layer["name"] for layer in bed["layers"]}
    for place in (bed["heater"], bed["sensor"], *bed["fuses"], *bed["spots"]):
        place["layer"] = names[place["layer"]]
    for consumer in data["plug"]["consumers"] or ():
        del consumer["key"], consumer["origin"]
    if not rig.chamber.enclosed:
        del data["chamber"]
    return data


@pytest.mark.parametrize("key", sorted(SAMPLES))
def test_a_rig_is_built_from_nothing(
    open_window: Callable[..., Hands], tmp_path: Path, capsys: pytest.CaptureFixture[str], key: str
) -> None:
    target = sample(key).project
    hands = open_window(new_bundle())
    builder = Builder(hands, target.rig)
    builder.build(target.settings)
    hands.quick()
    assert builder.typed > 25
    close(what_counts(hands.document.project.rig), what_counts(target.rig))
    close(hands.document.project.settings.model_dump(), target.settings.model_dump())
    e = hands.evaluation
    assert e is not None
    assert e.heat.status == "ready"
    assert abs(e.heat.closure) < 1e-6

    # checks with reasons, and what to buy and when
    hands.view("checks")

    def checked() -> bool:
        # checks of the last edit may still be on their way
        found = hands.page.checks_view.list.checks
        return len(found) > 5 and all(c.state is not State.FAILS for c in found)

    hands.bot.waitUntil(checked, timeout=10000)
    hands.view("build")
    assert len(hands.page.build_view.items) >= len(target.rig.bed.layers) + 3
    assert hands.page.build_view.days[-1].work.what.startswith("Full warm-up")

    # every view of Heat-up has its figures
    hands.stage(2)
    hands.bot.waitUntil(lambda: hands.surface is not None and hands.bands is not None, timeout=40000)
    solid = hands.surface
    assert abs(solid.closure) < 1e-6
    # a switching thermostat swings: means over some of its cycles are compared
    last = solid.time > solid.time[-1] - 400.0
    quick = [e.heat.at(float(t), e.heat.surface) for t in solid.time[last]]
    assert solid.centre[last].mean() == pytest.approx(sum(quick) / len(quick), abs=0.6)
    page = hands.page
    hands.view("across")
    hands.bot.waitUntil(lambda: "Along the line" in page.across.sentence.text(), timeout=5000)
    hands.view("balance")
    hands.settled()
    assert "Holding takes" in page.balances.sentence.text()
    flows = sum(value for _, value, _ in page.balances.bed_now.rows)
    assert flows == pytest.approx(e.heat.steady.power, rel=1e-3)
    hands.view("flatness")
    hands.settled()
    assert "Peak to valley" in page.flatness.mounts_note.text()
    hands.view("regulation")
    assert hands.wait_for(keys.REGULATION).tuning.then.overshoot <= target.criteria.ready_band + 0.5
    hands.view("fault")
    fault = hands.wait_for(keys.FAULT)

    # the command line says the same
    path = tmp_path / f"{key}.mandorla"
    hands.document.save(path)
    assert run(["heatup", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["surface"]["value"] == pytest.approx(e.heat.steady.surface, abs=1e-6)
    assert told["ready_time"]["value"] == pytest.approx(e.heat.ready_time)
    assert run(["fault", str(path), "--fault", "relay-on", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["peak"][target.rig.bed.layer(target.rig.bed.heater.layer).name]["value"] == pytest.approx(
        float(fault.peak[target.rig.bed.layer_index(target.rig.bed.heater.layer)]), abs=1e-6
    )
    assert run(["check", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["status"] in ("holds", "marginal")
    assert run(["check", str(path)]) == 0
    assert "certify nothing" in capsys.readouterr().out


def test_rigs_of_the_workshop_open_from_the_menu(hands: Hands) -> None:
    hands.document.undo_stack.setClean()
    action = next(a for a in hands.window.sample_menu.actions() if "Kiln" in a.text())
    action.trigger()
    hands.quick()
    assert hands.document.project.rig.name == "Kiln 500"
    assert "Kiln 500" in hands.window.subtitle.text()
