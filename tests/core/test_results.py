"""The results of a project: kept while nothing they depend on changed; every one reads only what it declares."""

from __future__ import annotations

import weakref
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from pydantic import BaseModel

from mandorla.core.project.paths import set_value
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.digest import _KEPT, _Known
from mandorla.core.results.kept_runs import encoded, entry_of
from mandorla.core.results.key import Cost, Key
from mandorla.core.results.registry import computes, forget, function_of
from mandorla.core.results.results import Kept, Results
from mandorla.core.run import noticed
from mandorla.core.run.disturbances import of_rig
from mandorla.core.runtime import RunContext
from tests.core.asked import SHARED
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

pytestmark = pytest.mark.usefixtures("computed_anew")

# the parameters with which a result is asked for here, and the project; the rest as declared, of the small project
ASKED: dict[str, tuple[str, dict[str, Any]]] = {
    "scenario": ("pinned", {"scenario": "Now"}),
    "build_heat_ups": ("pinned", {}),
    "energy_difference": ("pinned", {"scenario": "Now"}),
    "build_energy": ("pinned", {}),
    "machines": ("pinned", {"check": False}),
    "scenario_judgement": ("pinned", {"scenario": "Now", "check": False}),
    "strategies": ("tiny", {"check": False}),
    "optimum": ("small", {"check": False}),
    "window_through_runs": ("small", {"check": False}),
    "suggestions": ("small", {"check": False}),
    "openers": ("small", {"check": False}),
    "kept_run": ("kept", {"run": "run-1"}),
    "full_run": ("tiny", {"resolution": "draft", "bodies": "one"}),
    "compensation": ("tiny", {"resolution": "draft"}),
    "shape_variants": ("tiny", {}),
    "agreement": ("measured", {"resolution": "draft"}),
    "comparison": ("sessions", {"session": "session-1"}),
    "readings": ("sessions", {"session": "session-1"}),
    "log": ("sessions", {"session": "session-1"}),
    "image": ("sessions", {"session": "session-1"}),
    "heights": ("sessions", {"session": "session-1"}),
    "fit": ("sessions", {"sessions": ("session-1",), "day": "2026-05-04", "unknowns": None}),
}


def bundles() -> dict[str, Bundle]:
    """Projects that between them have everything that a result may read."""
    small = small_bundle()
    now = {"name": "Now", "settings": small.project.settings, "process": small.project.process}
    pinned = set_value(small.project, "scenarios", (now,))
    pinned = set_value(pinned, "builds", ({"name": "Kept", "rig": pinned.rig.model_dump()},))
    corner = {"name": "front-left", "lift": 0.0003}
    tiny = Bundle(small.project, {"block.stl": stl(block(40.0, 24.0, 8.0))})
    measured = set_value(small.project, "part.measured", {"corners": (corner,)})
    draft = keys.FULL_RUN.of(resolution="draft", bodies="one")
    entry = entry_of(draft, Results(tiny).digest(draft), "2026-05-04", tiny.project, "")
    run = encoded(Results(tiny, SHARED).get(draft))
    kept = Bundle(set_value(tiny.project, "runs", (entry,)), {**tiny.originals, entry.file: run})
    return {
        "kept": kept,
        "small": small,
        "pinned": Bundle(pinned, small.originals),
        "tiny": tiny,
        "measured": Bundle(measured, tiny.originals),
        "sessions": sample("boathouse"),
    }


BUNDLES = bundles()


def only(model: Any, paths: list[list[str]], key: Key[Any]) -> Any:
    """A copy of a model with nothing in it but what the paths name: anything else raises AttributeError."""
    if any(not path for path in paths):
        return model
    if isinstance(model, tuple):
        wanted = {path[0]: path[1:] for path in paths}
        names = {key[name[1:-1]] if name.startswith("{") else name: rest for name, rest in wanted.items()}
        return tuple(
            only(item, [rest], key)
            for item in model
            for given, rest in names.items()
            if given in (getattr(item, "key", None), getattr(item, "name", None))
        )
    if not isinstance(model, BaseModel):
        return model
    listed: dict[str, list[list[str]]] = {}
    for first, *rest in paths:
        listed.setdefault(first, []).append(rest)
    made = type(model).model_construct(**{name: only(getattr(model, name), rest, key) for name, rest in listed.items()})
    for name in type(model).model_fields:
        if name not in listed:
            made.__dict__.pop(name, None)
    return made


def asked_key(key: Key[Any]) -> tuple[Bundle, Key[Any]]:
    which, parameters = ASKED.get(key.name, ("small", {}))
    return BUNDLES[which], key.of(**parameters)


class Given:
    """What a result needs, computed before; other states it may look at from the whole project's."""

    experience = None

    def __init__(self, needs: dict[Key[Any], Any], whole: Results) -> None:
        self._needs, self._whole = needs, whole

    def __call__(self, key: Key[Any]) -> Any:
        return self._needs[key]

    def beside(self, bundle: Bundle) -> Results:
        project = self._whole.bundle.project.model_copy(update={"settings": bundle.project.settings})
        return Results(Bundle(project, self._whole.bundle.originals), SHARED)


@pytest.mark.parametrize("declared", keys.EVERY, ids=lambda k: k.name)
def test_a_result_reads_only_what_it_declares(declared: Key[Any], monkeypatch: pytest.MonkeyPatch) -> None:
    """Computed once from the whole project and once from one in which everything undeclared is missing: the same digest of reads
    gives the same value, so a kept value never stands for another state."""
    monkeypatch.setattr(noticed, "_SEEDS", (1,))  # one machine, broken once: minutes otherwise
    monkeypatch.setattr(noticed, "PHASES", {"heat": noticed.PHASES["heat"]})
    monkeypatch.setattr(noticed, "of_rig", lambda rig: of_rig(rig)[:1])
    bundle, key = asked_key(declared)
    whole = Results(bundle, SHARED)
    bare = Bundle(only(bundle.project, [p.split(".") for p in key.reads], key), bundle.originals)
    needs = {need: whole.get(need) for need in key.needs(key)}
    function_of(key)(key, bare, Given(needs, whole), RunContext())


