"""How much gain a shape of the velocity loop bears: the search's inner step, compiled; see `shape.py`.

At each frequency |1 + K s| >= 1/Ms, and no phase nearer to -180° than the margin where K |s| = 1, forbid the gain K
between two bounds; between two neighbouring frequencies that forbid, it is forbidden from the lower to the higher of
theirs. Where a loop comes into the phase margin between two of them, or leaves it, the crossovers on that way are
forbidden as well. A crossing of the negative axis forbids K from where K |s| is below 1 by the gain margin on: with
more, the loop would be stable on the condition that no limit takes gain from it. Only where the plant itself is
unstable, and so with little gain, it may cross `FAR` above. What is left is looked at from above, and the first gain is
taken with which no loop encircles -1 but for what its plant needs. It may cross over more than once if the plant has it
so: beside an antiresonance, or around a resonance that is held by its phase.

A shape that is of no use is found out as soon as may be: one plant after the other is gone through, and of many shapes
first the plant that ended the one before, for it ends the next one too, more often than not.
"""

import math

import numba
import numpy as np

from cadrel.core.tuning.shape_kernel import made_of_noise, shape_along

NO_GAIN = -50.0  # score of a shape that bears none
BANDWIDTH_WEIGHT = 0.5  # of log gain beside log integral gain: stiff first, then quick
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
SHAPE_ROWS, LOOP_ROWS = 4, 4  # that `shape_along` and `_loop_of` work in


@numba.njit(cache=True, error_model="numpy")
def highest_gain(x, frequency, plants, models, kept, period, noises, unseen_hz, most_gain):
    """Return (score, gain) of a shape: reset time [s], torque and speed filter [Hz], then zero and pole figures.

    Parameters
    ----------
    x : ndarray, shape (3 + 4 k,)
    frequency, plants, models, kept : ndarray, shapes (n,), (n, m); int; ndarray, shape (m, 4)
        The fields of `shape.Plants`. [Hz], [rad/s per N·m]
    period : float
        Of the velocity loop. [s]
    noises : ndarray, shape (2, 2)
        The device's noise at rest, rms [rad/s], and what it may make of torque, rms [N·m]; the same in motion, and by
        how much that torque may change from one sample to the next.
    unseen_hz, most_gain : float
        From where on the loop's gain stays below 1 by its margin [Hz]; no more gain than this [N·m·s/rad].
    """
    order = np.arange(plants.shape[1])
    along, turned, room = _prepared(frequency, plants, period)
    return _highest_gain(
        x, frequency, along, turned, models, kept, period, noises, unseen_hz, most_gain, order, room,
        -np.inf,
    )  # fmt: skip


@numba.njit(cache=True, error_model="numpy", nogil=True)
def scores(many, frequency, plants, models, kept, period, noises, unseen_hz, most_gain, beaten):
    """Return the negative score of every column of `many`, whose rows are logarithms of a shape's figures.

    One that does not reach its `beaten`, shape (columns,), may have a score that is too high, yet below that.
    """
    found = np.empty(many.shape[1])
    order = np.arange(plants.shape[1])
    along, turned, room = _prepared(frequency, plants, period)
    for k in range(many.shape[1]):
        score, _ = _highest_gain(
            np.exp(many[:, k]), frequency, along, turned, models, kept, period, noises, unseen_hz,
            most_gain, order, room, beaten[k],
        )  # fmt: skip
        found[k] = -score
    return found


@numba.njit(cache=True, error_model="numpy")
def _prepared(frequency, plants, period):
    """Return what no shape changes, z^-1 and the plants as real numbers, a plant after the other, and room to work in.

    The room: the shape along its frequencies and one plant's loop; intervals of gain, crossings, and of each plant the
    range of its crossings, for as many as there can be.
    """
    n, m = plants.shape
    angle = 2 * math.pi * frequency * period
    along = np.cos(angle), -np.sin(angle)
    turned = np.ascontiguousarray(plants.T.real), np.ascontiguousarray(plants.T.imag)
    room = (
        np.empty((SHAPE_ROWS, n)), np.empty((LOOP_ROWS, n)), np.empty((3 * n * m, 2)), np.empty((n * m, 2)),
        np.zeros((m, 2), dtype=np.int64),
    )  # fmt: skip
    return along, turned, room


