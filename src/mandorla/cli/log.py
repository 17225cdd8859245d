"""``mandorla log``: the workshop's logbook: prints and how they ended, comparisons, trials, what was learned; export and import."""

from __future__ import annotations

import argparse
import json
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from mandorla.cli.command import Command, Output
from mandorla.cli.output import UNITS, as_json
from mandorla.core.errors import InputError
from mandorla.core.logbook.place import default_path
from mandorla.core.project.atomic import write_atomically
from mandorla.core.project.paths import get_value
from mandorla.core.project.store import bundle_bytes, read_bundle
from mandorla.core.results.keys import LADDER_PRIOR, PRINT_ENTRY, SETTINGS_CHECK
from mandorla.core.results.results import Results
from mandorla.core.units import KINDS, parse_quantity

if TYPE_CHECKING:
    from mandorla.core.logbook.records import Print, Trial
    from mandorla.core.logbook.workshop import Workshop

ACTIONS: Final = ("add", "list", "compare", "trial", "ladder", "learn", "export", "import", "rescue")
_EFFECT: Final = re.compile(
    r"^(?P<way>[a-z_]+)(@(?P<low>[^:x]*?)(-(?P<high>[^:x]+))?)?(:(?P<lift>[^x]+))?(x(?P<count>\d+))?$"
)


class PrintOutput(Output):
    """A print: what was predicted (chance that anything fails) and what came out."""

    number: int
    key: str
    at: str
    name: str
    predicted: float | None
    outcome: str
    entered: bool


class LearnedOfPrints(Output):
    """An unknown that prints share, in the library's standard deviations: mean and standard deviation (0 and 1 before)."""

    name: str
    mean: float
    spread: float


class NoticeOutput(Output):
    """A side that grips less than it did."""

    plate: str
    side: str
    prints: list[int]
    evidence: float


class LogOutput(Output):
    """What ``mandorla log --json`` prints; what an action does not tell is empty."""

    action: str
    sentence: str
    prints: list[PrintOutput]
    differences: list[dict[str, str]]
    chance_first_worse: float | None
    next: str | float | None
    learned: list[LearnedOfPrints]
    notices: list[NoticeOutput]
    files: list[str]
    new: int
    known: int
    other: int


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=ACTIONS, help="what to do")
    parser.add_argument(
        "what", nargs="*", metavar="…",
        help="add, ladder, learn: a project; compare: two groups of numbers, 3,4,7 9,12; trial, ladder: a name; export, import, "
        "rescue: a .json file or a folder",
    )  # fmt: skip
    parser.add_argument("--logbook", type=Path, metavar="FILE", help="the book; else the workshop's own")
    parser.add_argument("--units", choices=sorted(UNITS), default="metric", help="of the text")
    parser.add_argument("--json", action="store_true", help="print one JSON object")
    parser.add_argument(
        "--no-check", action="store_true", help="add: keep the quick estimate's word, without a full simulation"
    )
    parser.add_argument("--number", type=int, metavar="N", help="add: the print whose end is entered")
    parser.add_argument("--machine", default="", help="add: the machine's name; else the rig's")
    parser.add_argument("--plate", default="", help="add: the plate's name; else the one of the project")
    parser.add_argument("--spool", default="", help="add: the spool's name")
    parser.add_argument("--prepared", default="", choices=("", "washed", "wiped", "nothing", "coated"), help="add")
    parser.add_argument("--at", default="", metavar="WHEN", help="add: when it began, 2026-11-28T16:30")
    parser.add_argument("--held", action="store_true", help="add: it held")
    parser.add_argument(
        "--failed", action="append", default=[], metavar="WAY[@LOW-HIGH][:LIFT][xN]",
        help="add: what was seen: adhesion@20mm-40mm (sound at 20, seen at 40), flatness:1.2mm, loose_plate, cracks, tipping, …",
    )  # fmt: skip
    parser.add_argument("--accident", default="", metavar="TEXT[@HEIGHT]", help="add: it ended by another cause")
    parser.add_argument("--copies", type=int, default=1)
    parser.add_argument("--good", type=int, help="add: how many copies are good")
    parser.add_argument("--energy", default="", metavar="1.2kWh", help="add: at the plug, as measured")
    parser.add_argument("--note", default="")
    parser.add_argument("--trial", default="", metavar="NAME", help="add: the trial that it belongs to")
    parser.add_argument("--arm", default="", help="add: which arm it is")
    parser.add_argument("--arms", default="", metavar="A,B", help="trial: begin one with these arms")
    parser.add_argument("--pairs", type=int, default=10, help="trial: pairs at most")
    parser.add_argument("--question", default="", help="trial, ladder: what it asks")
    parser.add_argument("--setting", default="settings.bed_rest", help="ladder: the setting that is climbed")
    parser.add_argument("--direction", default="up", choices=("up", "down"), help="ladder: from which end")
    parser.add_argument("--search", default="", metavar="TEXT", help="list: only where it stands")


