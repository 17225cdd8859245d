"""Two prints or two groups side by side: what differed, and whether anything can be concluded from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mandorla.core.logbook.latent import Use
from mandorla.core.logbook.records import Machine, Plate, Print, Spool, moment_of
from mandorla.core.logbook.trial_statistics import Comparison, Counts, compare_arms

_SEASON = 45.0  # days between the middles of two groups from which the time of year is a difference
_USED = 10  # prints since a wash by which two sides are used unlike


@dataclass(frozen=True, slots=True)
class Difference:
    """Something that was not the same: stable ``path``, name, what it was in each group."""

    path: str
    name: str
    first: str
    second: str


@dataclass(frozen=True, slots=True)
class Fair:
    """Two groups: what differed, how they came out, what follows."""

    differences: tuple[Difference, ...]
    outcome: Comparison
    sentence: str


def failed_of(p: Print) -> Counts | None:
    """Failed and printed parts of a print; None where its end is not known, or an accident ended it."""
    o = p.outcome
    if o is None or (o.accident and not o.effects):
        return None
    return o.copies - o.good, o.copies


def _values(
    group: Sequence[Print], names: Mapping[str, str], used: Mapping[str, Use], labels: Mapping[str, str]
) -> dict[str, tuple[str, set[str]]]:
    """Everything that may differ: name and the values of a group, by path."""
    found: dict[str, tuple[str, set[str]]] = {}

    def add(path: str, name: str, value: str) -> None:
        found.setdefault(path, (name, set()))[1].add(value)

    for p in group:
        for path, value in p.setup.items():
            add(path, labels.get(path, path), value)
        add("machine", "Machine", names.get(p.machine, "not stated"))
        add("plate", "Plate and side", f"{names.get(p.plate, 'not stated')}, {p.side}")
        add("spool", "Spool", names.get(p.spool, "not stated"))
        add("prepared", "Preparation", p.prepared or "not stated")
    return found


def compare_groups(
    first: Sequence[Print], second: Sequence[Print], used: Mapping[str, Use], machines: Sequence[Machine],
    plates: Sequence[Plate], spools: Sequence[Spool], labels: Mapping[str, str],
) -> Fair:  # fmt: skip
    """Compare two groups of prints.

    Parameters
    ----------
    first, second
        The groups; prints whose end is not known count for what differed only.
    used
        How each print's side had been used before (latent.uses).
    machines, plates, spools
        For their names.
    labels
        What the paths of settings are called.

    Returns
    -------
    Fair
        With more than one difference nothing is concluded about any single one.
    """
    names = (
        {m.key: m.name for m in machines}
        | {q.key: q.name for q in plates}
        | {s.key: f"{s.name} (lot {s.lot or '–'})" for s in spools}
    )
    a, b = _values(first, names, used, labels), _values(second, names, used, labels)
    found = [
        Difference(path, (a.get(path) or b[path])[0], *(", ".join(sorted(v[path][1])) if path in v else "–" for v in (a, b)))
        for path in dict.fromkeys((*a, *b))
        if a.get(path, ("", set()))[1] != b.get(path, ("", set()))[1]
    ]  # fmt: skip
    since = [sum(used[p.key].since_wash for p in g) / max(len(g), 1) for g in (first, second)]
    if abs(since[0] - since[1]) >= _USED:
        found.append(Difference("wash", "Prints since the last wash", *(f"{v:.0f}" for v in since)))
    times = [sorted(moment_of(p.at).timestamp() for p in g) for g in (first, second)]
    if all(times):
        middles = [t[len(t) // 2] for t in times]
        if abs(middles[0] - middles[1]) > _SEASON * 86400.0:
            found.append(Difference("season", "Time of year", *(p[len(p) // 2].at[:10] for p in (first, second))))
        elif len(first) > 1 and len(second) > 1 and (times[0][-1] < times[1][0] or times[1][-1] < times[0][0]):
            found.append(
                Difference(
                    "order", "Order", *(("earlier", "later") if times[0][0] < times[1][0] else ("later", "earlier"))
                )
            )
    counts = [[c for p in g if (c := failed_of(p)) is not None] for g in (first, second)]
    outcome = compare_arms(("the first", "the second"), *counts)
    return Fair(tuple(found), outcome, _sentence(found, outcome))


def _sentence(found: Sequence[Difference], outcome: Comparison) -> str:
    if not found:
        return f"Nothing differed: what came out unlike is chance. {outcome.sentence}"
    if len(found) == 1:
        return f"Only {found[0].name.lower()} differed. {outcome.sentence}"
    named = ", ".join(d.name.lower() for d in found[:3]) + (f" and {len(found) - 3} more" if len(found) > 3 else "")
    return (
        f"{len(found)} things differed ({named}): nothing can be concluded about any single one. Plan a trial in which only "
        f"{found[0].name.lower()} changes, in pairs and random order, with equal preparation."
    )
