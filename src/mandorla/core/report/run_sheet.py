"""The run sheet as files: PDF and HTML to hang on the machine, Markdown, a calendar, values."""

from __future__ import annotations

import csv
import html
import io
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Final

from icalendar import Calendar, Event
from reportlab.lib.pagesizes import A4
from reportlab.lib.units import mm
from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer

from mandorla import __version__
from mandorla.core.errors import InputError
from mandorla.core.project.atomic import target_of, write_atomically
from mandorla.core.project.models import Project
from mandorla.core.report.fonts import register_fonts
from mandorla.core.report.pdf import report_styles, report_table
from mandorla.core.run.messages import others_lines
from mandorla.core.run.schedule import Planned, Schedule, moment_text
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration

CAUTION: Final = (
    "Heated beds, closed chambers and unattended prints can start fires, burn and give off fumes. This sheet is a model's plan; it "
    "certifies nothing. Local codes, the makers' data and a qualified electrician decide."
)
_WIDTH: Final = A4[0] - 30 * mm
_HEADS: Final = {"before": "Before", "heat": "Heat up and level", "print": "While it prints", "after": "Afterwards"}


def _rows(schedule: Schedule) -> list[tuple[str, list[Planned]]]:
    """Steps that are kept, by phase."""
    kept = [p for p in schedule.planned if not p.step.left_out]
    return [(title, found) for phase, title in _HEADS.items() if (found := [p for p in kept if p.step.phase == phase])]


def settings_lines(project: Project, prefs: UnitPreferences = METRIC, number: int = 0) -> list[tuple[str, str]]:
    """What is set, name and value; the print's number in the logbook, where it has one."""
    s, p = project.settings, project.process
    lines = [
        *([("Print in the logbook", f"number {number}")] if number else []),
        ("Bed, first layers", show(s.bed_first, "set_point", prefs)), ("Bed, rest", show(s.bed_rest, "set_point", prefs)),
        *([("Chamber", show(s.chamber, "temperature", prefs))] if project.rig.heats_chamber else []),
        ("Soak", show_duration(s.soak_time)), ("Part fan", show(s.fan, "fraction", prefs)),
        ("Polymer", p.material().name), ("On", p.plate_name),
        ("Nozzle", f"{show(p.nozzle, 'length', prefs)}, {show(p.material().deposition_temperature.typical, 'temperature', prefs)}"),
        ("First layer", f"{show(p.first_speed, 'speed', prefs)}"),
    ]  # fmt: skip
    return lines


def as_markdown(project: Project, schedule: Schedule, prefs: UnitPreferences = METRIC, number: int = 0) -> str:
    """The sheet as Markdown, with boxes to tick."""
    on = schedule.switched_on
    out = [f"# {project.name}: run sheet", "", f"{project.rig.name}. Switched on {on:%a %d %b %Y %H:%M}.", ""]
    out += [f"- {name}: {value}" for name, value in settings_lines(project, prefs, number)]
    out += ["", CAUTION, ""]
    for title, planned in _rows(schedule):
        out += [f"## {title}", ""]
        for p in planned:
            out.append(f"- [{'x' if p.step.done else ' '}] **{moment_text(p.ends, on)} {p.step.title}** {p.step.what}")
            out += [f"  - {text}" for text in _more(p)]
        out.append("")
    out += [f"- {text}" for text in ends_of(schedule, prefs)]
    return prefs.read("\n".join(out) + "\n")


def _more(p: Planned) -> list[str]:
    """Why, until when, who, what may hurt."""
    s = p.step
    return [
        *([f"Why: {s.why}"] if s.why else []), *([f"Until: {s.gate}"] if s.gate else []), *([f"Who: {s.who}"] if s.who else []),
        *([f"Caution: {s.caution}"] if s.caution else []), *(["Nobody is there at that hour."] if p.nobody else []),
    ]  # fmt: skip


