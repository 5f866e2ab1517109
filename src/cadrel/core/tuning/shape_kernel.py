"""How much gain a shape of the velocity loop bears: the search's inner step, compiled; see `shape.py`."""

import math

import numba
import numpy as np

NO_GAIN = -50.0  # score of a shape that bears none
BANDWIDTH_WEIGHT = 0.5  # of log gain beside log integral gain: stiff first, then quick
NOISE_POINTS = 64  # of the spectrum that a device's noise is summed over
NOISE_DELAYED = np.exp(-1j * math.pi * (np.arange(NOISE_POINTS) + 0.5) / NOISE_POINTS)  # z^-1 there
DIFFERENCED = np.abs(1.0 - NOISE_DELAYED) ** 2  # power of a speed over that of the positions it is made of
CLEAR = 1.03  # times the gains that a point forbids: between two of them no gain is taken that has no room
# Times a gain at which the loop would run away, from which on there is room again where a plant that is unstable by
# itself needs its loop to cross the axis: a drive takes its gain back to an eighth, a load is half again.
FAR = 30.0
EASED, WEAK = (
    2.0,
    3.5,
)  # a loop whose gain is taken back so far, by the drive or by a limit, keeps a peak below the second
WEAK_OUTSIDE = 1.0 - 1.0 / WEAK**2
ROUNDED = 1e-9  # of a gain: what is left unfinished is below what it had to beat, not equal to it but for rounding
MOST_FORBIDDEN = EASED * (1.0 + 1.0 / WEAK)  # gain times |s|, beyond which a point of a weak loop forbids none
FIXED = 3  # reset time, torque filter, speed filter; then four figures for each section