@numba.njit(cache=True, error_model="numpy")
def _highest_gain(x, frequency, along, turned, models, kept, period, noises, unseen_hz, most_gain, order, room, beaten):
    """As `highest_gain`, the plants gone through in an `order` whose first becomes the one that ends this shape.

    A shape whose score stays below `beaten` is of no use: it is left as soon as that is clear, with a score that is
    too high and still below. What a point forbids is worked out only where it may lie between the gain of that score
    and the highest that is left.
    """
    shape, loop, forbidden, crossings, of_plant = room
    m, n = turned[0].shape
    seen = m if models == n else m - 1  # the plant that was measured has points of its own, behind the models'
    worth = (1.0 - ROUNDED) * math.exp((beaten + math.log(x[0])) / (1.0 + BANDWIDTH_WEIGHT))  # gain of that score
    least, most = 0.0, most_gain
    if noises[0, 0] > 0.0 or noises[1, 0] > 0.0:
        torque, change = made_of_noise(x, period)
        if noises[0, 0] > 0.0:
            most = min(most, noises[0, 1] / (noises[0, 0] * torque))
        if noises[1, 0] > 0.0:
            most = min(most, noises[1, 1] / (noises[1, 0] * change))
        if most < worth:
            return _score(most, x[0]), 0.0
    shape_along(x, period, along[0], along[1], shape)
    count, crossed = 0, 0
    for place in range(m):
        j = order[place]
        begin, end = (0, models) if j < seen else (models, n)
        # Slices that begin at 0: of an index that may be negative the compiler takes one at a time.
        _loop_of(
            shape[0, begin:end], shape[1, begin:end], turned[0][j, begin:end], turned[1][j, begin:end],
            min(1.0 - 1.0 / kept[j, 0] ** 2, math.cos(kept[j, 1]) ** 2), loop,
        )  # fmt: skip
        most = min(most, _unseen_bound(loop[2], frequency[begin:end], unseen_hz, kept[j, 2]))
        of_plant[j, 0] = crossed
        most, least, count, crossed = _around(
            loop, end - begin, kept[j], begin == 0, worth, most, least, forbidden, count, crossings, crossed
        )
        of_plant[j, 1] = crossed
        if most < worth:
            for k in range(place, 0, -1):
                order[k] = order[k - 1]
            order[0] = j
            return _score(most, x[0]), 0.0
    if np.isinf(most) and count > 0:  # nothing but the margins bounds it
        most = np.max(forbidden[:count, 1])
    if most <= 0.0 or not np.isfinite(most):
        return NO_GAIN, 0.0
    most = _not_encircling(_below(most, forbidden[:count]), kept, forbidden[:count], crossings, of_plant)
    if least > most:
        return NO_GAIN + math.log(most / least), 0.0
    return _score(most, x[0]), most


@numba.njit(cache=True, error_model="numpy")
def _loop_of(shape_re, shape_im, plant_re, plant_im, narrow, loop):
    """Put one plant's loop into the rows of `loop`: real, imaginary, size squared, how far it is inside of a wedge.

    The wedge about the negative axis, `narrow` the square of its cosine, holds all points that forbid a gain.
    """
    re, im, size2, inside = loop[0], loop[1], loop[2], loop[3]
    for i in range(len(shape_re)):
        x = shape_re[i] * plant_re[i] - shape_im[i] * plant_im[i]
        y = shape_re[i] * plant_im[i] + shape_im[i] * plant_re[i]
        s = x * x + y * y
        within = x * x - narrow * s
        re[i], im[i], size2[i] = x, y, s
        inside[i] = within if x < 0.0 else -1.0


@numba.njit(cache=True, error_model="numpy")
def _unseen_bound(size2, frequency, unseen_hz, margin):
    """Return the gain that a loop has at most where nothing is known of its plant, for a gain margin to 1."""
    i, largest = len(frequency) - 1, 0.0
    while i >= 0 and frequency[i] > unseen_hz:
        largest = max(largest, size2[i])
        i -= 1
    return 1.0 / (margin * math.sqrt(largest)) if largest > 0.0 else np.inf