def _length(text: str, what: str) -> float:
    return parse_quantity(text, "length", next(u for u in KINDS["length"] if u.scale == 1.0), what)


def _effects(texts: Sequence[str]) -> list[dict[str, Any]]:
    from mandorla.core.failure.registry import ways_to_fail

    known, found = {w.key for w in ways_to_fail()}, []
    for text in texts:
        m = _EFFECT.match(text)
        if m is None or m["way"] not in known:
            raise InputError(f"--failed {text}: write WAY[@LOW-HIGH][:LIFT][xN]; ways are {', '.join(sorted(known))}.")
        low, high = m["low"], m["high"]
        if low and high is None:
            low, high = None, low
        found.append({
            "way": m["way"], "low": _length(low, "height") if low else 0.0,
            "high": _length(high, "height") if high else None, "lift": _length(m["lift"], "lift") if m["lift"] else None,
            "count": int(m["count"] or 1),
        })  # fmt: skip
    return found


def _outcome(options: argparse.Namespace) -> Any:
    """How it ended, or None where nothing is said. Raises InputError."""
    from mandorla.core.logbook.records import Outcome, checked

    if not (options.held or options.failed or options.accident or options.good is not None):
        return None
    accident, _, at = options.accident.partition("@")
    good = options.good if options.good is not None else 0 if options.failed and options.copies == 1 else options.copies
    values = {
        "held": not options.failed, "effects": _effects(options.failed), "copies": options.copies, "good": good,
        "accident": accident, "accident_at": _length(at, "height") if at else None, "note": options.note,
    }  # fmt: skip
    return checked(Outcome, values)


