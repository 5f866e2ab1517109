// @ts-check
import { post, say } from "./net.js";

const BEAT = 35; // [ms]; the drive waits 100 ms for the next one

/** Move only while a button is held; let go, leave, hide or lose focus and it stops. @param {HTMLElement} root */
export function mount(root) {
  const url = String(root.dataset.url);
  let way = 0, busy = false, timer = 0;
  const share = () => Number(/** @type {HTMLSelectElement} */ (root.querySelector("#jog-share")).value);
  const beat = async () => {
    if (!way || busy) return;
    busy = true;
    try {
      const answer = await post(url, { share: String(way * share()) });
      if (!answer.ok) { const { text } = await answer.json(); release(); say(text); }
    } catch { release(); say("No contact with Cadrel; the drive stopped by itself."); } finally { busy = false; }
  };
  const press = (/** @type {HTMLElement} */ button) => {
    if (way) return;
    way = Number(button.dataset.way);
    button.classList.add("held");
    say("");
    beat();
    timer = window.setInterval(beat, BEAT);
  };
  const release = () => {
    if (!way) return;
    way = 0;
    window.clearInterval(timer);
    root.querySelectorAll(".held").forEach((b) => b.classList.remove("held"));
    post(url, { share: "0" }).catch(() => {});
  };
  const buttons = /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll(".hold"));
  for (const button of buttons) {
    button.addEventListener("pointerdown", (event) => { button.setPointerCapture(event.pointerId); press(button); });
    // Only the held button lets go: pressing one takes the focus from the other, whose blur means nothing.
    const letGo = () => { if (button.classList.contains("held")) release(); };
    for (const kind of ["pointerup", "pointercancel", "lostpointercapture", "blur", "keyup"]) button.addEventListener(kind, letGo);
    button.addEventListener("keydown", (event) => { if ((event.key === " " || event.key === "Enter") && !event.repeat) { event.preventDefault(); press(button); } });
    button.addEventListener("contextmenu", (event) => event.preventDefault());
  }
  const hidden = () => { if (document.hidden) release(); };
  document.addEventListener("visibilitychange", hidden);
  window.addEventListener("blur", release);
  window.addEventListener("pagehide", release);
  return () => { release(); document.removeEventListener("visibilitychange", hidden); window.removeEventListener("blur", release); window.removeEventListener("pagehide", release); };
}
