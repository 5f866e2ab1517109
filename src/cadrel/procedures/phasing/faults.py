"""What commutation may find wrong, by a code, in words."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from cadrel.core.identification import HallFault
from cadrel.core.parameters import DeviceKind, field_of
from cadrel.procedures.errors import ProcedureError


@dataclass(frozen=True, slots=True)
class Named:
    """One thing that is wrong: its code, what happened, what it means, what to do."""

    code: str
    happened: str
    means: str
    remedy: str


class WiredWrongly(ProcedureError):
    """Wiring, data or mechanics do not allow commutation; `codes` says what, `happened` in words."""

    happened = "{happened}"
    means = "{means}"
    remedy = "{remedy}"

    @property
    def codes(self) -> tuple[str, ...]:
        """Codes of all that was found."""
        return tuple(self.facts["codes"])


def wired_wrongly(faults: Sequence[Named]) -> WiredWrongly:
    """Return the error that names everything found."""
    return WiredWrongly(
        codes=[f.code for f in faults],
        happened=" ".join(f.happened for f in faults),
        means=faults[0].means,
        remedy=" ".join(dict.fromkeys(f.remedy for f in faults)),
    )


def did_not_follow(*, commanded: float, seen: float, current: float) -> Named:
    """Return what to say of a shaft that stands while the vector turns. [rad] electrical, [A]"""
    return Named(
        "did_not_follow",
        f"The vector turned {math.degrees(commanded):.0f}°, the shaft {math.degrees(seen):.1f}° (electrical).",
        "An offset from this run would be wrong, so none was recorded.",
        f"It was tried with up to {current / math.sqrt(2):.2f} A rms. Open the brake, free the load, or allow more "
        "current; check that all three motor wires are connected.",
    )


def too_heavy(*, passed: Sequence[int], seconds: float, current: float) -> Named:
    """Return what to say of a shaft that hardly answers torque current. Hall edges each way, [s], [A]"""
    return Named(
        "too_heavy",
        f"Pushed forward and back for {1000 * seconds:.0f} ms with {current / math.sqrt(2):.2f} A rms, only "
        f"{passed[0]} and {passed[1]} Hall edges passed.",
        "The axis is far heavier than entered, or sticks: that torque current pushes the right way could not be shown.",
        "Check load inertia and ratio in the mechanics step, free or unload the axis, or raise "
        f"{field_of('phasing.current')}.",
    )


def phase_open(*, told: float, flows: float | None, across: float) -> Named:
    """Return what to say of a current that does not come, or comes beside the vector; None: it ran away. [A]"""
    seen = (
        "the current rose beyond its limit at once"
        if flows is None
        else f"{flows / math.sqrt(2):.2f} A flow along it and {across / math.sqrt(2):.2f} A across"
    )
    return Named(
        "phase_open",
        f"A vector of {told / math.sqrt(2):.2f} A rms was told; {seen}.",
        "A motor phase is not connected, or a contact or a fuse between drive and motor is open; nothing was turned.",
        "With the supply off, measure between the motor's terminals at the drive: all three pairs have the same "
        "resistance. Look at plug, contactor and cable.",
    )


def no_device(said: str) -> Named:
    """Return what to say where nothing answers as the device entered."""
    return Named(
        "no_device",
        said,
        "Without it nothing tells where the motor is; nothing was switched on.",
        "Look at its plug, cable and supply first; then at the kind of device entered.",
    )


def end_stop(*, free: float) -> Named:
    """Return what to say of a shaft that ran against something. [rad] electrical"""
    return Named(
        "end_stop",
        f"The shaft followed for {math.degrees(free):.0f}° (electrical) and then stood, again at the same place.",
        "Something is in the way, an end stop most likely; no offset was recorded.",
        "Move the axis to the middle of its travel and run this again.",
    )


def direction(device: DeviceKind) -> Named:
    """Return what to say of counts that fall while the vector turns forward."""
    return Named(
        "direction",
        "The vector turned forward and the counts fell.",
        f"Closed on this, the motor would run away. Either two motor phases are swapped, or {device.backward}, or "
        "the device is mounted the other way round.",
        "Invert the counting direction, or exchange two motor phases if the axis turns the wrong way (both here, by "
        "hand, or in the feedback step); then run this again.",
    )


def both_wrong(*, counts: float, seen: float, pairs: int) -> Named:
    """Return what to say where counts and pole pairs agree with each other, and the index with neither."""
    by = counts / seen
    fits = pairs / by
    sensible = abs(fits - round(fits)) < 0.05 and round(fits) >= 1
    return Named(
        "resolution",
        f"From index to index {seen:.0f} counts came, {counts:.0f} were entered; the vector agrees with the entries "
        "all the same.",
        f"Two entries are wrong by the same factor of {by:.3g}: the motor turns well, but every speed and travel is "
        "off by it.",
        f"Correct the resolution of the device to {seen:.0f} counts a turn, and the pole pairs"
        + (f" to {round(fits)}; a sheet may print poles for pole pairs." if sensible else "."),
    )


def ratio(*, seen: float, expected: int, likely: str, counts: float, counts_seen: float | None, linear: bool) -> Named:
    """Return what to say of a shaft that turned by another ratio than entered.

    Parameters
    ----------
    seen : float
        Electrical turns in one shaft turn of entered counts.
    likely : str
        "pole_pairs", "resolution", or "ratio" where nothing tells them apart.
    counts_seen : float or None
        Counts between two index pulses, where an index showed them.
    """
    turn, pairs = ("pitch", "magnetic periods") if linear else ("shaft turn", "pole pairs")
    happened = f"One {turn} took {seen:.2f} electrical turns; {expected} {pairs} were entered."
    nearest = round(seen)
    fits = (
        f"{nearest} {pairs} would fit"
        if abs(seen - nearest) < 0.1 and nearest >= 1 and nearest != expected
        else "no whole number of pairs would fit"
    )
    if linear:
        fits = f"a pitch of {1 / seen:.3g} times the one entered would fit"
    resolution = f"{counts * expected / seen:.0f} counts instead of {counts:.0f} would fit as well"
    if likely == "pole_pairs":
        remedy = f"Correct the {'pitch' if linear else 'pole pairs'}: {fits}. If the sheet prints poles, halve them."
        if linear:
            remedy = f"Correct the pitch: {fits}; the sheet may print N-S for N-N."
    elif likely == "resolution":
        known = f"{counts_seen:.0f} counts came from index to index, {counts:.0f} were entered" if counts_seen else ""
        remedy = f"Correct the resolution of the device: {known or resolution}."
    else:
        remedy = f"Check both: {fits}, or the device has another resolution ({resolution})."
    return Named(likely, happened, "Torque would fade and reverse as the shaft turns.", remedy)


def flux(*, seen: float, expected: float, pairs: float) -> Named:
    """Return what to say of a flux per pole pair that is not the sheet's, where Halls are all there is. [Wb]"""
    fitting = pairs * expected / max(seen, 1e-3 * expected)
    whole = round(fitting)
    fits = whole >= 1 and whole != round(pairs) and abs(fitting / whole - 1) < 0.15
    what = f"{whole} pole pairs would fit." if fits else "No other whole number of pole pairs would fit."
    return Named(
        "pole_pairs" if fits else "flux",
        f"The turning rotor shows {seen / expected:.2f} of the flux per pole pair that the sheet gives.",
        "Halls see electrical turns only: with wrong pole pairs every speed and travel would be off by as much.",
        f"Check the pole pairs ({pairs:.0f} entered; if the sheet prints poles, halve them) and the torque constant "
        f"with its convention. {what}",
    )