def _add(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.messages import print_line

    outcome = _outcome(options)
    if options.number is not None:
        if outcome is None:
            raise InputError("Say how it ended: --held, --failed, --accident, or --good with --copies.")
        done = shop.end(shop.numbered(options.number).key, outcome, energy=_energy(options))
        return {"sentence": print_line(done, _names(shop), UNITS[options.units]).strip(), "prints": [done]}
    if len(options.what) != 1:
        raise InputError("add takes one project, or --number N with how it ended.")
    bundle = read_bundle(Path(options.what[0]))
    results = Results(bundle, None, shop.experience())
    if not options.no_check:  # what is kept is what every command says
        results.get(SETTINGS_CHECK)
    entry = results.get(PRINT_ENTRY.of(**dict(results.judgement_key().parameters)))
    own = bundle.project.process.own_plate
    trial = _trial(shop, options.trial) if options.trial else None
    begun = shop.begin(
        entry, bundle_bytes(bundle), machine=options.machine or bundle.project.rig.name,
        plate=options.plate or (own.name if own is not None else ""),
        back=own.back.surface if own is not None and own.back is not None else "", spool=options.spool,
        prepared=options.prepared, trial=trial, arm=options.arm, at=options.at,
    )  # fmt: skip
    if outcome is not None:
        begun = shop.end(begun.key, outcome, energy=_energy(options))
    return {"sentence": print_line(begun, _names(shop), UNITS[options.units]).strip(), "prints": [begun]}


def _energy(options: argparse.Namespace) -> float | None:
    if not options.energy:
        return None
    return parse_quantity(options.energy, "energy", KINDS["energy"][0], "energy")


def _names(shop: Workshop) -> dict[str, str]:
    from mandorla.core.logbook.records import Machine, Plate

    return {m.key: m.name for m in shop.book.all(Machine)} | {p.key: p.name for p in shop.book.all(Plate)}


def _prints(shop: Workshop) -> list[Print]:
    from mandorla.core.logbook.records import Print

    return shop.book.all(Print)


def _trial(shop: Workshop, name: str) -> Trial:
    from mandorla.core.logbook.records import Trial

    found = next((t for t in shop.book.all(Trial) if t.name == name), None)
    if found is None:
        raise InputError(f"There is no trial “{name}” in the book.")
    return found


def _list(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.messages import counted, missing_sentence
    from mandorla.core.logbook.records import Print

    prints = _prints(shop)
    if options.search:
        prints = [r for r in shop.book.search(options.search) if isinstance(r, Print)]
    return {"sentence": f"{counted(len(prints))}. {missing_sentence(prints)}".strip(), "prints": prints}


def _compare(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.compare_prints import compare_groups
    from mandorla.core.logbook.latent import uses
    from mandorla.core.logbook.records import Machine, Plate, PlateEvent, Spool

    if len(options.what) != 2:
        raise InputError("compare takes two groups of numbers: mandorla log compare 3,4,7 9,12")
    groups: list[list[Print]] = []
    for text in options.what:
        if not re.fullmatch(r"\d{1,9}(,\d{1,9})*", text):
            raise InputError(f"“{text}” is no group of print numbers: write 3,4,7.")
        groups.append([shop.numbered(int(n)) for n in text.split(",")])
    book = shop.book
    fair = compare_groups(
        groups[0],
        groups[1],
        uses(_prints(shop), book.all(PlateEvent)),
        book.all(Machine),
        book.all(Plate),
        book.all(Spool),
        {},
    )
    return {
        "sentence": fair.sentence, "chance_first_worse": fair.outcome.first_worse,
        "differences": [
            {"path": d.path, "name": d.name, "first": d.first, "second": d.second} for d in fair.differences
        ],
    }  # fmt: skip


def _ab(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.trials import next_arm, plan_pairs, prints_of, stands, trial_sentence

    if len(options.what) != 1:
        raise InputError("trial takes its name.")
    name = options.what[0]
    if options.arms:
        arms = tuple(a.strip() for a in options.arms.split(","))
        if len(arms) != 2:
            raise InputError("A trial has two arms: --arms A,B.")
        shop.book.put(plan_pairs(name, (arms[0], arms[1]), options.pairs, options.question))
    trial, prints = _trial(shop, name), _prints(shop)
    if trial.kind != "ab":
        raise InputError(f"“{name}” is a ladder: mandorla log ladder.")
    comparison, test = stands(trial, prints)
    following = "" if test.ended else next_arm(trial, prints)
    return {
        "sentence": trial_sentence(trial, prints, UNITS[options.units]), "prints": prints_of(trial, prints),
        "chance_first_worse": comparison.first_worse, "next": following or None,
    }  # fmt: skip


def _ladder(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.trials import climbed, ladder_ends, plan_ladder, prints_of, trial_sentence

    if not 1 <= len(options.what) <= 2:
        raise InputError("ladder takes its name, and to begin one also a project.")
    name = options.what[0]
    if len(options.what) == 2:
        bundle = read_bundle(Path(options.what[1]))
        results = Results(bundle, None, shop.experience())
        prior = results.get(LADDER_PRIOR.of(setting=options.setting, direction=options.direction))
        here = float(get_value(bundle.project, options.setting))
        ends = ladder_ends(prior, here)
        shop.book.put(plan_ladder(name, options.setting, prior, ends, options.question))
    trial, prints = _trial(shop, name), _prints(shop)
    if trial.kind != "ladder":
        raise InputError(f"“{name}” is a trial of pairs: mandorla log trial.")
    state = climbed(trial, prints)
    return {
        "sentence": trial_sentence(trial, prints, UNITS[options.units]), "prints": prints_of(trial, prints),
        "next": None if state.ended else state.next,
    }  # fmt: skip


def _learn(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.applied import place_of
    from mandorla.core.logbook.calibration import calibrate
    from mandorla.core.logbook.learning import joint_of
    from mandorla.core.logbook.messages import experience_sentence
    from mandorla.core.logbook.weaker import weaker_plates

    e, prints = shop.experience(), _prints(shop)
    names, numbers = _names(shop), {p.key: p.number for p in prints}
    learned: list[dict[str, Any]] = []
    if options.what:
        project = read_bundle(Path(options.what[0])).project
        joint = joint_of(e, place_of(project.process, project.rig.name))
        learned = [
            {"name": n, "mean": float(joint.draws[:, k].mean()), "spread": float(joint.draws[:, k].std())}
            for k, n in enumerate(joint.names)
        ]
    else:
        learned = [
            {"name": n, "mean": float(e.draws[:, k].mean()), "spread": float(e.draws[:, k].std())}
            for k, n in enumerate(e.layout.names)
        ]
    notices = [
        {"plate": names.get(w.plate, w.plate), "side": w.side, "prints": [numbers[k] for k in w.prints], "evidence": w.evidence}
        for w in weaker_plates(prints)
    ]  # fmt: skip
    return {
        "sentence": f"{experience_sentence(e)} {calibrate(prints).sentence}", "learned": learned, "notices": notices,
    }  # fmt: skip


def _export(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.interchange import export

    if len(options.what) != 1:
        raise InputError("export takes a .json file or a folder.")
    files = export(shop.book, Path(options.what[0]))
    return {"sentence": f"{len(files)} files written.", "files": [str(f) for f in files]}


def _import(options: argparse.Namespace, shop: Workshop) -> dict[str, Any]:
    from mandorla.core.logbook.interchange import import_rows, rows_of

    if len(options.what) != 1:
        raise InputError("import takes a .json file or a folder with CSV files.")
    done = import_rows(shop.book, rows_of(Path(options.what[0])))
    return {
        "sentence": f"{done.new} new entries, {done.known} were there already, {done.other} were there with another content "
        "and stay as they are here.",
        **done._asdict(),
    }  # fmt: skip


_DO: Final[dict[str, Callable[[argparse.Namespace, Workshop], dict[str, Any]]]] = {
    "add": _add, "list": _list, "compare": _compare, "trial": _ab, "ladder": _ladder, "learn": _learn, "export": _export,
    "import": _import,
}  # fmt: skip


def _rescue(options: argparse.Namespace) -> int:
    """Write what can still be read of a damaged book; the book is not touched."""
    from mandorla.core.logbook.store import rescue

    if len(options.what) != 1:
        raise InputError("rescue takes the .json file that is written.")
    left = rescue(options.logbook if options.logbook is not None else default_path())
    write_atomically(Path(options.what[0]), json.dumps(left, indent=1, ensure_ascii=False).encode())
    print(f"{sum(map(len, left.values()))} entries saved; the damaged book was not touched.")
    return 0


def run(options: argparse.Namespace) -> int:
    """Do one thing with the book and print what came of it."""
    if options.action == "rescue":
        return _rescue(options)
    from mandorla.core.logbook.messages import outcome_text, print_line
    from mandorla.core.logbook.workshop import Workshop

    shop = Workshop(options.logbook)
    found = _DO[options.action](options, shop)
    prefs = UNITS[options.units]
    if options.json:
        nothing: dict[str, Any] = {
            "differences": [], "chance_first_worse": None, "next": None, "learned": [], "notices": [], "files": [], "new": 0,
            "known": 0, "other": 0,
        }  # fmt: skip
        rows = [
            {
                "number": p.number, "key": p.key, "at": p.at, "name": p.name, "predicted": p.anything,
                "outcome": outcome_text(p.outcome, prefs), "entered": p.entered,
            }
            for p in found.pop("prints", [])
        ]  # fmt: skip
        as_json({"action": options.action, **nothing, **found, "prints": rows})
        return 0
    print(found["sentence"])
    names = _names(shop)
    if options.action != "add":
        for p in found.get("prints", []):
            print(print_line(p, names, prefs))
    for d in found.get("differences", []):
        print(f"  {d['name']}: {d['first']} / {d['second']}")
    for row in found.get("learned", []):
        print(f"  {row['name']}: {row['mean']:+.2f} ± {row['spread']:.2f}")
    for n in found.get("notices", []):
        numbers = ", ".join(str(v) for v in n["prints"])
        print(
            f"  {n['plate']}, {n['side']}: it grips less than it did (prints {numbers}). Wash it, look at it, print a corner."
        )
    return 0


COMMAND = Command(
    "log",
    "the workshop's logbook: prints and how they ended, trials, what was learned",
    None,
    _arguments,
    LogOutput,
    run,
)
