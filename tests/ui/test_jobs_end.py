"""Every job comes to an end that whoever waits for it hears of."""

from __future__ import annotations

import threading

import pytest
from pytestqt.qtbot import QtBot

from mandorla.core.errors import Cancelled, InputError
from mandorla.core.part.process import Placement
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import BACKUP_IN_FULL, EVALUATION, FULL_RUN, JUDGEMENT
from mandorla.core.runtime import RunContext
from mandorla.ui.jobs import Jobs, Lane
from mandorla.ui.live_results import LiveResults, Standing
from mandorla.ui.widgets.jobs_list import JobsList
from tests.core.bundles import small_bundle

pytestmark = pytest.mark.gui


def test_a_job_that_cancels_itself_is_told_as_stopped(qtbot: QtBot) -> None:
    jobs = Jobs()
    heard: list[str] = []
    jobs.stopped.connect(lambda job: heard.append(job.title))

    def work(_: RunContext) -> None:
        raise Cancelled("Stopped.")

    jobs.start("by itself", work, Lane.SLOW, done=heard.append, failed=heard.append)
    qtbot.waitUntil(lambda: heard == ["by itself"], timeout=30000)
    assert jobs.running == ()
    jobs.close()


def test_what_is_asked_for_fails_with_what_it_needs_and_is_not_waited_for(qtbot: QtBot) -> None:
    bundle = sample("boathouse")
    process = bundle.project.process.model_copy(update={"polymer": "abs", "surface": "tacky_pla_petg", "plate": ""})
    jobs = Jobs()
    results = LiveResults(jobs, Bundle(bundle.project.model_copy(update={"process": process}), bundle.originals))
    key = FULL_RUN.of(resolution="draft", bodies="all")
    results.ask(key)
    qtbot.waitUntil(lambda: results.standing(key) is Standing.FAILED, timeout=20000)
    assert isinstance(results.error(EVALUATION), InputError)
    assert not results.busy(key)
    assert results.settled
    results.close()
    jobs.close()


def test_a_run_that_nobody_asked_for_is_not_said_to_be_under_way(qtbot: QtBot) -> None:
    jobs = Jobs()
    results = LiveResults(jobs, sample("boathouse"))
    key = FULL_RUN.of(resolution="fine", bodies="all")
    results.want("view", (key,))
    assert not results.busy(key)
    assert results.standing(key) is Standing.MISSING
    results.close()
    jobs.close()


def test_an_edit_while_a_run_is_under_way_leaves_it_stale_not_busy(qtbot: QtBot) -> None:
    bundle = sample("boathouse")
    part = bundle.project.part
    assert part is not None
    jobs = Jobs()
    results = LiveResults(jobs, bundle)
    key = FULL_RUN.of(resolution="draft", bodies="all")
    results.want("view", (key,))
    results.ask(key)
    qtbot.waitUntil(lambda: any(j.title == key.title for j in jobs.running), timeout=20000)
    moved = part.model_copy(update={"placement": Placement(x=0.01)})
    results.set_bundle(Bundle(bundle.project.model_copy(update={"part": moved}), bundle.originals))
    qtbot.waitUntil(lambda: not results.busy(key), timeout=60000)
    assert results.standing(key) is Standing.STALE
    results.close()
    jobs.close()


def test_a_job_gets_its_line_when_it_has_run_for_a_while(qtbot: QtBot) -> None:
    """What is over at once moves nothing in the window; a job that told of itself early only gets its line all the same."""
    jobs, listed, end = Jobs(), JobsList(), threading.Event()
    qtbot.addWidget(listed)
    listed.follow(jobs)
    jobs.changed.connect(listed.show_jobs)
    jobs.progressed.connect(listed.show_progress)
    heard: list[str] = []

    def short(run: RunContext) -> str:
        run.checkpoint(0.5, "half-way")
        return "short"

    def long(run: RunContext) -> str:
        run.checkpoint(0.5, "half-way")
        end.wait(60.0)
        return "long"

    seen: list[list[str]] = []
    jobs.progressed.connect(lambda _: seen.append(listed.titles))
    jobs.start("Short", short, Lane.SLOW, done=heard.append)
    qtbot.waitUntil(lambda: heard == ["short"], timeout=30000)
    assert seen == [[]], "it told how far it was, and had no line"
    job = jobs.start("Long", long, Lane.SLOW, done=heard.append)
    qtbot.waitUntil(lambda: listed.titles == ["Long: half-way"], timeout=30000)
    assert job.seconds >= 0.5
    end.set()
    qtbot.waitUntil(lambda: heard == ["short", "long"], timeout=30000)
    assert listed.titles == []
    jobs.close()


def test_whatever_runs_the_present_state_in_full_is_heard_of(qtbot: QtBot) -> None:
    """Ways on a battery run the settings as they are, too: console and rail show what that run says."""
    bundle = small_bundle()
    backup = bundle.project.rig.backup.model_copy(update={"kind": "battery", "capacity": 1e6})
    rig = bundle.project.rig.model_copy(update={"backup": backup})
    jobs, heard = Jobs(), list[str]()
    results = LiveResults(jobs, Bundle(bundle.project.model_copy(update={"rig": rig}), bundle.originals))
    results.changed.connect(heard.append)
    results.want("view", (BACKUP_IN_FULL,))
    qtbot.waitUntil(lambda: results.value(BACKUP_IN_FULL) is not None, timeout=120000)
    assert results.judgement_key() != JUDGEMENT
    assert FULL_RUN.name in heard
    now = results.judgement()
    assert now is not None
    assert results.value(BACKUP_IN_FULL)[0].chance == now.anything  # type: ignore[index]
    results.close()
    jobs.close()
