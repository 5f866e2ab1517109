// @ts-check
import { post, say } from "./net.js";
import { token } from "./tab.js";

const BEAT = 35; // [ms]; the drive waits 100 ms for the next one
const REFUSED = 400; // [ms] of refusals after which a press has failed

/**
 * Buttons that act only while they are held: let go, leave, hide or lose focus and it ends. Returns the undo.
 * @param {HTMLElement} root holds the `.hold` buttons, and the address in `data-url`
 * @param {(button: HTMLElement) => Record<string, string>} begin what to send while a button is held
 * @param {(values: Record<string, string>, answer: any) => Record<string, string>} [go] what to send from then on
 */
export function holding(root, begin, go = (values) => values) {
  const url = String(root.dataset.url);
  let held = /** @type {HTMLElement | null} */ (null),
    values = /** @type {Record<string, string>} */ ({});
  let busy = false,
    timer = 0,
    holder = "",
    taken = 0;
  let beating = new AbortController(); // of the press held: its beat still under way is called off when it ends
  let ended = /** @type {Promise<unknown>} */ (Promise.resolve()); // the press before, told to the drive
  const beat = async () => {
    if (!held || busy) return;
    busy = true;
    const { signal } = beating;
    try {
      await ended;
      if (!held) return;
      const answer = await post(url, { ...values, holder }, { signal }),
        told = answer.status === 204 ? {} : await answer.json();
      if (answer.ok) {
        values = go(values, told);
        taken = performance.now();
      }
      // What is refused for a moment is asked for again: another button may just be let go.
      else if (held && performance.now() - taken > REFUSED) {
        release();
        say(told.text);
      }
    } catch {
      if (signal.aborted) return; // let go of meanwhile: whether it arrived no longer matters
      release();
      say("No contact with Cadrel. The jog ends in the drive by itself; look at the axis.");
    } finally {
      busy = false;
    }
  };
  const press = (/** @type {HTMLElement} */ button) => {
    if (held) return;
    held = button;
    holder = token();
    beating = new AbortController();
    taken = performance.now();
    values = begin(button);
    button.classList.add("held");
    say("");
    beat();
    timer = window.setInterval(beat, BEAT);
  };
  const release = () => {
    if (!held) return;
    held.classList.remove("held");
    held = null;
    window.clearInterval(timer);
    beating.abort();
    ended = post(url, { share: "0", holder }).catch(() => {});
  };
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll(".hold"))) {
    button.addEventListener("pointerdown", (event) => {
      button.setPointerCapture(event.pointerId);
      press(button);
    });
    // Only the held button lets go: pressing one takes the focus from the other, whose blur means nothing.
    const letGo = () => {
      if (held === button) release();
    };
    for (const kind of ["pointerup", "pointercancel", "lostpointercapture", "blur", "keyup"])
      button.addEventListener(kind, letGo);
    button.addEventListener("keydown", (event) => {
      if ((event.key === " " || event.key === "Enter") && !event.repeat) {
        event.preventDefault();
        press(button);
      }
    });
    button.addEventListener("contextmenu", (event) => event.preventDefault());
  }
  const hidden = () => {
    if (document.hidden) release();
  };
  document.addEventListener("visibilitychange", hidden);
  window.addEventListener("blur", release);
  window.addEventListener("pagehide", release);
  return () => {
    release();
    document.removeEventListener("visibilitychange", hidden);
    window.removeEventListener("blur", release);
    window.removeEventListener("pagehide", release);
  };
}
