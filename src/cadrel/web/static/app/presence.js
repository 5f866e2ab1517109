// @ts-check
import { stream } from "./tab.js";

/** Say that a page without a strip is open: what its user leads is watched. @param {HTMLElement} place */
export function mount(place) {
  const source = stream(String(place.dataset.live));
  const close = () => source.close();
  window.addEventListener("pagehide", close);
  return () => {
    window.removeEventListener("pagehide", close);
    close();
  };
}
