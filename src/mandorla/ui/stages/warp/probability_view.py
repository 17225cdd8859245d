"""How likely each failure is, in the stage Warp: probabilities, what decides them, and the test that would tell."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from mandorla.core.failure.messages import margin_text
from mandorla.core.failure.probability_messages import probability_sentence
from mandorla.core.results.choices import NOTICED, RESOLUTIONS
from mandorla.core.results.key import Key
from mandorla.core.results.keys import FAILURE_PROBABILITIES, FULL_RUN
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.plots.bars import Bars
from mandorla.ui.stages.page import scrolled
from mandorla.ui.stages.view import View
from mandorla.ui.theme.palette import Theme
from mandorla.ui.widgets.figures import Figure, FigureList
from mandorla.ui.widgets.form import heading, panel, soft
from mandorla.ui.widgets.pick_list import TextTable

if TYPE_CHECKING:
    from mandorla.core.results.types import FailureProbabilities, FullRun

HOW = (
    "Everything that is not known is drawn within its 90 % range, {draws} times, and answered by a quadratic fitted to the quick "
    "estimate (off by {error:.1f} % at most on points held back). {anchor}"
)
ANCHORED = "The full simulation of this state stands in the middle of it."
STOPPED = "The full simulation of this state stopped early: only what stopped it is taken from it."
FREE = (
    "No full simulation of this state stands behind it: run one, and its own error goes out of these figures. The plate is looked "
    "at in few boxes."
)


class ProbabilityView(View):
    """Probabilities of the failures, anchored by the finest full simulation of this state."""

    key = "probability"
    title = "Probability of failure"
    needs_part = True

    def __init__(self, document: Document, theme: Theme) -> None:
        super().__init__(document, theme)
        body = QHBoxLayout(scrolled(self.content))
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(10)
        left, right = QVBoxLayout(), QVBoxLayout()
        left.setSpacing(8)
        right.setSpacing(8)
        frame, column = panel()
        column.addWidget(heading("What can go wrong, and how likely"))
        self.failures = Bars("Probability of each failure")
        self.failures.set_name_width(206)
        column.addWidget(self.failures)
        self.criteria = soft()
        column.addWidget(self.criteria)
        left.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("What the figures may be, at 90 %"))
        self.ranges = FigureList("Ranges of the figures")
        column.addWidget(self.ranges)
        left.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("How this is computed"))
        self.how = soft()
        column.addWidget(self.how)
        left.addWidget(frame)
        left.addStretch(1)
        frame, column = panel()
        self.deciding = heading("What decides it")
        column.addWidget(self.deciding)
        self.unknowns = Bars("Share of the scatter by unknown")
        self.unknowns.set_name_width(176)
        column.addWidget(self.unknowns)
        self.range = soft()
        column.addWidget(self.range)
        right.addWidget(frame)
        frame, column = panel()
        column.addWidget(heading("Which test would tell most"))
        self.tests = TextTable("Tests", ("Test", "Would explain"))
        self.tests.setWordWrap(True)
        self.tests.setMinimumHeight(176)
        column.addWidget(self.tests)
        column.addWidget(
            soft("Hot plates and freshly printed parts burn; pull sheets and break bars with gloves and glasses on.")
        )
        right.addWidget(frame, 1)
        body.addLayout(left, 1)
        body.addLayout(right, 1)

    def anchor(self) -> Key[FullRun] | None:
        """The finest full run that belongs to the project as it is."""
        asked = [FULL_RUN.of(resolution=r, bodies=b) for r in RESOLUTIONS[::-1] for b in ("all", "one")]
        return next((key for key in asked if self.results.known(key)), None)

    @property
    def asked(self) -> Key[FailureProbabilities]:
        """The probabilities, anchored where there is a run."""
        run = self.anchor()
        return (
            FAILURE_PROBABILITIES
            if run is None
            else FAILURE_PROBABILITIES.of(anchor=run["resolution"], bodies=run["bodies"])
        )

    def uses(self) -> tuple[Key[Any], ...]:
        """The probabilities."""
        return (self.asked,)

    def headline(self) -> str:
        """The likeliest failure and what decides it."""
        found = self.results.last(self.asked)
        return "What is not known is being sampled …" if found is None else probability_sentence(found)

    def draw(self) -> None:
        """Show probabilities, what decides, and which test would tell."""
        run = self.anchor()
        full = self.results.value(run) if run is not None else None
        c, units, theme = self.get(self.asked), self.units, self.theme
        rows = [*c.failures, c.anything]
        self.failures.show_rows(
            [(f.name[0].upper() + f.name[1:], f.probability, _percent(f.probability, f.low, f.high)) for f in rows],
            theme,
            1.0,
        )
        self.criteria.setText("; ".join(f"{f.name[0].upper() + f.name[1:]}: {f.criterion}" for f in rows) + ".")
        error = 100.0 * max(c.emulator.values())
        self.how.setText(
            HOW.format(draws=c.draws, error=error, anchor=ANCHORED if c.anchored else FREE if full is None else STOPPED)
        )
        self.deciding.setText(f"What decides the {c.decides}")
        self.unknowns.show_rows(
            [(u.name[0].upper() + u.name[1:], u.share, f"{100 * u.share:.0f} %") for u in c.unknowns], theme, 1.0
        )

        def value(v: float) -> str:
            return show(v, "length", units) if c.decides in ("lift", "plate lift") else margin_text(v)

        limits = {
            "hold margin": 1.0,
            "crack index": 1.0,
            "lift": self.document.project.criteria.lift_limit,
            "plate lift": NOTICED,
        }

        def text(kind: str, v: float) -> str:
            return show(v, "length", units) if kind in ("lift", "plate lift") else margin_text(v)

        self.ranges.show_figures(
            [
                Figure(
                    kind[0].upper() + kind[1:],
                    f"{text(kind, low)} to {text(kind, high)}",
                    f"limit {text(kind, limits[kind])}",
                )
                for kind, (low, high) in c.ranges.items()
            ],
            theme,
        )
        name = c.unknowns[0].name if c.unknowns else "the largest unknown"
        self.range.setText(
            f"The {c.decides} lies between {value(c.range[0])} and {value(c.range[1])} at 90 %; with {name} known, between "
            f"{value(c.without[0])} and {value(c.without[1])}."
        )
        self.tests.show_rows(
            [[u.test[0].upper() + u.test[1:], f"{100 * u.share:.0f} %"] for u in c.unknowns if u.share > 0.01]
        )
        self.tests.resizeRowsToContents()


def _percent(p: float, low: float, high: float) -> str:
    """A probability with its ends where they differ."""
    if p < 0.005:
        return "below 1 %"
    if high - low < 0.02:
        return f"{100 * p:.0f} %"
    return f"{100 * p:.0f} ({100 * low:.0f}–{100 * high:.0f}) %"
