// @ts-check
import { show } from "./rig.js";

/** Live values elsewhere on the page, from the strip's stream: one page, one stream. @param {HTMLElement} place */
export function mount(place) {
  const follow = (/** @type {Event} */ event) => show(place, /** @type {CustomEvent} */ (event).detail);
  document.addEventListener("cadrel:live", follow);
  return () => document.removeEventListener("cadrel:live", follow);
}
