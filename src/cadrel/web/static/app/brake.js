// @ts-check
import { show } from "./rig.js";
import { holding } from "./hold.js";

/** Open the brake while the button is held, and show what it and the shaft do. @param {HTMLElement} root */
export function mount(root) {
  const safe = /** @type {HTMLInputElement | null} */ (root.querySelector("[data-safe]"));
  const letGo = holding(root, () => ({ share: "1", safe: safe?.checked ? "1" : "" }));
  const follow = (/** @type {Event} */ event) => show(root, /** @type {CustomEvent} */ (event).detail);
  document.addEventListener("cadrel:live", follow);
  return () => {
    letGo();
    document.removeEventListener("cadrel:live", follow);
  };
}
