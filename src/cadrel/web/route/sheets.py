"""What each step's sheet shows."""

from typing import Any

from cadrel.core.axis import missing_entries
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import DRIVE_KEYS, REGISTRY, STEPS, choice_of, full_label
from cadrel.core.quantities import from_si, units_of
from cadrel.link import LinkError
from cadrel.procedures import PROCEDURES, Procedure
from cadrel.procedures.stops.braking import SAYS
from cadrel.web.changes.values import retired_by
from cadrel.web.library.actions import is_altered
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.rig.actions import differences, wanted_values
from cadrel.web.rig.brake import may_move_text
from cadrel.web.rig.links import drive_of
from cadrel.web.route.asked import apart, asked_fields
from cadrel.web.route.entries import asked_of, first_to_fill, form_of, shown_value
from cadrel.web.route.facts import understood_of
from cadrel.web.route.foreseen import foreseen_context
from cadrel.web.route.front import along_of
from cadrel.web.route.judged import accepted_move, judged_of
from cadrel.web.route.phasing import power_up_text
from cadrel.web.route.predict import SLIDERS, asked_rows, loop_of, predict
from cadrel.web.route.sources import sources_of
from cadrel.web.runs.plant import plant_of
from cadrel.web.runs.plots import plots_of

WAITS = "a proposal waits"
MOST_TRIES = 20  # of a climb
MOST_STOPS = 12  # runs looked through for the newest of each stop
ENTRY_STEPS = ("motor", "feedback", "mechanics", "power", "limits")
PROCEDURE_STEPS = ("commutation", "current", "load", "velocity", "position", "stops", "acceptance")
INTRO = {
    "motor": "As the sheet prints it, with unit and convention.",
    "feedback": "The device on the motor, and on the load if there is one.",
    "mechanics": "What the motor drives, and the unit you think in.",
    "power": "What feeds the bus, and where braking energy goes.",
    "limits": "What nothing may exceed, and what the axis must reach.",
    "drive": "Connect, compare, send, store.",
    "commutation": "Direction, pole pairs, Hall sequence and electrical offset.",
    "current": "R and L measured, then gains, a step and a frequency response.",
    "load": "First jog, then flux, inertia and friction within the travel.",
    "velocity": "Plant measured in motion, gains within the margins asked for.",
    "position": "Position gain and feedforward around the velocity loop.",
    "stops": "What the brake holds and how long it takes; where the energy of a stop goes.",
    "acceptance": "The real move, many times, against the goal.",
    "handover": "What is proven, what is stored, what happened.",
}


def route_of(axis: Axis, current: str) -> list[dict[str, Any]]:
    """Return the steps with state and one line of result."""
    findings: dict[str, Any] = {}
    for f in axis.findings.select_related("verdict").all():
        findings.setdefault(f.step, []).append(f)
    values = axis.values
    waiting = set(axis.proposals.filter(state="open").values_list("step", flat=True))
    rows = []
    for step in STEPS:
        state, line = _step_state(axis, step.key, values, findings.get(step.key, []))
        line = WAITS if step.key in waiting else line
        rows.append({"key": step.key, "title": step.title, "state": state, "line": line, "now": step.key == current})
    return rows


def _step_state(axis: Axis, key: str, values: dict[str, Any], found: list[Any]) -> tuple[str, str]:
    if key in ENTRY_STEPS:
        missing = missing_entries(values, key)
        if missing:
            return "open", f"{len(missing)} to enter"
        facts = understood_of(key, values)
        if facts.problem:
            return "open", "to be completed"
        if any(f.state == "stale" for f in found):
            return "stale", found[0].stale_because
        bad = [c for c in facts.checks if c.state != "agrees"]
        wrong = [c for c in bad if c.state == "wrong"]
        if wrong:
            return "missed", f"{len(wrong)} wrong"
        if not bad and any(f.state == "proven" for f in found):
            return "proven", found[0].summary
        return ("estimated", f"{len(bad)} to look at") if bad else ("measured", "checks agree")
    if key == "drive":
        return ("measured", "connected") if axis.connected else ("open", "not connected")
    if key == "handover":
        return "open", ""
    # What a refused climb found stands beside a loop that is proven as it was.
    stale = [f for f in found if f.state == "stale"]
    if stale and not any(f.state == "proven" for f in found):
        return "stale", stale[0].stale_because
    missed = next((f.verdict for f in found if f.verdict_id and not f.verdict.is_proven), None)
    if missed is not None:
        return "missed", f"not proven: {missed.reason}"
    if found:
        worst = "proven" if any(f.state == "proven" for f in found) else "measured"
        proving = next((f for f in found if f.verdict_id), found[0])  # not what was only looked at
        return worst, proving.summary
    return "open", "not done"


