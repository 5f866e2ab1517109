import assert from "node:assert/strict";
import { test } from "node:test";
import { page } from "./page.js";

const { loading } = await import("../../src/cadrel/web/static/app/anew.js");

/** A page that counts how often it would be loaded anew. */
function made() {
  const { window } = page("<p></p>");
  let loads = 0;
  const one = loading(window, () => {
    loads += 1;
  });
  return { window, one, loads: () => loads };
}

test("a page is loaded anew as often as it is asked to", () => {
  const { one, loads } = made();
  one.anew();
  one.anew();
  assert.equal(loads(), 2);
});

test("a page that is being left is not: what was sent goes on, and its answer is seen", () => {
  const { window, one, loads } = made();
  window.dispatchEvent(new window.Event("beforeunload"));
  one.anew();
  assert.equal(loads(), 0);
});

test("a page that was come back to is loaded anew again", () => {
  const { window, one, loads } = made();
  window.dispatchEvent(new window.Event("beforeunload"));
  window.dispatchEvent(new window.Event("pageshow"));
  one.anew();
  assert.equal(loads(), 1);
});

test("what is undone hears of nothing any more", () => {
  const { window, one, loads } = made();
  one.undo();
  window.dispatchEvent(new window.Event("beforeunload"));
  one.anew();
  assert.equal(loads(), 1);
});