@numba.njit(cache=True, error_model="numpy")
def _coefficients(x, period):
    """Of every section: zeros and poles, each as a polynomial in z^-1, prewarped at their own frequency."""
    found = np.empty(((len(x) - FIXED) // 2, 3))
    for k in range(len(found)):
        inverse = 1.0 / math.tan(math.pi * x[FIXED + 2 * k] * period)
        square, slope = inverse * inverse, 2.0 * x[FIXED + 2 * k + 1] * inverse
        found[k, 0], found[k, 1], found[k, 2] = square + slope + 1.0, 2.0 - 2.0 * square, square - slope + 1.0
    return found


@numba.njit(cache=True, error_model="numpy")
def _shaped(w, integral, lp, sf, sections):
    """Regulator, filters and sections of a shape at z^-1 = w, gain 1."""
    top = (1.0 - w + integral * w) * (1.0 - lp) * (1.0 - sf)
    below = (1.0 - w) * (1.0 - lp * w) * (1.0 - sf * w)
    for k in range(0, len(sections), 2):
        top *= sections[k, 0] + w * (sections[k, 1] + w * sections[k, 2])
        below *= sections[k + 1, 0] + w * (sections[k + 1, 1] + w * sections[k + 1, 2])
    # Without the scaling of a complex division: nothing here is near the ends of what a float holds.
    return top * np.conj(below) / (below.real * below.real + below.imag * below.imag)


@numba.njit(cache=True, error_model="numpy")
def torque_of_noise(x, period):
    """Return rms torque over rms raw speed at rest of a shape with gain 1. [N·m·s/rad over the gain]"""
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    return _noise_gain(period / x[0], lp, sf, _coefficients(x, period))


@numba.njit(cache=True, error_model="numpy")
def _noise_gain(integral, lp, sf, sections):
    """Return rms torque over rms raw speed of a device whose positions carry white noise, gain 1.

    Differenced, its spectrum is |1 - z^-1|², twice its share on average.
    """
    total = 0.0
    for k in range(NOISE_POINTS):
        c = _shaped(NOISE_DELAYED[k], integral, lp, sf, sections)
        total += DIFFERENCED[k] * (c.real * c.real + c.imag * c.imag)
    return math.sqrt(0.5 * total / NOISE_POINTS)


@numba.njit(cache=True, error_model="numpy")
def highest_gain(x, frequency, plants, models, kept, period, noise_torque, noise, unseen_hz, most_gain):
    """Return (score, gain) of a shape: reset time [s], torque and speed filter [Hz], then zero and pole figures.

    Notes
    -----
    At each frequency |1 + K s| >= 1/Ms, and no phase nearer to -180° than the margin where K |s| = 1, forbid K between
    two bounds; between two neighbouring frequencies that forbid, it is forbidden from the lower to the higher of
    theirs. Where a loop comes into the phase margin between two of them, or leaves it, the crossovers on that way are
    forbidden as well. A crossing of the negative axis forbids K from where K |s| is below 1 by the gain margin on:
    with more, the loop would be stable on the condition that no limit takes gain from it. Only where the plant itself
    is unstable, and so with little gain, it may cross `FAR` above. What is left is looked at from above, and the first
    gain is taken with which no loop encircles -1 but for what its plant needs. It may cross over more than once if the
    plant has it so: beside an antiresonance, or around a resonance that is held by its phase.
    """
    delayed = np.exp(-2j * math.pi * frequency * period)
    room = np.empty((3 * plants.size, 2)), np.empty((plants.size, 3))
    return _highest_gain(
        x, frequency, delayed, plants, models, kept, period, noise_torque, noise, unseen_hz, most_gain, room, -np.inf
    )


@numba.njit(cache=True, error_model="numpy")
def _highest_gain(  # noqa: PLR0912, PLR0915 - one pass over the plants: the branches are the margins
    x, frequency, delayed, plants, models, kept, period, noise_torque, noise, unseen_hz, most_gain, room, beaten
):
    """As `highest_gain`; in `room`, for as many as the plants have points, intervals of gain, and crossings.

    A shape whose score stays below `beaten` is of no use: it is left as soon as that is clear, with a score that is
    too high and still below. What a point forbids is worked out only where it may lie between the gain of that score
    and the highest that is left.
    """
    forbidden, crossings = room
    worth = (1.0 - ROUNDED) * math.exp((beaten + math.log(x[0])) / (1.0 + BANDWIDTH_WEIGHT))  # gain of that score
    sections, integral = _coefficients(x, period), period / x[0]
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    n, m = plants.shape
    seen = m if models == n else m - 1  # the plant that was measured has points of its own, behind the models'
    least, most = 0.0, most_gain
    if noise > 0.0:
        most = min(most, noise_torque / (noise * _noise_gain(integral, lp, sf, sections)))
    wedge2 = np.cos(kept[:, 1]) ** 2
    outside = 1.0 - 1.0 / kept[:, 0] ** 2  # of the square of s, that keeps a ray from -1 clear of the peak's circle
    nearest2 = (1.0 - 1.0 / kept[:, 0]) ** 2  # of gain times |s|: below, a point forbids nothing
    furthest2 = np.maximum(CLEAR * (1.0 + 1.0 / kept[:, 0]), MOST_FORBIDDEN) ** 2
    last = np.full((m, 2), np.inf)  # of each plant's last point: what it forbade; without end where nothing
    was_steep, lay_at = np.zeros(m, dtype=np.bool_), np.zeros(m, dtype=np.complex128)
    count, crossed = 0, 0
    for i in range(n - 1, -1, -1):  # what is highest bounds the gain first
        c = _shaped(delayed[i], integral, lp, sf, sections)
        unseen = frequency[i] > unseen_hz
        from_plant, to_plant = (0, seen) if i < models else (seen, m)
        for j in range(from_plant, to_plant):
            p = plants[i, j]
            re, im = c.real * p.real - c.imag * p.imag, c.real * p.imag + c.imag * p.real
            size2 = re * re + im * im
            if unseen:
                most = min(most, 1.0 / (kept[j, 2] * math.sqrt(size2)))
            steep = re < 0.0 and re * re > wedge2[j] * size2  # nearer to -180° than the phase margin
            if steep != was_steep[j]:
                was_steep[j] = steep
                if i not in (n - 1, models - 1) and most > 0.0:
                    low, high = _crossing_in(complex(re, im), lay_at[j], kept[j, 1], steep, worth, most)
                    if low < most:
                        forbidden[count, 0], forbidden[count, 1] = low, high
                        count += 1
                        if most < high:
                            most = low
            before, lay_at[j] = lay_at[j], complex(re, im)
            above, lowest = im > 0.0, i in (0, models)
            if i not in (n - 1, models - 1) and (before.imag > 0.0) != above:
                # Between two points the logarithm of its size and its angle are linear, as margins are read.
                here, there = abs(math.atan2(im, -re)), abs(math.atan2(before.imag, -before.real))
                if here + there < math.pi:
                    before2 = before.real * before.real + before.imag * before.imag
                    share = here / (here + there)
                    crossover = math.exp(-0.5 * ((1.0 - share) * math.log(size2) + share * math.log(before2)))
                    crossings[crossed, 0], crossings[crossed, 1] = j, crossover
                    crossings[crossed, 2] = -1.0 if above else 1.0
                    crossed += 1
                    if kept[j, 3] == 0.0:
                        most = min(most, crossover / kept[j, 2])
                    else:
                        forbidden[count, 0], forbidden[count, 1] = crossover / kept[j, 2], FAR * crossover
                        count += 1
            if re >= 0.0:  # right of the origin nothing else is forbidden
                last[j, 0] = np.inf
                continue
            under = re * re - size2 * outside[j]
            near = under > 0.0  # to -1
            if lowest and above:  # the loop comes from below, and crosses over where it can be seen
                return NO_GAIN, 0.0
            if i == 0:
                least = max(least, 1.0 / math.sqrt(size2))
            if not (near or steep):
                last[j, 0] = np.inf
                continue
            if not lowest and most * most * size2 < nearest2[j]:
                low, high = most, np.inf  # somewhere above what is left
            elif not lowest and worth * worth * size2 > furthest2[j]:
                low, high = 0.0, worth  # somewhere below what is of use
            else:
                crossover = 1.0 / math.sqrt(size2)
                low, high = crossover, crossover
                if near:
                    root = math.sqrt(under)
                    low, high = (-re - root) / size2, (-re + root) / size2
                    if steep:
                        low, high = min(low, crossover), max(high, crossover)
                if lowest and i > 0:
                    least = max(least, high)
                high *= CLEAR
                weak = re * re - size2 * WEAK_OUTSIDE
                if weak > 0.0:  # nearly unstable with this gain: so far below none is taken either
                    high = max(high, EASED * (-re + math.sqrt(weak)) / size2)
            from_, to = low, high
            if np.isfinite(last[j, 0]):
                from_, to = min(low, last[j, 0]), max(to, last[j, 1])
            last[j, 0], last[j, 1] = low, high
            if from_ < most:
                forbidden[count, 0], forbidden[count, 1] = from_, to
                count += 1
                if most < to:
                    most = from_
        if most < worth:
            return _score(most, x[0]), 0.0
    if np.isinf(most) and count > 0:  # nothing but the margins bounds it
        most = np.max(forbidden[:count, 1])
    if most <= 0.0 or not np.isfinite(most):
        return NO_GAIN, 0.0
    most = _below(most, forbidden[:count])
    encircled = True
    while encircled:
        encircled = False
        for j in range(m):
            nearest, turns = 0.0, 0.0
            for k in range(crossed):
                if crossings[k, 0] == j and crossings[k, 1] < most:
                    turns += crossings[k, 2]
                    nearest = max(nearest, crossings[k, 1])
            if not -kept[j, 3] <= turns <= 0.0:  # sharp as such a resonance is, the grid may not have seen its turn
                most, encircled = _below(nearest / kept[j, 2], forbidden[:count]), True
    if least > most:
        return NO_GAIN + math.log(most / least), 0.0
    return _score(most, x[0]), most


@numba.njit(cache=True, error_model="numpy")
def _score(gain, reset):
    return math.log(gain / reset) + BANDWIDTH_WEIGHT * math.log(gain) if gain > 0.0 else NO_GAIN


@numba.njit(cache=True, error_model="numpy")
def _crossing_in(now, before, margin, steep, worth, most):
    """Return the gains, of use, with which a loop crosses over where it comes into a phase margin, or leaves it.

    Between its two points `now` and `before`, one of which is `steep`; as margins are read, the logarithm of its size
    and its angle are linear between them.
    """
    now2, before2 = now.real * now.real + now.imag * now.imag, before.real * before.real + before.imag * before.imag
    if max(now2, before2) * most * most < 1.0 or min(now2, before2) * worth * worth > CLEAR * CLEAR:
        return np.inf, 0.0
    inside, outside = (now, before) if steep else (before, now)
    from_, to = math.atan2(inside.imag, -inside.real), math.atan2(outside.imag, -outside.real)
    if from_ < 0.0:
        from_, to = -from_, -to
    edge = (margin - from_) / (to - from_) if to > 0.0 else (margin + from_) / (from_ - to)
    begins, ends = -math.log(abs(inside)), -math.log(abs(outside))
    begins, ends = math.exp(begins), math.exp(begins + edge * (ends - begins))
    return min(begins, ends), CLEAR * max(begins, ends)


@numba.njit(cache=True, error_model="numpy")
def _below(most, forbidden):
    """Return the highest gain up to `most` that lies in none of the intervals, shape (n, 2)."""
    moved = True
    while moved:
        moved = False
        for k in range(len(forbidden)):
            if forbidden[k, 0] < most < forbidden[k, 1]:
                most, moved = forbidden[k, 0], True
    return most


@numba.njit(cache=True, error_model="numpy", nogil=True)
def scores(many, frequency, plants, models, kept, period, noise_torque, noise, unseen_hz, most_gain, beaten):
    """Return the negative score of every column of `many`, whose rows are logarithms of a shape's figures.

    One that does not reach its `beaten`, shape (columns,), may have a score that is too high, yet below that.
    """
    found = np.empty(many.shape[1])
    delayed = np.exp(-2j * math.pi * frequency * period)  # z^-1, which no shape changes
    room = np.empty((3 * plants.size, 2)), np.empty((plants.size, 3))
    for k in range(many.shape[1]):
        x = np.exp(many[:, k])
        score, _ = _highest_gain(
            x,
            frequency,
            delayed,
            plants,
            models,
            kept,
            period,
            noise_torque,
            noise,
            unseen_hz,
            most_gain,
            room,
            beaten[k],
        )
        found[k] = -score
    return found
