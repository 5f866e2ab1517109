"""The run shelf's cards and the analysis page of a run."""

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.parameters import DRIVE_KEYS, full_label
from cadrel.exchange import recording_csv, response_uff
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.pages.requests import axis_of, next_of
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.route.entries import shown_value
from cadrel.web.route.page import page_of
from cadrel.web.runs.models import Run
from cadrel.web.runs.plots import CHANNELS, UNITS, mean_of, plots_of, time_series, units_of_axis
from cadrel.web.runs.responses import measured_responses

LABELS = {
    "rise_time": ("Rise time, 10 to 90 %", "ms", 1e3),
    "settling_time": ("Settling time", "ms", 1e3),
    "overshoot": ("Overshoot", "%", 100.0),
    "bandwidth_hz": ("Bandwidth, −3 dB", "Hz", 1.0),
    "bandwidth_90_hz": ("Bandwidth, −90°", "Hz", 1.0),
    "crossover_hz": ("Crossover", "Hz", 1.0),
    "phase_margin_deg": ("Phase margin", "°", 1.0),
    "gain_margin_db": ("Gain margin", "dB", 1.0),
    "sensitivity_peak": ("Peak sensitivity", "", 1.0),
    "offset_deg": ("Offset", "°", 1.0),
    "refined_by_deg": ("Refined by spinning", "°", 1.0),
    "friction_lag_deg": ("Friction lag", "°", 1.0),
    "imbalance": ("Torque, difference of directions", "%", 100.0),
    "move_time": ("Move time", "ms", 1e3),
    "current_peak": ("Current, peak", "A peak", 1.0),
    "current_rms": ("Current, effective", "A", 1.0),
    "bus_peak": ("Highest bus", "V", 1.0),
    "mode_hz": ("Resonance, closely", "Hz", 1.0),
    "mode_damping": ("Its damping", "%", 100.0),
    "mode_lines": ("Lines in its half-power width", "", 1.0),
    "residual": ("Residual torque", "N·m", 1.0),
}
SI = {"position": "rad", "error": "rad", "velocity": "rad/s"}


def run(request: HttpRequest, axis_id: int, number: int) -> HttpResponse:
    """All of one run: every channel, metrics, what changed, values in force."""
    axis = axis_of(axis_id)
    found = get_object_or_404(axis.runs.select_related("value_set", "who"), number=number)
    context = page_of(request, axis, found.step)
    units = units_of_axis(axis)
    pinned = list(axis.runs.filter(pinned=True, kind=found.kind).exclude(pk=found.pk)[:3])
    series = time_series(found, None, units, as_recorded=True)
    for other in pinned:
        series += time_series(other, list(found.channels)[:2], units, ghost=True, as_recorded=True)
    drawn = plots_of(axis, found.step, [found], [])
    derived = [p for p in drawn if p["kind"] == "bode" or p["x_label"] != "ms" or mean_of(found)]
    plots = list(derived)
    if series:
        plots.insert(
            len(plots),  # what was read from it first, then all that was recorded
            {
                "title": "As recorded" if plots else found.title,
                "kind": "time",
                "x_label": "ms",
                "series": series,
                "run": found.number,
                "run_id": found.pk,
                "id": f"run-{found.pk}",
                "stacked": True,
            },
        )
    model = model_or_none(axis)
    metrics = []
    for key, (label, unit, factor) in LABELS.items():
        if key in found.metrics:
            value = found.metrics[key]
            metrics.append((label, "never" if value is None else f"{value * factor:.4g}", unit))
    context |= {
        "run": found,
        "plots": plots,
        "metrics": metrics,
        "title": found.title,
        "has_responses": bool(measured_responses(found)),
        "values": [
            (full_label(k), shown_value(k, found.drive_values[k], model)) for k in DRIVE_KEYS if k in found.drive_values
        ],
    }
    return render(request, "runs/run.html", context)


@require_POST
@engineer_required
def pin(request: HttpRequest, axis_id: int, number: int) -> HttpResponse:
    """Pin a run or let it go; the oldest of three gives way."""
    axis = axis_of(axis_id)
    found = get_object_or_404(axis.runs, number=number)
    Run.objects.filter(pk=found.pk).update(pinned=not found.pinned)
    for extra in axis.runs.filter(pinned=True).order_by("-number")[3:]:
        Run.objects.filter(pk=extra.pk).update(pinned=False)
    return redirect(next_of(request, f"/axis/{axis_id}/run/{number}/"))


def shelf(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Every run of an axis."""
    axis = axis_of(axis_id)
    context = page_of(request, axis, "handover")
    context |= {"runs": axis.runs.defer("data", "curves", "drive_values").select_related("who")[:400], "title": "Runs"}
    return render(request, "runs/shelf.html", context)


def csv(request: HttpRequest, axis_id: int, number: int) -> HttpResponse:
    """A run as CSV, SI units at the motor shaft."""
    axis = axis_of(axis_id)
    found = get_object_or_404(axis.runs, number=number)
    units = {k: SI.get(CHANNELS[k][0], UNITS.get(CHANNELS[k][0], "")) for k in found.channels if k in CHANNELS}
    text = recording_csv(found.period, {k: v.astype(float) for k, v in found.arrays().items()}, units)
    response = HttpResponse(text, content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="run-{axis.pk}-{number}.csv"'
    return response


def uff(request: HttpRequest, axis_id: int, number: int) -> HttpResponse:
    """The measured frequency responses of a run as a universal file."""
    axis = axis_of(axis_id)
    found = get_object_or_404(axis.runs.defer("data"), number=number)
    responses = measured_responses(found)
    if not responses:
        raise Http404("No frequency response was measured in this run.")
    title = f"{axis.name}, run {found.number}: {found.title}"
    body = response_uff(responses, title=title, when=f"{found.created:%d-%b-%y %H:%M:%S}")
    response = HttpResponse(body, content_type="application/octet-stream")
    response["Content-Disposition"] = f'attachment; filename="run-{axis.pk}-{number}.uff"'
    return response