def behind_gear(*, gear: float) -> Named:
    """Return what to say of a device that turns as slowly as the output of the gear."""
    return Named(
        "behind_gear",
        f"The device turned 1/{gear:.4g} of what the motor did: the ratio of the gear as entered.",
        "It sits behind the gear, not on the motor: play and twist of the gear would be taken for the rotor's angle.",
        "Connect the device on the motor's shaft, and enter this one as the device on the load. If it does sit on the "
        f"motor, correct {field_of('mechanics.ratio')} and the resolution entered.",
    )


def halls(fault: HallFault) -> Named:
    """Return what to say of Hall signals that make no sense."""
    return Named(
        f"hall_{fault.code}", fault.text,
        "Without them the angle at power-up is not known; no offset was recorded.", fault.remedy,
    )  # fmt: skip


def no_index(turns: float) -> Named:
    """Return what to say when the index never came."""
    return Named(
        "index_missing",
        f"The shaft made {turns:.1f} turns and no index pulse came.",
        "The offset cannot be tied to the index.",
        "Check the index wires, or set the index to none in the feedback step.",
    )


def coupling(play: float) -> Named:
    """Return what to say of a device that does not turn with the shaft. [rad] electrical"""
    return Named(
        "coupling",
        f"At each reversal {math.degrees(play):.0f}° (electrical) of the turn are lost that more current does not "
        "bring back.",
        "The device does not turn with the motor: its coupling has play. An offset would be right in one direction "
        "only.",
        "Tighten or replace the coupling between motor and device, then run this again.",
    )


