"""Values from elsewhere replace the parts they bring, and prove nothing here."""

from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.axis import arriving, drive_values, parts_of
from cadrel.core.parameters import REGISTRY, Entry
from tests.conftest import values_of

SISTER: dict[str, Entry] = {
    **values_of("tile-pusher"),
    "motor.resistance": {"value": 1.31, "unit": "ohm", "source": "identified"},
    "commutation.offset": {"value": 112.4, "unit": "°", "source": "identified"},
    "commutation.valid": {"value": "1", "source": "computed"},
}


def test_what_was_found_on_a_sister_axis_is_from_elsewhere_and_its_angle_is_not_confirmed_here() -> None:
    made = arriving({}, SISTER, parts_of(SISTER))
    after = {k: e for k, e in made.changes.items() if e is not None}
    assert after["motor.resistance"].get("source") == "elsewhere"
    assert after["motor.resistance"].get("value") == 1.31
    assert after["commutation.valid"].get("value") == "0"
    assert set(made.unproven) == {"motor.resistance", "commutation.offset", "commutation.valid"}
    assert drive_values(after)["commutation.valid"] == 0.0  # the drive refuses to enable on it


def test_nothing_of_another_device_stays_behind_in_the_parts_that_come() -> None:
    held = {**values_of("tile-pusher"), "sheet.torque_peak": {"value": 9.0, "unit": "N·m", "source": "sheet"}}
    motor = {k: e for k, e in values_of("glaze-arm").items() if k.startswith("sheet.")}
    made = arriving(held, motor, parts_of(motor))
    assert "sheet.torque_peak" in made.gone or "sheet.torque_peak" in motor
    after = {**held, **made.changes}
    ours = {k for k, e in after.items() if e is not None and REGISTRY[k].step == "motor"}
    assert ours == {k for k in motor if REGISTRY[k].step == "motor"}
    assert {k for k in held if REGISTRY[k].step == "limits"} <= set(after)


@given(st.sets(st.sampled_from(sorted(SISTER))), st.sets(st.sampled_from(sorted(SISTER))))
def test_every_key_is_said_to_be_one_thing(held: set[str], coming: set[str]) -> None:
    before = {k: SISTER[k] for k in held}
    made = arriving(before, {k: SISTER[k] for k in coming}, parts_of(coming))
    said = [*made.changed, *made.added, *made.gone, *made.same]
    assert len(said) == len(set(said))
    assert set(said) == coming | {k for k in held if k in parts_of(coming)}
    assert set(made.gone).isdisjoint(coming)
