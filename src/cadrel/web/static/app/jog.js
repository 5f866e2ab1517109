// @ts-check
import { holding } from "./hold.js";

/** Move only while a button is held. @param {HTMLElement} root */
export function mount(root) {
  const share = /** @type {HTMLSelectElement | null} */ (root.querySelector("#jog-share"));
  return holding(root, (button) => ({ share: String(Number(button.dataset.way) * Number(share?.value)) }));
}