@numba.njit(cache=True, error_model="numpy")
def _around(  # noqa: PLR0912, PLR0915 - one way along a loop: the branches are the margins
    loop, n, kept, from_lowest, worth, most, least, forbidden, count, crossings, crossed
):
    """Go along one plant's loop of n points and note what it forbids and where it crosses the negative axis.

    Return (most, least, count, crossed): gains below and above which there is none, intervals and crossings so far.
    `most` is negative where no gain is possible, and what remains unseen once it is below `worth`. `from_lowest`: it
    has the lowest frequency of all, from where every loop comes.
    """
    margin, gain_margin, unstable = kept[1], kept[2], kept[3]
    wedge2 = math.cos(margin) ** 2
    outside = 1.0 - 1.0 / kept[0] ** 2  # of the square of s, that keeps a ray from -1 clear of the peak's circle
    nearest2 = (1.0 - 1.0 / kept[0]) ** 2  # of gain times |s|: below, a point forbids nothing
    furthest2 = max(CLEAR * (1.0 + 1.0 / kept[0]), MOST_FORBIDDEN) ** 2
    own, top = count, n - 1
    last_low, last_high = np.inf, np.inf  # what the point before forbade; without end where nothing
    was_steep, was_above = False, loop[1, top] > 0.0
    for down in range(n):
        i = top - down  # what is highest bounds the gain first
        lowest, above = i == 0, loop[1, i] > 0.0
        if loop[3, i] <= 0.0 and above == was_above and not (was_steep or lowest):
            last_low = np.inf
            continue
        re, im, size2 = loop[0, i], loop[1, i], loop[2, i]
        square = re * re if re < 0.0 else 0.0
        steep = square > wedge2 * size2  # nearer to -180° than the phase margin
        if steep != was_steep:
            was_steep = steep
            if i != top and most > 0.0:
                before = complex(loop[0, i + 1], loop[1, i + 1])
                low, high = _crossing_in(complex(re, im), before, margin, steep, worth, most)
                if low < most:
                    forbidden[count, 0], forbidden[count, 1] = low, high
                    count += 1
                    if most < high:
                        most = low
        if above != was_above:
            was_above = above
            crossover = _on_axis(re, im, size2, loop[0, i + 1], loop[1, i + 1], loop[2, i + 1])
            if crossover > 0.0:
                crossings[crossed, 0], crossings[crossed, 1] = crossover, -1.0 if above else 1.0
                crossed += 1
                if unstable == 0.0:
                    most = min(most, crossover / gain_margin)
                else:
                    forbidden[count, 0], forbidden[count, 1] = crossover / gain_margin, FAR * crossover
                    count += 1
        if re >= 0.0:  # right of the origin nothing else is forbidden
            last_low = np.inf
            continue
        if lowest and above:  # the loop comes from below, and crosses over where it can be seen
            return -1.0, least, count, crossed
        if lowest and from_lowest:
            least = max(least, 1.0 / math.sqrt(size2))
        under = square - size2 * outside
        near = under > 0.0  # to -1
        if not (near or steep):
            last_low = np.inf
            continue
        if not lowest and most * most * size2 < nearest2:
            low, high = most, np.inf  # somewhere above what is left
        elif not lowest and worth * worth * size2 > furthest2:
            low, high = 0.0, worth  # somewhere below what is of use
        else:
            low, high = _of_point(re, square, size2, under, steep)
            if lowest and not from_lowest:
                least = max(least, high)
            high *= CLEAR
            weak = square - size2 * WEAK_OUTSIDE
            if weak > 0.0:  # nearly unstable with this gain: so far below none is taken either
                high = max(high, EASED * (-re + math.sqrt(weak)) / size2)
        from_, to = low, high
        if last_low < np.inf:
            from_, to = min(low, last_low), max(to, last_high)
        last_low, last_high = low, high
        if from_ < most:
            if count > own and from_ < forbidden[count - 1, 1] and to > forbidden[count - 1, 0]:
                from_, to = min(from_, forbidden[count - 1, 0]), max(to, forbidden[count - 1, 1])
                count -= 1  # the two overlap: one
            forbidden[count, 0], forbidden[count, 1] = from_, to
            count += 1
            if most < to:
                most = from_
            if most < worth:
                break
    return most, least, count, crossed


@numba.njit(cache=True, error_model="numpy")
def _of_point(re, square, size2, under, steep):
    """Return the gains that a point left of the origin forbids: its square real part, and by how much it is near -1."""
    crossover = 1.0 / math.sqrt(size2)
    if under <= 0.0:
        return crossover, crossover
    root = math.sqrt(under)
    low, high = (-re - root) / size2, (-re + root) / size2
    return (min(low, crossover), max(high, crossover)) if steep else (low, high)


@numba.njit(cache=True, error_model="numpy")
def _on_axis(re, im, size2, last_re, last_im, last2):
    """Return the gain with which a loop goes through -1 between two points; 0 where it passes the axis on the right.

    Between two points the logarithm of its size and its angle are linear, as margins are read.
    """
    here, there = abs(math.atan2(im, -re)), abs(math.atan2(last_im, -last_re))
    if here + there >= math.pi:
        return 0.0
    share = here / (here + there)
    return math.exp(-0.5 * ((1.0 - share) * math.log(size2) + share * math.log(last2)))


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
def _not_encircling(most, kept, forbidden, crossings, of_plant):
    """Return the highest gain up to `most`, in no interval, with which no loop encircles -1 but for what it needs."""
    encircled = True
    while encircled:
        encircled = False
        for j in range(len(kept)):
            nearest, turns = 0.0, 0.0
            for k in range(of_plant[j, 0], of_plant[j, 1]):
                if crossings[k, 0] < most:
                    turns += crossings[k, 1]
                    nearest = max(nearest, crossings[k, 0])
            if not -kept[j, 3] <= turns <= 0.0:  # sharp as such a resonance is, the grid may not have seen its turn
                most, encircled = _below(nearest / kept[j, 2], forbidden), True
    return most


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
