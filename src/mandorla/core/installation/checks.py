"""What an installation has and lacks: packages, data, folders, the logbook, the display, the kernels; as a report without names."""

from __future__ import annotations

import io
import json
import os
import platform
import re
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from importlib import metadata, resources
from pathlib import Path
from typing import Final, Literal, NamedTuple

from packaging.requirements import InvalidRequirement, Requirement

from mandorla import __version__
from mandorla.core.errors import MandorlaError
from mandorla.core.folders import config_folder, recovery_folder, state_folder
from mandorla.core.installation.mark import is_warm
from mandorla.core.installation.warming import warm
from mandorla.core.logbook.place import default_path
from mandorla.core.logbook.records import Print
from mandorla.core.logbook.store import Logbook
from mandorla.core.project.store import read_bundle

Verdict = Literal["good", "mind", "bad"]
_DISPLAY_SECONDS: Final = 30
_DATA: Final = (
    "fonts/Inter-Regular.ttf", "fonts/Inter-SemiBold.ttf", "figures.toml", "report.html.j2", "icon.svg", "help/user-guide.md",
    "help/theory.md", "demo/boathouse.mandorla", "demo/logbook.json.gz",
)  # fmt: skip
_DISPLAY: Final = (
    "import sys; from PySide6.QtWidgets import QApplication, QLabel; a = QApplication([]); w = QLabel('x'); w.show();"
    "print(a.platformName())"
)


class Row(NamedTuple):
    """One check: what, its verdict, what was found, and what a person can do (empty: nothing is to be done)."""

    what: str
    verdict: Verdict
    found: str
    remedy: str = ""


_CHECKS: Final[list[Callable[[], Iterator[Row]]]] = []


def check(function: Callable[[], Iterator[Row]]) -> Callable[[], Iterator[Row]]:
    """Register a check."""
    _CHECKS.append(function)
    return function


@check
def program() -> Iterator[Row]:
    """Version and interpreter."""
    yield Row("Mandorla", "good", __version__)
    fits = sys.version_info >= (3, 11)
    remedy = "" if fits else "Python 3.11 or newer is needed"
    yield Row("Python", "good" if fits else "bad", platform.python_version(), remedy)
    yield Row("System", "good", f"{platform.system()} {platform.machine()}, {os.cpu_count()} cores")


@check
def packages() -> Iterator[Row]:
    """Every package that is required, in a version that is."""
    try:
        wanted = [Requirement(r) for r in metadata.requires("mandorla") or ()]
    except (metadata.PackageNotFoundError, InvalidRequirement):
        yield Row("Packages", "mind", "the installation's own record is missing", "install it again")
        return
    wrong = []
    needed = [r for r in wanted if r.marker is None or r.marker.evaluate({"extra": ""})]
    for requirement in needed:
        try:
            there = metadata.version(requirement.name)
        except metadata.PackageNotFoundError:
            wrong.append(f"{requirement.name} is missing")
            continue
        if not requirement.specifier.contains(there, prereleases=True):
            wrong.append(f"{requirement.name} {there} ({requirement.specifier} is needed)")
    found = "; ".join(wrong) if wrong else f"{len(needed)} there"
    yield Row("Packages", "bad" if wrong else "good", found, "install it again" if wrong else "")


@check
def data() -> Iterator[Row]:
    """What ships with the program."""
    root = resources.files("mandorla.data")
    missing = [name for name in _DATA if not root.joinpath(name).is_file()]
    yield Row("Data, fonts, demo", "bad" if missing else "good", f"missing: {', '.join(missing)}" if missing else "complete",
              "install it again" if missing else "")  # fmt: skip
    if "demo/boathouse.mandorla" not in missing:
        with resources.as_file(root.joinpath("demo/boathouse.mandorla")) as path:
            try:
                name = read_bundle(path).project.name
                yield Row("Demo project", "good", f"opens ({name})")
            except MandorlaError as error:
                yield Row("Demo project", "bad", error.message, "install it again")


@check
def folders() -> Iterator[Row]:
    """Whether preferences, recovery copies and the logbook can be written."""
    for what, folder in (
        ("Preferences folder", config_folder()), ("State folder", state_folder()), ("Recovery folder", recovery_folder()),
        ("Logbook folder", default_path().parent),
    ):  # fmt: skip
        try:
            folder.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryFile(dir=folder) as probe:
                probe.write(b"x")
            yield Row(what, "good", "can be written")
        except OSError as error:
            yield Row(what, "mind", f"cannot be written: {error.strerror}", "nothing is kept there until it can")


