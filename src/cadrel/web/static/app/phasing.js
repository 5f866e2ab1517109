// @ts-check
import { post, say } from "./net.js";
import { fixed } from "./rig.js";

const BEAT = 35; // [ms]; the drive waits 100 ms for the next one
const DOTS = 160;

/** Dial and signal circle live; the vector turns or steps only while a button is held. @param {HTMLElement} root */
export function mount(root) {
  const follow = (/** @type {Event} */ event) => show(root, /** @type {CustomEvent} */ (event).detail);
  document.addEventListener("cadrel:live", follow);
  const letGo = holding(root);
  return () => { letGo(); document.removeEventListener("cadrel:live", follow); };
}

/** @param {HTMLElement} root @param {any} live */
function show(root, live) {
  turn(root, "vector", live.vector_deg);
  turn(root, "shaft", live.link === "up" ? live.shaft_deg : null);
  // Without a zero since power-up the shaft's angle only says how it moves.
  const relative = live.angle_quality === "unknown" && live.link === "up";
  root.querySelector('[data-needle="shaft"]')?.classList.toggle("relative", relative);
  const degrees = (/** @type {number | null | undefined} */ v) => v === null || v === undefined ? "–" : `${fixed(v, 1)}°`;
  const texts = { vector: degrees(live.vector_deg), shaft: relative ? `${degrees(live.shaft_deg)} rel.` : degrees(live.shaft_deg), counts: live.counts ?? "–", hall: live.hall ?? "–",
    index: live.index_counts ?? "not yet", quality: live.angle_quality ?? "–", words: live.words ? `${live.word_errors} of ${live.words}` : "–",
    latency: live.latency_us === undefined ? "–" : `${fixed(live.latency_us, 0)} µs` };
  for (const [key, text] of Object.entries(texts)) {
    const place = root.querySelector(`[data-phasing="${key}"]`);
    if (place && place.textContent !== String(text)) place.textContent = String(text);
  }
  for (const sector of root.querySelectorAll(".sector")) sector.classList.toggle("here", sector.getAttribute("data-hall") === String(live.hall));
  if (live.signals) { dot(root, "raw", live.signals.cos, live.signals.sin); dot(root, "corrected", live.signals.u, live.signals.v); }
}

/** @param {HTMLElement} root @param {string} name @param {number | null | undefined} angle */
function turn(root, name, angle) {
  const needle = root.querySelector(`[data-needle="${name}"]`);
  if (!needle) return;
  needle.setAttribute("visibility", angle === null || angle === undefined ? "hidden" : "visible");
  if (angle !== null && angle !== undefined) needle.setAttribute("transform", `rotate(${-angle})`);
}

/** @param {HTMLElement} root @param {string} kind @param {number} x @param {number} y */
function dot(root, kind, x, y) {
  const group = root.querySelector(`[data-dots="${kind}"]`);
  if (!group) return;
  const made = document.createElementNS("http://www.w3.org/2000/svg", "circle");
  made.setAttribute("class", kind);
  made.setAttribute("cx", String(100 * x));
  made.setAttribute("cy", String(-100 * y));
  made.setAttribute("r", kind === "raw" ? "3" : "1.8");
  group.append(made);
  while (group.childElementCount > DOTS) group.firstElementChild?.remove();
}

/** @param {HTMLElement} root */
function holding(root) {
  const url = String(root.dataset.url);
  const number = (/** @type {string} */ id) => /** @type {HTMLSelectElement} */ (root.querySelector(id)).value;
  let held = /** @type {HTMLElement | null} */ (null), values = /** @type {Record<string, string>} */ ({}), busy = false, timer = 0;
  const beat = async () => {
    if (!held || busy) return;
    busy = true;
    try {
      const answer = await post(url, values);
      const { text, target } = await answer.json();
      if (!answer.ok) { release(); say(text); }
      // A step is told once; from then on the button holds where it led.
      else if (values.by !== undefined) { const { by, ...rest } = values; values = { ...rest, target: String(target) }; }
    } catch { release(); say("No contact with Cadrel; the drive stopped by itself."); } finally { busy = false; }
  };
  const press = (/** @type {HTMLElement} */ button) => {
    if (held) return;
    held = button;
    button.classList.add("held");
    say("");
    values = { share: number("#vector-share"), speed: number("#vector-speed"), way: button.dataset.way ?? "0" };
    if (button.dataset.step !== undefined) values.by = button.dataset.step;
    beat();
    timer = window.setInterval(beat, BEAT);
  };
  const release = () => {
    if (!held) return;
    held.classList.remove("held");
    held = null;
    window.clearInterval(timer);
    post(url, { share: "0" }).catch(() => {});
  };
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll(".hold"))) {
    button.addEventListener("pointerdown", (event) => { button.setPointerCapture(event.pointerId); press(button); });
    const letGo = () => { if (held === button) release(); };
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