def sheet_of(axis: Axis, step: str, strip: dict[str, Any], user: Any) -> dict[str, Any]:
    """Return the context of a step's sheet."""
    model = model_or_none(axis)
    context: dict[str, Any] = {"intro": INTRO[step], "kind": "entries" if step in ENTRY_STEPS else step}
    if step in ENTRY_STEPS:
        values = axis.values
        fields = form_of(step, values, {}, values=values)
        context |= {
            "fields": fields,
            "asked": asked_of(fields),
            "focus": first_to_fill(fields),
            "kind_before": choice_of(values, "sheet.kind"),
            "facts": understood_of(step, values),
        }
        context["retired"] = retired_by(axis)
        if step in ("motor", "mechanics"):
            context["sources"] = [r for r in sources_of(axis) if (step == "mechanics") == r["key"].startswith("load.")]
        if step in ("motor", "feedback"):
            use = axis.uses.filter(kind=step).select_related("revision__record").first()
            context |= {"kept_kind": step, "use": use, "altered": use is not None and is_altered(use)}
        if step == "feedback" and axis.connected:
            context |= _hand_context(axis)
    elif step == "drive":
        context |= _drive_context(axis)
    elif step == "handover":
        context |= {
            "findings": axis.findings.with_run().order_by("pk"),
            "events": axis.events.select_related("who")[:40],
            "sets": axis.value_sets.select_related("author")[:8],
        }
    else:
        context |= _procedure_context(axis, step, model, strip)
    return context


def _hand_context(axis: Axis) -> dict[str, Any]:
    runs = axis.runs.to_draw("feedback")
    return {
        "hand_test": True,
        "job": axis.jobs.filter(procedure="feedback").first(),
        "findings": axis.findings.with_run().filter(step="feedback").order_by("pk"),
        "plots": plots_of(axis, "feedback", runs[:1], []),
    }


def _drive_context(axis: Axis) -> dict[str, Any]:
    context: dict[str, Any] = {"rows": [], "differing": 0, "problem": None, "identity": None}
    model = model_or_none(axis)
    try:
        wanted = wanted_values(axis)
    except CadrelError as error:
        context["problem"] = error.parts[0]
        wanted = {}
    if not axis.connected:
        return context
    try:
        drive = drive_of(axis, "page")
        context["identity"] = drive.identity()
        held, permanent = drive.read(), drive.read("permanent")
    except LinkError as error:
        context["problem"] = error.text
        return context
    differing = set(differences(wanted, held)) if wanted else set()
    unstored = set(differences(held, permanent))
    context["rows"] = [
        {
            "key": k,
            "label": full_label(k),
            "symbol": REGISTRY[k].symbol,
            "project": shown_value(k, wanted[k], model) if wanted else "–",
            "drive": shown_value(k, held[k], model),
            "permanent": shown_value(k, permanent[k], model),
            "differs": k in differing,
            "unstored": k in unstored,
            "restart": REGISTRY[k].restart,
        }
        for k in DRIVE_KEYS
    ]
    context["differing"], context["unstored"] = len(differing), len(unstored)
    return context


def _procedure_context(axis: Axis, step: str, model: Any, strip: dict[str, Any]) -> dict[str, Any]:
    context: dict[str, Any] = {"problem": None, "plan": "", "sliders": [], "prediction": None}
    proposal = axis.proposals.filter(step=step, state="open").first()
    if proposal:
        context["proposal"] = proposal
        context["changes"] = [_change_row(c, model) for c in proposal.changes]
        context["unchanged"] = [c for c in context["changes"] if c["same"]]
    withheld = axis.proposals.filter(step=step, state="withheld").first()
    if withheld:
        context["withheld"] = withheld
    if step != "acceptance":  # which has a table of its own
        context["judged"] = judged_of(axis, step, model)
    runs = axis.runs.to_draw(step)
    pinned = list(axis.runs.filter(pinned=True).order_by("-number")[:3])
    context |= {
        "findings": axis.findings.with_run().filter(step=step).order_by("pk"),
        "job": axis.jobs.filter(procedure__in=[p.key for p in PROCEDURES.values() if p.step == step]).first(),
        "plots": plots_of(axis, step, runs, pinned),
    }
    if model is None:
        context["problem"] = "Motor, feedback, mechanics, power and limits must be complete first."
        return context
    wanted = wanted_values(axis)
    declared = PROCEDURES[step]
    context["plan"] = declared.plan(model, wanted).text
    context["procedure"] = declared
    # What the drive would refuse is said before anybody presses.
    context["blocked"] = [b for b in strip["blockers"] if declared.hinders(b)]
    context["arguments"] = _arguments(declared, model)
    context["others"] = [
        {"procedure": p, "plan": p.plan(model, wanted), "arguments": _arguments(p, model)}
        for p in PROCEDURES.values()
        if p.step == step and p.key != step and p.finds and p.applies(model)
    ]
    if step == "position":
        context["tries"] = _tries(axis, model)
    if step == "stops":
        context["stops"] = _stops(axis)
        if model.has_brake and axis.connected:
            context["brake_way"] = may_move_text(axis)
    if step == "commutation":
        context["power_up_plan"] = power_up_text(model, wanted)
        by_hand = axis.findings.filter(kind="commutation", label="Offset by hand").exists()
        if wanted["commutation.valid"] == 0.0 and (by_hand or _from_elsewhere(axis)):
            context["confirm"] = PROCEDURES["confirm_offset"]
            context["confirm_plan"] = PROCEDURES["confirm_offset"].plan(model, wanted).text
        context["opens_brake"] = model.has_brake
        context["phasing_share"] = f"{100 * model.phasing_share:.4g}"
        context["power_up_ways"] = [] if model.knows_angle_at_power_up else REGISTRY["phasing.power_up"].choices
        context["power_up_way"] = model.power_up
    context["to_ask"], context["sections"] = apart(asked_fields(axis, step, wanted))
    context |= _prediction_context(axis, step, model, wanted)
    if step == "acceptance":
        context["foreseen"] = foreseen_context(axis, model, wanted)
        if runs:
            context["verdict"] = accepted_move(axis, runs[0], model)
    return context


