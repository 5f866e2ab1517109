import assert from "node:assert/strict";
import { test } from "node:test";
import { after, page } from "./page.js";

const BUTTONS = `<div id="jog" data-url="/jog/"><button class="hold" data-share="0.1">+</button>
  <button class="hold" data-share="-0.1">−</button></div>`;
const { holding } = await import("../../src/cadrel/web/static/app/hold.js");

/** @param {any} made @param {string} kind @param {number} [which] */
function pointer(made, kind, which = 0) {
  const button = made.document.querySelectorAll(".hold")[which];
  button.dispatchEvent(Object.assign(new made.window.Event(kind, { bubbles: true }), { pointerId: 1 }));
}

/** @param {(url: string, values: Record<string, string>) => Promise<any>} [answer] */
function jog(answer) {
  const made = page(BUTTONS, answer);
  const undo = holding(made.document.getElementById("jog"), (b) => ({ share: b.dataset.share }));
  return { ...made, undo };
}

test("a held button beats under one name until it is let go, then says so once", async () => {
  const made = jog();
  pointer(made, "pointerdown");
  await after(120);
  pointer(made, "pointerup");
  await after(80);
  const beats = made.posted.filter((p) => p.share === "0.1"),
    ends = made.posted.filter((p) => p.share === "0");
  assert.ok(beats.length >= 2, `${beats.length} beats`);
  assert.equal(new Set(made.posted.map((p) => p.holder)).size, 1);
  assert.equal(ends.length, 1);
  assert.equal(made.posted.at(-1).share, "0");
  made.undo();
});

test("two presses have two names, and the second waits until the drive knows of the end of the first", async () => {
  let release = () => {};
  const made = jog((_, values) =>
    values.share === "0" ? new Promise((done) => (release = () => done({}))) : Promise.resolve({}),
  );
  pointer(made, "pointerdown");
  await after(10);
  pointer(made, "pointerup");
  pointer(made, "pointerdown", 1);
  await after(60);
  assert.equal(made.posted.filter((p) => p.share === "-0.1").length, 0);
  release();
  await after(60);
  const second = made.posted.filter((p) => p.share === "-0.1");
  assert.ok(second.length > 0);
  assert.notEqual(second[0].holder, made.posted[0].holder);
  pointer(made, "pointerup", 1);
  release();
  made.undo();
});

test("losing the window, or the page, lets go", async () => {
  for (const kind of ["blur", "pagehide"]) {
    const made = jog();
    pointer(made, "pointerdown");
    await after(10);
    made.window.dispatchEvent(new made.window.Event(kind));
    await after(60);
    assert.equal(made.posted.at(-1).share, "0", kind);
    made.undo();
  }
});

test("no contact ends the press and is said", async () => {
  const made = jog(async () => {
    throw new Error("gone");
  });
  pointer(made, "pointerdown");
  await after(30);
  assert.match(made.document.getElementById("said").textContent, /No contact/);
  assert.equal(made.document.querySelector(".held"), null);
  made.undo();
});

test("a beat under way is called off when its press ends, and nothing is said of it", async () => {
  const made = jog((_, values) => (values.share === "0" ? Promise.resolve({}) : new Promise(() => {})));
  pointer(made, "pointerdown");
  await after(30);
  pointer(made, "pointerup");
  await after(30);
  assert.deepEqual(
    made.calledOff.map((beat) => beat.share),
    ["0.1"],
  );
  assert.equal(made.posted.at(-1).share, "0");
  assert.equal(made.document.getElementById("said").textContent, "");
  made.undo();
});
