import assert from "node:assert/strict";
import { test } from "node:test";
import { between, nearest, placeOf, readings, ticksOf, usable } from "../../src/cadrel/web/static/app/front.js";

/** @param {number} factor @param {any} [changes] */
const point = (factor, changes = {}) => ({
  factor,
  stiffness: 2 * factor ** 2,
  sensitivity_peak: 1 + factor / 2,
  phase_margin_deg: 70 - 10 * factor,
  gain_margin_db: null,
  settling: 0.1 / factor,
  ripple: 0.01 * factor,
  is_stable: true,
  honours: factor < 2,
  gains: { "velocity.gain": factor, "velocity.reset_time": 1 / factor },
  ...changes,
});
const POINTS = [point(0.5), point(1), point(2)];

test("between two points gains go by their ratio, margins by their difference", () => {
  const half = between(POINTS, 0.5);
  assert.ok(Math.abs(half.gains["velocity.gain"] - Math.SQRT1_2) < 1e-12);
  assert.ok(Math.abs(half.gains["velocity.reset_time"] - Math.SQRT2) < 1e-12);
  assert.equal(half.sensitivity_peak, 1.375);
  assert.equal(half.gain_margin_db, null);
  assert.equal(between(POINTS, 1.5).honours, false); // one neighbour misses what is asked for
  assert.equal(between(POINTS, 1).honours, true);
  assert.equal(between(POINTS, 2).factor, 2);
});

test("the place on the line is the one nearest to the pointer, also beside and beyond it", () => {
  const line = /** @type {[number, number][]} */ ([
    [0, 0],
    [10, 0],
    [10, 10],
  ]);
  assert.equal(nearest(line, 4, 3), 0.4);
  assert.equal(nearest(line, 14, 5), 1.5);
  assert.equal(nearest(line, -7, 2), 0);
  assert.equal(nearest(line, 10, 40), 2);
});

test("the gains kept have their place, and what runs away or is of no use is not shown", () => {
  assert.equal(placeOf(POINTS, 1), 1);
  assert.ok(Math.abs(placeOf(POINTS, Math.SQRT2) - 1.5) < 1e-12);
  assert.deepEqual(
    usable([...POINTS, point(3, { is_stable: false }), point(4, { sensitivity_peak: 5 })]).map((p) => p.factor),
    [0.5, 1, 2],
  );
});

test("ticks of a logarithmic axis are round", () => {
  assert.deepEqual(ticksOf(0.8, 30), [1, 2, 5, 10, 20]);
  assert.deepEqual(ticksOf(0.02, 300), [0.1, 1, 10, 100]);
});

test("what is read is told as good or missed by what was asked for", () => {
  const asked = { sensitivity_peak: 1.6, phase_margin: Math.PI / 3, gain_margin_db: 8, ripple: 0.015 };
  const good = Object.fromEntries(readings(point(1), asked).map(([key, , fine]) => [key, fine]));
  assert.deepEqual(good, { stiffness: true, peak: true, phase: true, gain: true, settles: true, ripple: true });
  const quick = Object.fromEntries(
    readings(point(2, { settling: null }), asked).map(([key, text, fine]) => [key, [text, fine]]),
  );
  assert.deepEqual(quick.peak, ["2.00", false]);
  assert.deepEqual(quick.phase, ["50°", false]);
  assert.deepEqual(quick.gain, ["–", true]); // none to be had is no miss
  assert.deepEqual(quick.settles, ["not in 400 ms", true]);
  assert.equal(quick.ripple[1], false);
});
