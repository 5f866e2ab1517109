"""Cells as sheets print them."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.quantities.printed import Printed, UnreadableCell, read_printed
from cadrel.core.quantities.units import UNITS, to_si, unit_of

SINE, PER, EMF, WINDING, POLES = (
    ("rms", "peak", "dc"), ("per_rms", "per_peak", "per_dc"),
    ("ll_rms", "ll_peak", "phase_rms", "phase_peak", "terminal"), ("line_to_line", "phase", "terminal"),
    ("pairs", "poles"),
)  # fmt: skip
CELLS = [  # text, quantity, conventions, value, unit, convention
    ("2.6 Ω", "resistance", WINDING, 2.6, "ohm", None),
    ("2.6 Ω", "resistance", WINDING, 2.6, "ohm", None),
    ("1.3 Ohm", "resistance", WINDING, 1.3, "ohm", None),
    ("1.3 ohms (line to line)", "resistance", WINDING, 1.3, "ohm", "line_to_line"),
    ("650 mΩ", "resistance", WINDING, 650, "mohm", None),
    ("0,7 Ω L-L", "resistance", WINDING, 0.7, "ohm", "line_to_line"),
    ("0.35 Ω per phase", "resistance", WINDING, 0.35, "ohm", "phase"),
    ("2.1 mH", "inductance", WINDING, 2.1, "mH", None),
    ("850 μH", "inductance", WINDING, 850, "µH", None),
    ("850 uH", "inductance", WINDING, 850, "µH", None),
    ("5,6 mH ph-ph", "inductance", WINDING, 5.6, "mH", "line_to_line"),
    ("0.13 Nm/A", "torque_constant", PER, 0.13, "N·m/A", None),
    ("0.13 N·m/Arms", "torque_constant", PER, 0.13, "N·m/A", "per_rms"),
    ("0.13 N-m/A rms", "torque_constant", PER, 0.13, "N·m/A", "per_rms"),
    ("130 mNm/A", "torque_constant", PER, 130, "mN·m/A", None),
    ("18.4 oz-in/A", "torque_constant", PER, 18.4, "oz·in/A", None),
    ("18.4 oz·in/Apk", "torque_constant", PER, 18.4, "oz·in/A", "per_peak"),
    ("1.15 lb-in/A", "torque_constant", PER, 1.15, "lb·in/A", None),
    ("1.15 in-lb/A peak", "torque_constant", PER, 1.15, "lb·in/A", "per_peak"),
    ("52 V/1000min-1", "back_emf", EMF, 52, "V/krpm", None),
    ("52 V/1000 rpm", "back_emf", EMF, 52, "V/krpm", None),
    ("52 V/krpm", "back_emf", EMF, 52, "V/krpm", None),
    ("52 V/kRPM rms L-L", "back_emf", EMF, 52, "V/krpm", "ll_rms"),
    ("52 V/1000 min⁻¹", "back_emf", EMF, 52, "V/krpm", None),
    ("8.5 mV/rpm", "back_emf", EMF, 8.5, "mV/rpm", None),
    ("8.5 mV/min-1", "back_emf", EMF, 8.5, "mV/rpm", None),
    ("0.5 V·s/rad", "back_emf", EMF, 0.5, "V·s/rad", None),
    ("0.5 Vs/rad", "back_emf", EMF, 0.5, "V·s/rad", None),
    ("0.5 V/(rad/s)", "back_emf", EMF, 0.5, "V·s/rad", None),
    ("120 rpm/V", "back_emf", EMF, 120, "rpm/V", None),
    ("1.41 kgcm²", "inertia", (), 1.41, "kg·cm²", None),
    ("1.41 kg·cm2", "inertia", (), 1.41, "kg·cm²", None),
    ("1.41 kg cm^2", "inertia", (), 1.41, "kg·cm²", None),
    ("141 g·cm²", "inertia", (), 141, "g·cm²", None),
    ("141 gcm2", "inertia", (), 141, "g·cm²", None),
    ("0.000141 kgm²", "inertia", (), 0.000141, "kg·m²", None),
    ("1.41e-4 kg m²", "inertia", (), 1.41e-4, "kg·m²", None),
    ("7.7 oz-in²", "inertia", (), 7.7, "oz·in²", None),
    ("0.48 lb-in²", "inertia", (), 0.48, "lb·in²", None),
    ("0.00125 lb-in-s²", "inertia", (), 0.00125, "lb·in·s²", None),
    ("0.02 oz-in-sec2", "inertia", (), 0.02, "oz·in·s²", None),
    ("3.1 Arms", "current", SINE, 3.1, "A", "rms"),
    ("3.1 A rms", "current", SINE, 3.1, "A", "rms"),
    ("3,1 A eff", "current", SINE, 3.1, "A", "rms"),
    ("4.4 Apk", "current", SINE, 4.4, "A", "peak"),
    ("4.4 A (peak)", "current", SINE, 4.4, "A", "peak"),
    ("4.4 A dc", "current", SINE, 4.4, "A", "dc"),
    ("850 mA", "current", SINE, 850, "mA", None),
    ("3.1 Amps", "current", SINE, 3.1, "A", None),
    ("6000 min-1", "speed", (), 6000, "rpm", None),
    ("6,000 rpm", "speed", (), 6000, "rpm", None),
    ("6 000 rpm", "speed", (), 6000, "rpm", None),
    ("6\u202f000 1/min", "speed", (), 6000, "rpm", None),
    ("6'000 RPM", "speed", (), 6000, "rpm", None),
    ("4500 r/min", "speed", (), 4500, "rpm", None),
    ("4500 U/min", "speed", (), 4500, "rpm", None),
    ("628 rad/s", "speed", (), 628, "rad/s", None),
    ("2p=8", "count", POLES, 8, None, "poles"),
    ("2p = 8", "count", POLES, 8, None, "poles"),
    ("p = 4", "count", POLES, 4, None, "pairs"),
    ("8 poles", "count", POLES, 8, None, "poles"),
    ("4 pole pairs", "count", POLES, 4, None, "pairs"),
    ("10", "count", POLES, 10, None, None),
    ("1.27 Nm", "torque", (), 1.27, "N·m", None),
    ("180 oz-in", "torque", (), 180, "oz·in", None),
    ("180 ozf·in", "torque", (), 180, "oz·in", None),
    ("11.2 in-lbs", "torque", (), 11.2, "lb·in", None),
    ("0.94 lb-ft", "torque", (), 0.94, "lb·ft", None),
    ("0.94 ft-lb", "torque", (), 0.94, "lb·ft", None),
    ("13 kgf·cm", "torque", (), 13, "kgf·cm", None),
    ("127 Ncm", "torque", (), 127, "N·cm", None),
    ("155 °C", "temperature", (), 155, "°C", None),
    ("155 degC", "temperature", (), 155, "°C", None),
    ("18 AWG", "area", (), 18, "AWG", None),
    ("2500 lines", "count", (), 2500, "", None),
    ("1 250,5 N", "force", (), 1250.5, "N", None),
    ("1,250.5 N", "force", (), 1250.5, "N", None),
    ("1.250,5 N", "force", (), 1250.5, "N", None),
    ("−12.5 mm", "length", (), -12.5, "mm", None),
    ("0,7", "resistance", WINDING, 0.7, None, None),
    ("0,750 Ω", "resistance", WINDING, 0.75, "ohm", None),
    ("6,000", "speed", (), 6000, None, None),
    ("1.200", "resistance", WINDING, 1.2, None, None),
]


@pytest.mark.parametrize(("text", "quantity", "conventions", "value", "unit", "convention"), CELLS)
def test_a_cell_is_read_as_the_trade_means_it(
    text: str, quantity: str, conventions: tuple[str, ...], value: float, unit: str | None, convention: str | None
) -> None:
    assert read_printed(text, quantity=quantity, conventions=conventions) == Printed(
        value=value, unit=unit, convention=convention
    )


@pytest.mark.parametrize(
    ("text", "quantity", "says"),
    [
        ("1,234 Ω", "resistance", "is it 1234 or 1.234"),
        ("12,500 N", "force", "is it 12500 or 12.500"),
        ("Ω", "resistance", "no number"),
        ("", "resistance", "no number"),
        ("2.6 V", "resistance", "no unit of resistance"),
        ("2.6 Ωm", "resistance", "no unit of resistance"),
        ("3 4 A", "current", "two numbers"),
        ("3.1 A sometimes", "current", "'sometimes' is no convention"),
        ("5 mHz", "inductance", "no unit of inductance"),
    ],
)
def test_what_cannot_be_read_in_one_way_is_asked(text: str, quantity: str, says: str) -> None:
    with pytest.raises(UnreadableCell, match=says):
        read_printed(text, quantity=quantity, conventions=SINE)


@given(st.sampled_from(sorted(UNITS)), st.floats(1e-3, 9e5))
def test_every_unit_of_the_table_is_read_as_itself(unit: tuple[str, str], value: float) -> None:
    quantity, text = unit
    found = read_printed(f"{value!r} {text}".strip(), quantity=quantity)
    assert found.value == value
    assert (found.unit or "") == text


@given(st.text(max_size=60), st.sampled_from(sorted({q for q, _ in UNITS})))
def test_whatever_is_pasted_is_read_or_refused(text: str, quantity: str) -> None:
    try:
        found = read_printed(text, quantity=quantity, conventions=EMF)
    except UnreadableCell as problem:
        assert problem.text
    else:
        assert math.isfinite(found.value) or "e" in text.lower()


def test_further_units_are_what_their_definitions_say() -> None:
    # From the exact pound (0.45359237 kg), inch (25.4 mm) and standard gravity (9.80665 m/s²).
    assert to_si(1, quantity="torque", unit="lb·ft") == pytest.approx(1.3558179483314004)
    assert to_si(1, quantity="torque", unit="kgf·cm") == pytest.approx(0.0980665)
    assert to_si(1, quantity="inertia", unit="lb·in²") == pytest.approx(2.9263965343e-4)
    assert to_si(16, quantity="inertia", unit="oz·in²") == pytest.approx(2.9263965343e-4)
    # ASTM B258 wire gauges, from memory: 18 AWG is 0.823 mm², 10 AWG 5.26 mm², 0 AWG 53.5 mm².
    for number, area in ((18, 0.823), (10, 5.26), (0, 53.5)):
        assert 1e6 * to_si(number, quantity="area", unit="AWG") == pytest.approx(area, rel=2e-3)
        assert unit_of("area", "AWG").from_si(1e-6 * area) == pytest.approx(number, abs=0.02)
