// @ts-check
// Mounts one module per [data-module] element and undoes it when the element goes. Step keys live here; STOP has
// a script of its own.
import "./agree.js";
import { registerConsent } from "./consent.js";

const MODULES = {
  rig: "./rig.js",
  brake: "./brake.js",
  jog: "./jog.js",
  plot: "./plot.js",
  predicted: "./predicted.js",
  gains: "./gains.js",
  front: "./front.js",
  echo: "./echo.js",
  presence: "./presence.js",
  phasing: "./phasing.js",
  compare: "./compare.js",
  entries: "./entries.js",
  confirm: "./confirm.js",
  drafts: "./drafts.js",
  folds: "./folds.js",
};
const undos = new WeakMap();

/** @param {ParentNode} root */
async function mountAll(root) {
  for (const element of /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll("[data-module]"))) {
    if (undos.has(element)) continue;
    undos.set(element, () => {});
    const { mount } = await import(MODULES[/** @type {keyof typeof MODULES} */ (element.dataset.module)]);
    undos.set(element, mount(element));
    element.dataset.ready = "1";
  }
}

registerConsent();
mountAll(document);
document.addEventListener("htmx:load", (event) => mountAll(/** @type {HTMLElement} */ (event.target)));
document.addEventListener("htmx:beforeCleanupElement", (event) => {
  const undo = undos.get(/** @type {HTMLElement} */ (event.target));
  if (undo) undo();
});
document.addEventListener("htmx:configRequest", (event) => {
  /** @type {CustomEvent} */ (event).detail.headers["X-CSRFToken"] = csrf();
});
document.addEventListener("keydown", (event) => {
  const typing = /^(INPUT|SELECT|TEXTAREA)$/.test(/** @type {HTMLElement} */ (event.target).tagName);
  const route = document.getElementById("route");
  if (typing || !route || event.ctrlKey || event.altKey || event.metaKey) return;
  if (event.key === "[") location.assign(String(route.dataset.previous));
  if (event.key === "]") location.assign(String(route.dataset.next));
});

/** @returns {string} */
export function csrf() {
  return String(document.querySelector("meta[name=csrf]")?.getAttribute("content"));
}
