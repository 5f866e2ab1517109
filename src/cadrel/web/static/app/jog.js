// @ts-check
import { loading } from "./anew.js";
import { holding } from "./hold.js";

const GONE = 4; // looks in a row without power, before the page is drawn anew with the way to enable

/** Move only while a button is held. @param {HTMLElement} root */
export function mount(root) {
  const share = /** @type {HTMLSelectElement | null} */ (root.querySelector("#jog-share"));
  const letGo = holding(root, (button) => ({ share: String(Number(button.dataset.way) * Number(share?.value)) }));
  const unfollow = reloadWithoutPower(root, "position");
  return () => {
    letGo();
    unfollow();
  };
}

/**
 * Buttons to hold are there while the power stage is on; when it went off, the page shows how to enable it again.
 * @param {HTMLElement} root @param {string} mode
 */
export function reloadWithoutPower(root, mode) {
  if (!root.querySelector(".hold")) return () => {};
  let without = 0;
  const page = loading();
  const follow = (/** @type {Event} */ event) => {
    const live = /** @type {CustomEvent} */ (event).detail;
    without = live.link === "up" && live.mode !== mode ? without + 1 : 0;
    if (without === GONE) page.anew();
  };
  document.addEventListener("cadrel:live", follow);
  return () => {
    page.undo();
    document.removeEventListener("cadrel:live", follow);
  };
}
