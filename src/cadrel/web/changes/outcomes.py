"""Keeping what a procedure gave, and deciding on what it proposes."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from cadrel.core import verdict as core
from cadrel.core.axis import entry_from_drive
from cadrel.core.parameters import REGISTRY, STEPS, full_label
from cadrel.procedures import Outcome, RunRecord, in_order
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Event, Finding, Proposal, Run, Verdict
from cadrel.web.runs.plant import keep_part
from cadrel.web.runs.shape import miniature


@transaction.atomic
def keep_outcome(
    axis: Axis,
    step: str,
    outcome: Outcome,
    *,
    before: Mapping[str, float],
    after: Mapping[str, float],
    who: Any,
    notes: str = "",
    value_set: int | None = None,
    finds: Sequence[str] = (),
) -> Proposal | None:
    """Keep runs and findings of a finished procedure as one; returns the proposal if it changed drive values.

    `value_set` is the one in force when the run began; without one, the newest. `finds` are the kinds of finding that
    it replaces; without them all of the step's.
    """
    values = axis.value_sets.get(pk=value_set) if value_set else axis.latest_set()
    assert values is not None
    runs = []
    last = axis.runs.order_by("-number").first()
    previous: Mapping[str, float] = last.drive_values if last else {}
    number = (axis.runs.aggregate(n=Max("number"))["n"] or 0) + 1
    for k, record in enumerate(outcome.runs):
        in_force = {**after, **record.in_force}
        changed = [full_label(key) for key in in_force if previous and previous.get(key) != in_force[key]]
        previous = in_force
        runs.append(
            Run.objects.create(
                axis=axis,
                number=number + k,
                kind=record.kind,
                step=step,
                title=record.title,
                value_set=values,
                drive_values=in_force,
                period=record.period,
                channels=list(record.channels),
                data=Run.packed(record.channels),
                excitation=record.excitation,
                metrics=record.metrics,
                curves=record.curves,
                changed=changed,
                thumbnail=miniature(record.channels, record.curves),
                who=who,
                notes=notes,
            )
        )
    if outcome.plant is not None:
        keep_part(axis, outcome.plant, run=runs[outcome.plant_run], values=values)
    verdict = keep_verdict(axis, step, outcome.verdict, runs=runs, values=values)
    if outcome.findings:
        old = Finding.objects.filter(axis=axis, step=step)
        (old.filter(kind__in=finds) if finds else old).delete()
    for f in outcome.findings:
        Finding.objects.create(
            axis=axis,
            step=step,
            kind=f.kind,
            label=f.label,
            value=f.value,
            unit=f.unit,
            std=f.std,
            run=runs[f.run],  # a claim without a run is none
            value_set=values,
            verdict=verdict if verdict is not None and f.kind == verdict.claim else None,
            state=f.state,
            summary=outcome.summary,
        )
    said = "" if verdict is None or verdict.is_proven else f" Not proven: {verdict.reason}."
    Event.objects.create(axis=axis, who=who, kind="run", text=f"{step}: {outcome.summary}{said}"[:400])
    if outcome.changes or not finds:  # what only looks leaves a proposal as it stands
        Proposal.objects.filter(axis=axis, step=step, state__in=("open", "withheld")).update(
            state="replaced", decided=timezone.now()
        )
    if outcome.withheld:
        back = [{"key": k, "before": before.get(k), "after": v} for k, v in outcome.withheld.items()]
        Proposal.objects.create(
            axis=axis,
            step=step,
            changes=back,
            reason=said.strip()[:300],
            state="withheld",
            who=who,
            first_run=runs[0].number if runs else None,
        )
    if not outcome.changes:
        derive_states(axis, step)
        return None
    changes = [{"key": k, "before": before.get(k), "after": v} for k, v in outcome.changes.items()]
    reason = str(outcome.margins.get(step, {}).get("limited_by", ""))
    proposal = Proposal.objects.create(
        axis=axis, step=step, changes=changes, reason=reason, who=who, first_run=runs[0].number if runs else None
    )
    if finds:
        derive_states(axis, step)  # what another procedure of the step found before is not what the drive holds now
    return proposal


def keep_verdict(
    axis: Axis, step: str, verdict: core.Verdict | None, *, runs: Sequence[Run], values: Any
) -> Verdict | None:
    """Store a verdict with the run that measured it; without a run there is nothing to store."""
    if verdict is None or verdict.run is None:
        return None
    body = verdict.as_dict()
    return Verdict.objects.create(
        axis=axis, step=step, claim=verdict.claim, run=runs[verdict.run], value_set=values, state=verdict.state,
        reason=verdict.reason, criteria=body["criteria"], remarks=body["remarks"],
    )  # fmt: skip


def derive_states(axis: Axis, step: str) -> None:
    """Let a step's findings say what their verdicts say: the only place that writes "proven".

    A change that waits for the engineer's decision is no proof of what the project holds.
    """
    waits = axis.proposals.filter(step=step, state="open").exists()
    for finding in axis.findings.filter(step=step).exclude(state="stale").select_related("verdict"):
        proven = finding.verdict is not None and finding.verdict.is_proven and not waits
        state = "proven" if proven else ("estimated" if finding.state == "estimated" else "measured")
        if state != finding.state:
            Finding.objects.filter(pk=finding.pk).update(state=state)


def _comes_before(step: str, other: str) -> bool:
    """Whether a step of the route comes before another."""
    order = [s.key for s in STEPS]
    return order.index(step) < order.index(other)


@transaction.atomic
def take_proposal(proposal: Proposal, keys: Iterable[str], *, who: Any) -> list[dict[str, Any]]:
    """Take the named changes into the project; returns the others, whose old values belong back into the drive."""
    chosen = set(keys)
    axis = proposal.axis
    model = axis.understood
    taken = {
        c["key"]: entry_from_drive(c["key"], c["after"], axis=model) for c in proposal.changes if c["key"] in chosen
    }
    left = [c for c in proposal.changes if c["key"] not in chosen]
    proposal.state = "taken" if not left else ("partly" if taken else "refused")
    proposal.decided = timezone.now()
    proposal.save()
    if taken:
        save_entries(axis, taken, author=who, cause=f"{proposal.step} proposal taken", proven_step=proposal.step)
    # Values of an earlier step, tuned there and changed here, are no longer those that were proven there.
    earlier = {REGISTRY[key].step for key in taken} & {p.step for p in in_order() if p.step != proposal.step}
    axis.findings.filter(step__in=[s for s in earlier if _comes_before(s, proposal.step)]).update(
        state="stale", stale_because=f"values changed by the {proposal.step} step"
    )
    # A step may have several procedures: what an earlier run of another found rests on the values from before.
    own = axis.findings.filter(step=proposal.step)
    newer = own if proposal.first_run is None else own.filter(run__number__gte=proposal.first_run)
    if taken and proposal.first_run is not None:
        own.filter(run__number__lt=proposal.first_run).update(state="stale", stale_because="gains of a later run taken")
    if left:
        newer.update(state="stale", stale_because="the proposal was not taken whole")
    derive_states(axis, proposal.step)
    Event.objects.create(axis=axis, who=who, kind="proposal", text=f"Proposal for {proposal.step} {proposal.state}.")
    return left


@transaction.atomic
def keep_unfinished(
    axis: Axis, step: str, partial: RunRecord | None, *, after: Mapping[str, float], who: Any, kind: str, why: str,
    codes: Sequence[str] = (),
) -> None:  # fmt: skip
    """Keep the last recording of a run that was interrupted or refused; what it began to change is proven no more.

    Parameters
    ----------
    kind : str
        "interrupted" or "refused".
    why : str
        What happened, a sentence.
    codes : sequence of str
        Faults by their codes, where they were named.
    """
    values = axis.latest_set()
    assert values is not None
    if partial is not None:
        number = (axis.runs.aggregate(n=Max("number"))["n"] or 0) + 1
        Run.objects.create(
            axis=axis,
            number=number,
            kind=kind,
            step=step,
            title=f"{kind.capitalize()}: {partial.title}",
            value_set=values,
            drive_values=dict(after),
            period=partial.period,
            channels=list(partial.channels),
            data=Run.packed(partial.channels),
            excitation=partial.excitation,
            metrics={**partial.metrics, "codes": list(codes)} if codes else partial.metrics,
            thumbnail=miniature(partial.channels, {}),
            who=who,
            notes=why,
        )
    if kind == "interrupted" or (
        partial is not None and step == "commutation"
    ):  # another refused run leaves all as it was
        axis.findings.filter(step=step).update(state="stale", stale_because=f"a later run was {kind}")
    Event.objects.create(axis=axis, who=who, kind=kind, text=f"{step} was {kind}. {why}".strip()[:400])