def ends_of(schedule: Schedule, prefs: UnitPreferences = METRIC) -> list[str]:
    """When it is printed and may be taken off, spools, hours alone."""
    on = schedule.switched_on
    found = [
        f"Printed {moment_text(schedule.printed, on)}; may be taken off {moment_text(schedule.taken_off, on)}.",
        f"It runs for {show_duration(schedule.alone)} while nobody is there."
        if schedule.alone >= 60.0
        else "Somebody is there all the time.",
    ]
    for c in schedule.changes:
        then = f"goes on with {c.following}" if c.following else "no other spool is at hand"
        found.append(f"{c.spool} runs out {moment_text(c.at, on)}: {then}{'; nobody is there' if c.nobody else ''}.")
    if schedule.missing > 0.0:
        found.append(f"{1e3 * schedule.missing:.0f} g of filament are missing.")
    return found + [f"{name}: {value}, {note}." for name, value, note in others_lines(schedule, prefs)]


def _written(prefs: UnitPreferences) -> Callable[[str], str]:
    """How plain words are put on a page: by the user's decimal sign, safe in markup."""
    return lambda words: html.escape(prefs.read(words))


def as_html(project: Project, schedule: Schedule, prefs: UnitPreferences = METRIC, number: int = 0) -> str:
    """The sheet as one page of HTML without anything from elsewhere."""
    on, text = schedule.switched_on, _written(prefs)
    body = [
        f"<h1>{text(project.name)}: run sheet</h1>",
        f"<p>{text(project.rig.name)}. Switched on {on:%a %d %b %Y %H:%M}.</p>",
        "<table>",
    ]
    body += [f"<tr><td>{text(n)}</td><td><b>{text(v)}</b></td></tr>" for n, v in settings_lines(project, prefs, number)]
    body += ["</table>", f"<p class='caution'>{text(CAUTION)}</p>"]
    for title, planned in _rows(schedule):
        body.append(f"<h2>{text(title)}</h2><ol>")
        for p in planned:
            more = "".join(f"<br><small>{text(line)}</small>" for line in _more(p))
            tick = "☑" if p.step.done else "☐"
            head = f"<b>{text(moment_text(p.ends, on))} {text(p.step.title)}</b>"
            body.append(f"<li>{tick} {head} {text(p.step.what)}{more}</li>")
        body.append("</ol>")
    body += [f"<p>{text(line)}</p>" for line in ends_of(schedule, prefs)]
    style = (
        "body{font:15px/1.45 sans-serif;max-width:46em;margin:2em auto;padding:0 1em;color:#1f2629}h1{font-size:1.5em}"
        "h2{font-size:1.15em;color:#1d5a58}small{color:#525c60}td{padding-right:1.5em}ol{list-style:none;padding:0}"
        "li{margin:.7em 0}.caution{border-left:4px solid #a4672c;padding-left:.8em}"
    )
    return (
        f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>{text(project.name)}: run sheet</title>"
        f"<style>{style}</style></head><body>{''.join(body)}</body></html>\n"
    )


def as_pdf(project: Project, schedule: Schedule, prefs: UnitPreferences = METRIC, number: int = 0) -> bytes:
    """The sheet as PDF."""
    register_fonts()
    styles, on, text = report_styles(), schedule.switched_on, _written(prefs)
    story = [
        Paragraph(text(f"{project.name}: run sheet"), styles["title"]),
        Paragraph(text(f"{project.rig.name} · switched on {on:%a %d %b %Y %H:%M} · Mandorla {__version__}"), styles["soft"]),
        Spacer(1, 6),
        report_table(
            [["Set", "To"], *([n, text(v)] for n, v in settings_lines(project, prefs, number))],
            [0.3 * _WIDTH, 0.7 * _WIDTH], styles
        ),
        Spacer(1, 4), Paragraph(CAUTION, styles["soft"]),
    ]  # fmt: skip
    for title, planned in _rows(schedule):
        rows = [["", "When", "What", "Until, and why"]]
        for p in planned:
            who = f" <b>{text(p.step.who)}</b>." if p.step.who else ""
            rest = " ".join(text(line) for line in _more(p) if not line.startswith("Who"))
            rows.append([
                "☑" if p.step.done else "☐", text(moment_text(p.ends, on)),
                f"<b>{text(p.step.title)}</b>. {text(p.step.what)}{who}", f"<font size='7.5'>{rest}</font>",
            ])  # fmt: skip
        head = Paragraph(title, styles["head"])
        table = report_table(rows, [0.04 * _WIDTH, 0.17 * _WIDTH, 0.43 * _WIDTH, 0.36 * _WIDTH], styles)
        story += [head, table]
    story += [Spacer(1, 4), *(Paragraph(text(line), styles["base"]) for line in ends_of(schedule, prefs))]
    buffer = io.BytesIO()
    SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=15 * mm, rightMargin=15 * mm, topMargin=13 * mm, bottomMargin=12 * mm,
        title=f"{project.name} – run sheet", author="Mandorla",
    ).build(story)  # fmt: skip
    return buffer.getvalue()


