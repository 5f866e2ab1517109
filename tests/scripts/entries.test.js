import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { page } from "./page.js";

const { mount } = await import("../../src/cadrel/web/static/app/entries.js");
const { draftOf, mount: mountRoute } = await import("../../src/cadrel/web/static/app/drafts.js");
const methods = {
  getItem: (key) => store[key] ?? null,
  setItem: (key, value) => (store[key] = value),
  removeItem: (key) => delete store[key],
};
/** @type {any} keys are its own properties, as a browser's are */
let store = Object.create(methods);
beforeEach(() => (globalThis.localStorage = store = Object.create(methods)));

const NAME = "1-7-motor";
/** @param {string} fields @param {string} [data] */
const form = (fields, data = "") => `<form data-draft="${NAME}" ${data}>
  <input type="hidden" name="draft"><div id="fields">${fields}</div><button name="save" value="1"></button>
  <span data-unsaved hidden></span><button type="button" data-discard hidden></button></form>
  <nav id="route" data-drafts="1-7" data-saved="">
  <li data-step="motor"><a><i></i><span>checks agree</span></a></li></nav>`;
const RESISTANCE = '<input id="f-r" name="sheet.resistance" value="2.6">';
const KIND = `<select name="sheet.kind"><option value="rotary" selected>rotary</option>
  <option value="linear">linear</option></select>`;

/** @param {string} markup */
function opened(markup) {
  const made = page(markup);
  const root = made.document.querySelector("form");
  made.undo = mount(root);
  made.undoRoute = mountRoute(made.document.getElementById("route"));
  made.form = root;
  made.count = made.document.querySelector("[data-unsaved]");
  made.line = made.document.querySelector("li a > span");
  return made;
}

/** @param {any} made @param {string} name @param {string} value */
function type(made, name, value) {
  const control = made.form.querySelector(`[name="${name}"]`);
  control.value = value;
  control.dispatchEvent(new made.window.Event("input", { bubbles: true }));
}

/** What htmx does: the fields come anew. @param {any} made @param {string} fields */
function drawAnew(made, fields) {
  const target = made.document.getElementById("fields");
  target.innerHTML = fields;
  made.document.dispatchEvent(new made.window.CustomEvent("htmx:oobAfterSwap", { detail: { target } }));
}

test("what is typed is counted, told in the route, and there again when the page comes back", () => {
  const first = opened(form(RESISTANCE));
  type(first, "sheet.resistance", "2.7");
  assert.equal(first.count.textContent, "1 value is not saved");
  assert.equal(first.line.textContent, "1 not saved");
  first.undo();
  first.undoRoute();
  const again = opened(form(RESISTANCE));
  assert.equal(again.form.querySelector("#f-r").value, "2.7");
  assert.equal(again.count.hidden, false);
});

test("typed back to what was there it is no change any more", () => {
  const made = opened(form(RESISTANCE));
  type(made, "sheet.resistance", "2.7");
  type(made, "sheet.resistance", "2.6");
  assert.equal(made.count.hidden, true);
  assert.equal(draftOf(NAME), null);
  assert.equal(made.line.textContent, "checks agree");
});

test("only the page that says this very form was saved forgets it", () => {
  const made = opened(form(RESISTANCE));
  type(made, "sheet.resistance", "2.7");
  const token = made.form.querySelector("[name=draft]").value;
  assert.match(token, /^[0-9a-f]{16}$/);
  const other = opened(form(RESISTANCE).replace('data-saved=""', 'data-saved="of-another-tab"'));
  assert.equal(other.form.querySelector("#f-r").value, "2.7");
  const saved = opened(form(RESISTANCE).replace('data-saved=""', `data-saved="${token}"`));
  assert.equal(saved.form.querySelector("#f-r").value, "2.6");
  assert.equal(draftOf(NAME), null);
});

test("what is typed after the form was sent, gone back to, is another draft", async () => {
  const made = opened(form(RESISTANCE));
  type(made, "sheet.resistance", "2.7");
  const sent = made.form.querySelector("[name=draft]").value;
  made.form.dispatchEvent(new made.window.Event("submit", { cancelable: true }));
  assert.equal(made.form.querySelector("[name=draft]").value, sent, "it is sent with the name it was kept under");
  await new Promise((done) => setTimeout(done, 5));
  type(made, "sheet.resistance", "2.8");
  assert.notEqual(draftOf(NAME).token, sent);
  assert.equal(made.form.querySelector("[name=draft]").value, draftOf(NAME).token);
});

test("another kind of motor and back loses nothing that was typed", () => {
  const made = opened(form(KIND + RESISTANCE));
  type(made, "sheet.resistance", "2.7");
  type(made, "sheet.kind", "linear");
  drawAnew(made, `${KIND}<input name="sheet.pitch" value="">`);
  type(made, "sheet.pitch", "24");
  type(made, "sheet.kind", "rotary");
  drawAnew(made, KIND + RESISTANCE);
  assert.equal(made.form.querySelector("#f-r").value, "2.7");
  type(made, "sheet.kind", "linear");
  drawAnew(made, `${KIND}<input name="sheet.pitch" value="">`);
  assert.equal(made.form.querySelector("[name='sheet.pitch']").value, "24");
});

test("a field is marked as wrong while its note says so", () => {
  const made = opened(form(`${RESISTANCE}<p id="note-f-r" class="note problem">cannot be negative</p>`));
  const tell = () => {
    const detail = { target: made.document.getElementById("note-f-r") };
    made.document.dispatchEvent(new made.window.CustomEvent("htmx:oobAfterSwap", { detail }));
    return made.document.getElementById("f-r").getAttribute("aria-invalid");
  };
  assert.equal(tell(), "true");
  made.document.getElementById("note-f-r").className = "note";
  assert.equal(tell(), null);
});

test("a draft that is damaged, or a store that is full, breaks no page", () => {
  store.setItem(`cadrel-draft-${NAME}`, "{not json");
  assert.equal(opened(form(RESISTANCE)).form.querySelector("#f-r").value, "2.6");
  const kept = methods.setItem;
  methods.setItem = () => {
    throw new Error("full");
  };
  const made = opened(form(RESISTANCE));
  type(made, "sheet.resistance", "2.7");
  assert.equal(made.count.textContent, "1 value is not saved");
  methods.setItem = kept;
});

test("what was typed before the script had come is newer than the draft", () => {
  const first = opened(form(RESISTANCE));
  type(first, "sheet.resistance", "-2.7");
  const made = page(form(RESISTANCE, 'data-typed="1"').replace('value="2.6"', 'value="-2.7"'));
  const root = made.document.querySelector("form");
  root.querySelector("#f-r").value = "2.7"; // mended on the page that refused it, at once
  let asked = 0;
  root.addEventListener("input", () => asked++);
  mount(root);
  assert.equal(asked, 1); // nobody asked the server about it yet
  assert.equal(root.querySelector("#f-r").value, "2.7");
  assert.equal(draftOf(NAME).typed["sheet.resistance"], "2.7");
});
