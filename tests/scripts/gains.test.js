import assert from "node:assert/strict";
import { test } from "node:test";
import { after, page } from "./page.js";

const { mount } = await import("../../src/cadrel/web/static/app/gains.js");
const FORM = `<form id="gains" data-predict="/predict/"><div class="slider" data-scale="log">
  <input type="range" min="0" max="1000" data-low="1" data-high="100">
  <span class="number"><input name="velocity.gain" value="10" data-kept="10"></span>
  <span data-pending hidden>pending</span></div><p id="gain-problem"></p><button id="gains-back" type="button"></button>
  <table id="predicted"><tbody><tr><td></td><td></td><td></td></tr></tbody></table></form>`;

/** @param {any} made @param {string} value */
function drag(made, value) {
  const range = made.document.querySelector("input[type=range]");
  range.value = value;
  range.dispatchEvent(new made.window.Event("input"));
}

test("a slider is logarithmic: its middle is the geometric mean, and its mark stays where it was", () => {
  const made = page(FORM);
  mount(made.document.getElementById("gains"));
  assert.equal(made.document.querySelector("input[type=range]").value, "500"); // 10 between 1 and 100
  drag(made, "750");
  assert.equal(made.document.querySelector(".number input").value, "31.62"); // 10^1.5
  assert.equal(made.document.querySelector("[data-pending]").hidden, false);
  assert.equal(made.document.querySelector(".slider").style.getPropertyValue("--kept"), "0.5");
});

test("a request that fails leaves the sliders alive: the next drag asks again", async () => {
  let works = false;
  const body = { now: { stable: true }, table: [{ kept: "1", now: "2", good: true }] };
  const made = page(FORM, async () => {
    if (!works) throw new Error("gone");
    return { status: 200, body };
  });
  mount(made.document.getElementById("gains"));
  drag(made, "600");
  await after(10);
  assert.match(made.document.getElementById("gain-problem").textContent, /did not answer/);
  works = true;
  drag(made, "700");
  await after(10);
  assert.equal(made.document.getElementById("gain-problem").textContent, "");
  assert.equal(made.document.querySelector("#predicted b").textContent, "2");
});

test("while one answer is awaited only the last drag is asked for", async () => {
  const waiting = [];
  const made = page(FORM, () => new Promise((done) => waiting.push(done)));
  mount(made.document.getElementById("gains"));
  for (const at of ["510", "520", "530", "540"]) drag(made, at);
  await after(5);
  assert.equal(made.posted.length, 1);
  waiting[0]({ status: 200, body: { now: { stable: true } } });
  await after(5);
  assert.equal(made.posted.length, 2);
  assert.equal(made.posted[1]["velocity.gain"], made.document.querySelector(".number input").value);
});
