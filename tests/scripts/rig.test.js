import assert from "node:assert/strict";
import { test } from "node:test";
import { page } from "./page.js";

page("");
const { whatToTell } = await import("../../src/cadrel/web/static/app/rig.js");
const still = { time: 100, last_stop: null, swung: null };

test("nothing is told where nothing happened, or long ago", () => {
  assert.equal(whatToTell(still, "enno"), "");
  assert.equal(whatToTell({ ...still, swung: { hz: 83.2, time: 60 } }, "enno"), "");
});

test("gains that the drive halved are told with the frequency, and where they are", () => {
  const text = whatToTell({ ...still, swung: { hz: 83.2, time: 95 } }, "enno");
  assert.match(text, /at 83 Hz/);
  assert.match(text, /halved/);
  assert.match(text, /working memory only/);
});

test("a STOP of somebody else comes before it, one's own does not hide it", () => {
  const swung = { hz: 83.2, time: 95 };
  const stop = { why: "vera (observer) pressed STOP", by: "vera (observer)", time: 99 };
  assert.match(whatToTell({ ...still, swung, last_stop: stop }, "enno"), /pressed STOP/);
  assert.match(whatToTell({ ...still, swung, last_stop: stop }, "vera"), /halved/);
});

test("a database that is away is told before all else", () => {
  assert.match(whatToTell({ ...still, database: "away", swung: { hz: 9, time: 99 } }, "enno"), /does not answer/);
});
