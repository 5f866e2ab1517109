// @ts-check
// A consent is as old as its tick. The form takes along the drive's time at the tick and this tab's name, and the tick
// goes away by itself when the drive would not take it any more.
import { tab } from "./tab.js";

const HOLDS = 20; // [s] as the drive counts it
let driveTime = /** @type {number | null} */ (null);

document.addEventListener("cadrel:live", (event) => {
  const time = /** @type {CustomEvent} */ (event).detail.time;
  if (typeof time === "number") driveTime = time;
  for (const box of boxes()) {
    const at = Number(box.dataset.tickedAt);
    if (box.checked && box.dataset.tickedAt && driveTime !== null && driveTime - at > HOLDS) lapse(box);
  }
});

document.addEventListener("change", (event) => {
  const box = /** @type {HTMLInputElement} */ (event.target);
  if (!box.matches?.(".agree input[type=checkbox][data-consent]")) return;
  if (driveTime === null) return;
  box.dataset.tickedAt = String(driveTime);
  keep(box, "ticked_at", String(driveTime));
});

// At the moment of sending, and not of the tick: a box ticked before this script ran counts too.
document.addEventListener(
  "submit",
  (event) => {
    const box = /** @type {HTMLInputElement | null} */ (
      /** @type {Element} */ (event.target).querySelector(".agree input[data-consent]")
    );
    if (box) keep(box, "tab", tab());
  },
  { capture: true },
);

/** @returns {NodeListOf<HTMLInputElement>} */
function boxes() {
  return document.querySelectorAll(".agree input[data-consent]");
}

/** @param {HTMLInputElement} box */
function lapse(box) {
  box.checked = false;
  delete box.dataset.tickedAt;
  box.dispatchEvent(new Event("change", { bubbles: true }));
  const label = box.closest("label");
  if (!label || label.querySelector(".lapsed")) return;
  const text = Object.assign(document.createElement("span"), { className: "lapsed" });
  text.textContent = " Ticked too long ago: look again.";
  label.append(text);
}

/** @param {HTMLInputElement} box @param {string} name @param {string} value */
function keep(box, name, value) {
  const form = box.form;
  if (!form) return;
  let field = /** @type {HTMLInputElement | null} */ (form.querySelector(`input[type=hidden][name=${name}]`));
  if (!field) {
    field = Object.assign(document.createElement("input"), { type: "hidden", name });
    form.append(field);
  }
  field.value = value;
}