@check
def logbook() -> Iterator[Row]:
    """Whether the workshop's book opens and is whole."""
    path = default_path()
    if not path.exists():
        yield Row("Logbook", "good", "none yet")
        return
    try:
        yield Row("Logbook", "good", f"whole, {len(Logbook(path).all(Print))} prints")
    except MandorlaError as error:
        yield Row("Logbook", "bad", type(error).__name__, "mandorla log rescue copies what can be read")


@check
def display() -> Iterator[Row]:
    """Whether a window can be shown, tried in a process of its own."""
    try:
        done = subprocess.run(
            [sys.executable, "-c", _DISPLAY], capture_output=True, text=True, timeout=_DISPLAY_SECONDS, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        yield Row("Display", "mind", type(error).__name__, "commands work without one")
        return
    if done.returncode == 0:
        yield Row("Display", "good", done.stdout.strip())
        return
    reason = next((line for line in done.stderr.splitlines() if line.strip()), "no reason was given")
    yield Row(
        "Display", "mind", reason[:160], "commands work without one; a window needs X or Wayland and their libraries"
    )


@check
def kernels() -> Iterator[Row]:
    """Whether the numerics are compiled."""
    if is_warm():
        yield Row("Numerics", "good", "compiled")
    else:
        yield Row("Numerics", "mind", "compiled at the first use, half a minute", "mandorla doctor --warm does it now")


def examine(*, compile_first: bool = False) -> tuple[Row, ...]:
    """Every check, in order; with ``compile_first`` the kernels are compiled before they are asked for."""
    if compile_first:
        warm()
    return tuple(row for function in _CHECKS for row in function())


# ---- the bundle for a report
_PATH = re.compile(r"(?:/[^\s/\"':,;()<>|]+)+/?")
_QUOTED = re.compile(r"“[^”]*”|\"[^\"]*\"|'[^']*'")
_LINE = re.compile(r'^  File "(?P<file>[^"]*)", line (?P<line>\d+), in (?P<name>\w+|<\w+>)')
_LAST_LOG: Final = 400  # lines


def without_names(text: str) -> str:
    """Text with everything that could name a person, a project or a place taken out."""
    return _PATH.sub("<path>", _QUOTED.sub("<name>", text))


def crash_in_short(text: str) -> str:
    """A crash as places in our own code and kinds of errors: no messages, no foreign paths, no source lines."""
    found = []
    for line in text.splitlines():
        match = _LINE.match(line)
        if match is not None:
            file = match["file"].replace("\\", "/")
            inside = f"mandorla/{file.rpartition('/mandorla/')[2]}" if "/mandorla/" in file else Path(file).name
            found.append(f"{inside}:{match['line']} in {match['name']}")
        elif re.match(r"^[A-Za-z_][\w.]*(Error|Exception|Warning|Interrupt|Exit)\b", line):
            found.append(line.partition(":")[0])
    return "\n".join(found)


def report_bundle(rows: tuple[Row, ...]) -> bytes:
    """A zip file for a report: the checks, package versions, the log and crashes without names."""
    made = io.BytesIO()
    versions = sorted({f"{d.metadata['Name']} {d.version}" for d in metadata.distributions() if d.metadata["Name"]})
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:

        def put(name: str, text: str) -> None:
            archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), text)

        checks = [{**row._asdict(), "found": without_names(row.found)} for row in rows]
        put("checks.json", json.dumps(checks, indent=1, ensure_ascii=False))
        put("packages.txt", "\n".join(versions) + "\n")
        log = state_folder() / "mandorla.log"
        if log.is_file():
            lines = log.read_text(encoding="utf-8", errors="replace").splitlines()[-_LAST_LOG:]
            put("log.txt", without_names("\n".join(lines)))
        for n, file in enumerate(sorted(state_folder().glob("crash-*.txt"))[-5:]):
            if file.is_file():
                put(f"crash-{n + 1}.txt", crash_in_short(file.read_text(encoding="utf-8", errors="replace")))
    return made.getvalue()