def _prediction_context(axis: Axis, step: str, model: Any, wanted: dict[str, float]) -> dict[str, Any]:
    """Sliders, and what the gains would give, of a step that has a loop."""
    context: dict[str, Any] = {}
    loop = loop_of(step)
    if loop is None:
        return {}
    context["sliders"] = [slider_of(k, wanted[k]) for k in SLIDERS[loop]]
    prediction = predict(axis, loop, {})
    context["prediction"] = prediction
    context["front"] = step == "velocity" and plant_of(axis).springy is not None
    context["along"] = [slider_of(k, wanted[k]) for k in along_of(axis, wanted)] if context["front"] else []
    context["asked"] = asked_rows(step, _asked(model), prediction)
    return context


def _tries(axis: Axis, model: Any) -> list[dict[str, Any]]:
    """The tries of the newest climb: how quick, and what the same move gave, in the order they were made."""
    found: list[dict[str, Any]] = []
    for run in axis.runs.filter(step="position", kind="climb").defer("data").order_by("-number")[:MOST_TRIES]:
        m, settling = run.metrics, run.metrics["settling_time"]
        found.insert(0, {
            "run": run, "factor": f"{m['factor']:.3g}", "ripple": f"{100 * m['ripple']:.2g}",
            "settling": "never" if settling is None else f"{1e3 * settling:.0f}",
            "error": f"{m['following_error'] * model.mechanism.unit_per_rad:.3g}",
            "unit": model.mechanism.unit,
        })  # fmt: skip
        if m.get("baseline"):
            break  # the ones before are an earlier climb's
    return found


def _stops(axis: Axis) -> list[dict[str, Any]]:
    """The newest run of each stop: the case seen beside the one predicted, what the bus rose to, and the energy."""
    newest: dict[str, Any] = {}
    for run in axis.runs.filter(step="stops", kind="stop").defer("data").order_by("-number")[:MOST_STOPS]:
        newest.setdefault(run.title, run)
    return [
        {
            "run": run, "seen": SAYS[run.metrics["seen"]], "predicted": SAYS[run.metrics["predicted"]],
            "same": run.metrics["seen"] == run.metrics["predicted"], "bus": run.metrics["bus_peak"],
            "energy": run.metrics["energy"], "foreseen": run.metrics["predicted_energy"],
            "duty": 100 * run.metrics["chopper_duty"],
        }
        for run in reversed(newest.values())
    ]  # fmt: skip


def _arguments(procedure: Procedure, model: Any) -> list[dict[str, Any]]:
    return [
        {"it": a, "preset": f"{a.preset(model):g}", "choices": [(str(k), word) for k, word in enumerate(a.choices)]}
        for a in procedure.arguments
    ]


def _from_elsewhere(axis: Axis) -> bool:
    """Whether an offset is held that was found on another axis."""
    return axis.values.get("commutation.offset", {}).get("source") == "elsewhere"


def _change_row(change: dict[str, Any], model: Any) -> dict[str, Any]:
    """A change as it is read; what differs in digits nobody reads is the same."""
    key, before = change["key"], change["before"]
    old = "–" if before is None else shown_value(key, before, model)
    new = shown_value(key, change["after"], model)
    return {
        "key": key, "label": full_label(key), "symbol": REGISTRY[key].symbol, "before": old, "after": new,
        "same": old == new,
    }  # fmt: skip


def _asked(model: Any) -> dict[str, float]:
    r = model.robustness
    return {"phase_margin": r.phase_margin, "gain_margin_db": r.gain_margin_db, "sensitivity_peak": r.sensitivity_peak}


def slider_of(key: str, value: float) -> dict[str, Any]:
    """Return a slider around a value: a decade to each side, logarithmic, where zero is no value."""
    p = REGISTRY[key]
    unit = p.unit or units_of(p.quantity)[0]
    shown = from_si(value, quantity=p.quantity, unit=unit)
    if p.minimum > 0:
        low, high = max(value / 8, p.minimum), min(value * 8, p.maximum)
        low, high = from_si(low, quantity=p.quantity, unit=unit), from_si(high, quantity=p.quantity, unit=unit)
        scale = "log"
    else:
        low, high = (from_si(b, quantity=p.quantity, unit=unit) for b in (p.minimum, p.maximum))
        scale = "linear"
    return {"parameter": p, "value": f"{shown:.5g}", "unit": unit, "low": low, "high": high, "scale": scale}