@pytest.mark.parametrize("declared", keys.EVERY, ids=lambda k: k.name)
def test_every_result_has_a_function_and_a_title(declared: Key[Any]) -> None:
    assert callable(function_of(declared))
    assert declared.title[:1].isupper()
    assert all("." not in name for name in [declared.name])
    paths = [p.split(".")[0] for p in declared.reads]
    assert set(paths) <= set(type(BUNDLES["small"].project).model_fields)


def changed(bundle: Bundle, path: str, value: object) -> Bundle:
    return Bundle(set_value(bundle.project, path, value), bundle.originals)


def test_an_edit_drops_what_depends_on_it_and_nothing_else() -> None:
    bundle, kept = small_bundle(), Kept()
    first = Results(bundle, kept)
    first.get(keys.EVALUATION)
    other_fan = Results(changed(bundle, "settings.fan", 0.3), kept)
    assert other_fan.known(keys.HEAT_UP)
    assert other_fan.known(keys.GEOMETRY)
    assert not other_fan.known(keys.EVALUATION)
    other_bed = Results(changed(bundle, "settings.bed_first", 360.0), kept)
    assert not other_bed.known(keys.HEAT_UP)
    assert other_bed.known(keys.GEOMETRY)
    renamed = Results(changed(bundle, "name", "Another name"), kept)
    assert renamed.known(keys.EVALUATION)
    again = Results(changed(changed(bundle, "settings.fan", 0.3), "settings.fan", bundle.project.settings.fan), kept)
    assert again.get(keys.EVALUATION) is first.get(keys.EVALUATION), "taken back, the old value stands again"


def test_an_original_counts_by_its_content() -> None:
    bundle, kept = small_bundle(), Kept()
    Results(bundle, kept).get(keys.GEOMETRY)
    same = Bundle(bundle.project, {"block.stl": bytes(bytearray(bundle.originals["block.stl"]))})
    assert Results(same, kept).known(keys.GEOMETRY)
    data = bytearray(bundle.originals["block.stl"])
    data[100] ^= 1
    assert not Results(Bundle(bundle.project, {"block.stl": bytes(data)}), kept).known(keys.GEOMETRY)


def test_another_projects_measured_part_leaves_the_full_run_valid() -> None:
    kept, key = Kept(), keys.FULL_RUN.of(resolution="draft", bodies="one")
    plain, measured = Results(BUNDLES["tiny"], kept), Results(BUNDLES["measured"], kept)
    assert plain.digest(key) == measured.digest(key)
    assert plain.digest(keys.AGREEMENT) != measured.digest(keys.AGREEMENT)


TOY: Key[float] = Key("toy", "A toy result", ("settings.fan",), Cost.QUICK, lambda _: (keys.HEAT_UP,))


@pytest.fixture
def toy() -> Iterator[list[str]]:
    """A result added for a test and removed again; tells how often it was computed."""
    calls: list[str] = []

    @computes(TOY)
    def compute(key: Key[float], bundle: Bundle, have: Any, run: RunContext) -> float:
        calls.append(key.name)
        return float(bundle.project.settings.fan) + float(have(keys.HEAT_UP).steady.surface)

    yield calls
    forget(TOY)


def test_a_toy_result_is_added_kept_and_removed(toy: list[str]) -> None:
    bundle, kept = small_bundle(), Kept()
    one = Results(bundle, kept).get(TOY)
    assert one > 300.0
    assert Results(bundle, kept).get(TOY) == one
    assert toy == ["toy"]
    assert Results(changed(bundle, "settings.fan", 0.5), kept).get(TOY) == pytest.approx(one + 0.5)
    with pytest.raises(ValueError, match="two functions"):
        computes(TOY)(lambda *_: 1.0)


def test_a_result_that_nothing_computes_is_refused() -> None:
    with pytest.raises(KeyError):
        Results(small_bundle()).get(TOY)


def test_a_need_that_is_not_declared_is_refused() -> None:
    secret: Key[float] = Key("secret", "Asks for more", (), Cost.QUICK)
    computes(secret)(lambda key, bundle, have, run: float(have(keys.HEAT_UP).steady.surface))
    try:
        with pytest.raises(KeyError, match="does not declare"):
            Results(small_bundle()).get(secret)
    finally:
        forget(secret)


def test_kept_values_make_room_and_the_last_used_stay() -> None:
    kept = Kept()
    for i in range(40):
        kept.put(Cost.ON_DEMAND, bytes([i]), i)
        kept.get(Cost.ON_DEMAND, bytes([0]))
    assert kept.get(Cost.ON_DEMAND, bytes([0])) == 0
    assert kept.get(Cost.ON_DEMAND, bytes([39])) == 39
    assert kept.get(Cost.ON_DEMAND, bytes([5]), "gone") == "gone"


def test_what_was_digested_once_is_not_kept_for_ever() -> None:
    """A file of a project that was left is freed when a few other states have been digested, and one in use stays known."""
    known = _Known()
    file, used = np.zeros(1000), ("in use",)
    left = weakref.ref(file)
    known.get(file)
    for n in range(2 * _KEPT):
        known.get((n, "another state"))
        assert known.get(used) == known.get(used)
    del file
    assert left() is None
    assert id(used) in known._kept
    assert len(known._kept) == _KEPT