def as_calendar(project: Project, schedule: Schedule) -> bytes:
    """Gates at which somebody has to be there, as iCalendar; times are universal, a calendar shows them in its own zone."""
    calendar = Calendar()
    calendar.add("prodid", f"-//Mandorla//run sheet {__version__}//EN")
    calendar.add("version", "2.0")
    made = datetime.now(UTC)
    gates = [
        p for p in schedule.planned if not p.step.left_out and (p.step.attended or p.step.key in ("print", "loose"))
    ]
    for n, p in enumerate(gates):
        event = Event()
        begins = p.begins.typical if p.step.attended and p.begins.typical < p.ends.typical else p.ends.typical
        event.add("uid", f"{p.step.key}-{n}-{int(schedule.switched_on.timestamp())}@mandorla")
        event.add("dtstamp", made)
        event.add("dtstart", begins.astimezone(UTC))
        event.add("dtend", max(p.ends.typical, begins + timedelta(minutes=5)).astimezone(UTC))
        event.add("summary", f"{project.name}: {p.step.title}")
        event.add("description", "\n".join([p.step.what, *_more(p), f"{p.ends.low:%H:%M} to {p.ends.high:%H:%M}"]))
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def as_values(project: Project, kind: str, prefs: UnitPreferences = METRIC) -> str:
    """What is set, as ``csv`` (name, value with unit) or ``json`` (SI)."""
    if kind == "json":
        set_to = {"settings": project.settings.model_dump(), "process": project.process.model_dump(mode="json")}
        return json.dumps(set_to, indent=2) + "\n"
    out = io.StringIO()
    csv.writer(out).writerows([("setting", "value"), *settings_lines(project, prefs)])
    return out.getvalue()


WRITERS: Final[dict[str, Callable[[Project, Schedule, UnitPreferences, int], bytes]]] = {
    "pdf": as_pdf,
    "html": lambda p, s, u, n: as_html(p, s, u, n).encode(),
    "md": lambda p, s, u, n: as_markdown(p, s, u, n).encode(),
    "ics": lambda p, s, *_: as_calendar(p, s),
    "csv": lambda p, _, u, __: as_values(p, "csv", u).encode(),
    "json": lambda p, _, u, __: as_values(p, "json", u).encode(),
}


def write_sheet(
    path: Path, project: Project, schedule: Schedule, prefs: UnitPreferences = METRIC, number: int = 0
) -> None:
    """Write a sheet in the form that the file's ending names; with the print's ``number`` in the logbook, where it has one.

    Raises
    ------
    InputError
        For an ending that names no form.
    ProjectFileError
        When the file cannot be written.
    """
    kind = path.suffix.lower().removeprefix(".").replace("htm", "html").replace("htmll", "html")
    if kind not in WRITERS:
        raise InputError(
            f"A sheet is not written as “{path.suffix or path.name}”: {', '.join('.' + k for k in WRITERS)}."
        )
    target_of(path)
    write_atomically(path, WRITERS[kind](project, schedule, prefs, number))