def counts_lost(drift: float) -> Named:
    """Return what to say of counts that do not come back. [rad] electrical"""
    return Named(
        "counts_lost",
        f"Forward and back again, the shaft was {math.degrees(drift):.1f}° (electrical) from where the vector was.",
        "Counts are lost, or the coupling of the device slips: the angle would drift away.",
        "Check the coupling, the cable's screen and the edge rate, then run this again.",
    )


def load_pulls(moved: float) -> Named:
    """Return what to say of an axis that does not rest with power off. [rad] mechanical"""
    return Named(
        "load_pulls",
        f"With the power stage off the shaft moved by {math.degrees(moved):.1f}° within 0.2 s.",
        "The load drives the axis, and nothing holds it: between two measurements it would fall.",
        "Support or remove the load, fit a brake, or counterbalance it; then run this again.",
    )


def words(*, wrong: int, of: int, differences: Sequence[str]) -> Named:
    """Return what to say of a serial device whose words are wrong."""
    if wrong >= of or differences:
        return Named(
            "word_layout",
            f"{wrong} of {of} words arrived wrong. {' '.join(differences)}".strip(),
            "What is read as position is not the position.",
            "Compare the word's layout and checksum with the device's sheet; one turn by hand in the feedback step "
            "shows where its bits are.",
        )
    return Named(
        "word_errors",
        f"{wrong} of {of} words arrived wrong.",
        "Each of them is a moment without position; in motion the drive would stop.",
        "Mend the cable, its screen and its termination; lower the clock. Tolerating errors hides them.",
    )


def device_alarm() -> Named:
    """Return what to say of a device that reports an error itself."""
    return Named(
        "device_alarm", "The device sets its error bit.", "Its position cannot be trusted.",
        "Read the device's sheet for the cause: dirt, battery, light, temperature. If the bit is active the other way, "
        "correct its level in the feedback step.",
    )  # fmt: skip


def second_device(*, ratio_seen: float, expected: float) -> Named:
    """Return what to say of a load-side device that does not go with the motor's."""
    if ratio_seen * expected < 0:
        return Named(
            "second_direction", "The device on the load counts against the one on the motor.",
            "Closed on it, the position loop would run away.", "Invert its direction in the feedback step.",
        )  # fmt: skip
    return Named(
        "second_ratio",
        f"The device on the load gave {abs(ratio_seen):.5g} counts per motor turn; {abs(expected):.5g} were entered.",
        "Position and velocity would not fit together.",
        "Check its resolution and the gear between; slip or play shows as a value that changes from run to run.",
    )


def unstable_signals(why: str) -> Named:
    """Return what to say of sine and cosine that lie on no circle."""
    return Named(
        "signals", why, "The position between two periods cannot be read.", "Check both signal wires and their screen."
    )


def resolver_ambiguous(pairs: int, resolver_pairs: int) -> Named:
    """Return what to say of a resolver that cannot commutate a motor."""
    return Named(
        "resolver_pairs",
        f"A resolver of {resolver_pairs} pole pairs repeats {resolver_pairs} times a turn, the motor's angle {pairs} "
        "times.",
        "At power-up it would be one of several angles.",
        "Check both numbers: the motor's pole pairs must be a whole multiple of the resolver's.",
    )
