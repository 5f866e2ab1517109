"""The identified plant as a value: its parts, and what retires them."""

from cadrel.core.identification import IdentifiedPlant, RubbedLoad, TotalLoad, Unrest


def test_what_an_axis_needs_to_stand_still_is_kept_until_its_load_is_found_anew() -> None:
    load = TotalLoad(inertia=1e-3, viscous_total=1e-3, coulomb=0.05)
    plant = IdentifiedPlant().with_part(load).with_part(Unrest(noise=2.5))
    kept = IdentifiedPlant.from_dict(plant.as_dict())
    assert kept.unrest == Unrest(noise=2.5) and kept.total == load
    assert kept.with_part(RubbedLoad(sliding=0.05, viscous=1e-3)).unrest is not None
    assert kept.with_part(load).unrest is None
    assert IdentifiedPlant.from_dict({}).unrest is None
