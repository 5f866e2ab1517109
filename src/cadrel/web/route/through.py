"""What the page of a whole route in one go shows: each step with what moves, how long, and how far it is."""

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.utils import timezone

from cadrel.core.parameters import STEPS
from cadrel.procedures.declaration import in_order
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.rig.actions import wanted_values
from cadrel.web.rig.settling import job_of
from cadrel.web.rig.through import jobs_of_last

# After a job's end, in which the next of its chain is surely queued, however busy the machine. What ends a chain says
# so at once; this is for a worker that was killed in between.
BETWEEN = timedelta(seconds=60)
DONE = ("proven", "measured", "through")  # states of a step that need not be gone through again


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """A step. `mark`: waits, runs, through, stopped, or the state it has on the route."""

    key: str
    step: str
    title: str
    does: str
    plan: str
    seconds: float
    mark: str
    line: str
    job: Job | None


def through_of(axis: Axis, route: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the context of the page: rows, where to begin, what moves, the time it takes, the chain in progress."""
    model = model_or_none(axis)
    if model is None:
        return {"problem": "The data is not complete yet: what is open above asks for it first.", "rows": []}
    of = {s["key"]: s for s in route}
    wanted, titles = wanted_values(axis), {s.key: s.title for s in STEPS}
    active = job_of(axis)
    jobs = jobs_of_last(axis)
    ours = {j.procedure: j for j in jobs}
    runs = bool(jobs) and _in_progress(active, jobs[-1], of)
    rows, plans = [], []
    for p in in_order():
        plan, job = p.plan(model, wanted), ours.get(p.key)
        plans.append(plan)
        mark, line = of[p.step]["state"], of[p.step]["line"]
        if runs and p.key in jobs[-1].chain:  # it may have been through before, where the chain was sent back
            mark, line = "waits", ""
        elif job is not None and (runs or job.pk == jobs[-1].pk):
            mark, line = _how(job, mark, line)
        rows.append(
            Row(key=p.key, step=p.step, title=titles[p.step], does=p.does, plan=plan.text, seconds=plan.seconds,
                mark=mark, line=line, job=job)
        )  # fmt: skip
    begin = next((r.key for r in rows if r.mark not in DONE), rows[0].key)  # all of it again where all is done
    unit, per = model.mechanism.unit, model.mechanism.unit_per_rad
    last = jobs[-1] if jobs else None
    return {
        "rows": rows, "begin": begin, "runs": runs, "last": last, "unit": unit, "job": active.pk if active else 0,
        "stopped": _stopped(axis, last) if not runs else None,
        "travel": max(p.travel for p in plans) * per, "speed": max(p.speed for p in plans) * per,
        "seconds": _left(rows, jobs[-1] if runs else None, begin),
        "not_for": next((w for p in in_order() if (w := p.not_for(model))), ""),
        "connected": axis.connected,
    }  # fmt: skip


def _in_progress(active: Job | None, last: Job, of: dict[str, dict[str, Any]]) -> bool:
    """Whether a chain runs, by the job found `active` and its own `last`, which was read after it.

    Between both reads a job may have ended and the next been queued: what the later read says counts.
    """
    if last.is_active:
        return True
    return (active is None or active.pk == last.pk) and _goes_on(last, of)


def _goes_on(last: Job, of: dict[str, dict[str, Any]]) -> bool:
    """Whether the next job of a chain is about to be queued: its last one has just come through."""
    through = last.state == "done" and bool(last.chain) and not last.happened and of[last.step]["state"] != "missed"
    return through and last.ended is not None and timezone.now() - last.ended < BETWEEN


def _how(job: Job, state: str, line: str) -> tuple[str, str]:
    """Mark and line of a step that was begun in this go."""
    if job.is_active:
        return "runs", job.phase or "waiting for the worker"
    if job.state == "done" and state != "missed":
        return "through", line
    return "stopped", line if job.state == "done" else job.happened


def _stopped(axis: Axis, last: Job | None) -> dict[str, str] | None:
    """Why the newest chain went no further, and what to do; None if it came through, or there was none."""
    if last is None or (last.state == "done" and not last.chain and not last.happened):
        return None
    if last.state != "done" or last.happened:
        return {"step": last.step, "title": last.title, "why": f"{last.happened} {last.means}", "remedy": last.remedy}
    verdict = axis.verdicts.filter(step=last.step).order_by("-pk").first()
    if verdict is None or verdict.is_proven:
        return None
    return {
        "step": last.step, "title": last.title, "why": f"Not proven: {verdict.reason}.",
        "remedy": "Look at what it measured, ask for what the axis can give, and go on from there.",
    }  # fmt: skip


def _left(rows: list[Row], running: Job | None, begin: str) -> float:
    """Seconds that remain, about."""
    if running is None:
        keys = [r.key for r in rows]
        return sum(r.seconds for r in rows[keys.index(begin) :])
    own = sum(r.seconds for r in rows if r.key == running.procedure) if running.is_active else 0.0
    return own * (1 - running.share) + sum(r.seconds for r in rows if r.key in running.chain)
