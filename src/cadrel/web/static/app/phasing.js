// @ts-check
import { holding } from "./hold.js";
import { post, say } from "./net.js";
import { loading } from "./anew.js";
import { reloadWithoutPower } from "./jog.js";
import { fixed } from "./rig.js";

const DOTS = 160;

/** Dial and signal circle live; the vector turns or steps only while a button is held. @param {HTMLElement} root */
export function mount(root) {
  const follow = (/** @type {Event} */ event) => show(root, /** @type {CustomEvent} */ (event).detail);
  document.addEventListener("cadrel:live", follow);
  const chosen = (/** @type {string} */ id) => /** @type {HTMLSelectElement} */ (root.querySelector(id)).value;
  const letGo = holding(
    root,
    (button) => ({
      share: chosen("#vector-share"),
      speed: chosen("#vector-speed"),
      way: button.dataset.way ?? "0",
      ...(button.dataset.step === undefined ? {} : { by: button.dataset.step }),
    }),
    ({ by, ...rest }, { target }) => (by === undefined ? rest : { ...rest, target: String(target) }),
  ); // a step is told once
  const unfollow = reloadWithoutPower(root, "vector");
  const noteIt = noting(root);
  return () => {
    letGo();
    noteIt();
    unfollow();
    document.removeEventListener("cadrel:live", follow);
  };
}

/** @param {HTMLElement} root @param {any} live */
function show(root, live) {
  turn(root, "vector", live.vector_deg);
  turn(root, "shaft", live.link === "up" ? live.shaft_deg : null);
  // Without a zero since power-up the shaft's angle only says how it moves.
  const relative = live.angle_quality === "unknown" && live.link === "up";
  root.querySelector('[data-needle="shaft"]')?.classList.toggle("relative", relative);
  const degrees = (/** @type {number | null | undefined} */ v) =>
    v === null || v === undefined ? "–" : `${fixed(v, 1)}°`;
  const texts = {
    vector: degrees(live.vector_deg),
    shaft: relative ? `${degrees(live.shaft_deg)} rel.` : degrees(live.shaft_deg),
    counts: live.counts ?? "–",
    hall: live.hall ?? "–",
    index: live.index_counts ?? "not yet",
    quality: live.angle_quality ?? "–",
    words: live.words ? `${live.word_errors} of ${live.words}` : "–",
    latency: live.latency_us === undefined ? "–" : `${fixed(live.latency_us, 0)} µs`,
  };
  for (const [key, text] of Object.entries(texts)) {
    const place = root.querySelector(`[data-phasing="${key}"]`);
    if (place && place.textContent !== String(text)) place.textContent = String(text);
  }
  for (const sector of root.querySelectorAll(".sector"))
    sector.classList.toggle("here", sector.getAttribute("data-hall") === String(live.hall));
  if (live.signals) {
    dot(root, "raw", live.signals.cos, live.signals.sin);
    dot(root, "corrected", live.signals.u, live.signals.v);
  }
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

/**
 * N notes a reading, also while a button is held and the current holds the shaft; the list comes once it is let go.
 * @param {HTMLElement} root
 */
function noting(root) {
  let noted = 0;
  const page = loading();
  const note = async (/** @type {KeyboardEvent} */ event) => {
    const typing = /^(INPUT|SELECT|TEXTAREA)$/.test(/** @type {HTMLElement} */ (event.target).tagName);
    if (event.key.toLowerCase() !== "n" || event.repeat || typing || event.ctrlKey || event.metaKey) return;
    if (!root.querySelector(".hold")) return; // nothing to be held: the vector is not enabled
    event.preventDefault();
    const answer = await post(String(root.dataset.note), { next: location.pathname });
    noted += answer.ok ? 1 : 0;
    say(answer.ok ? `${noted} noted.` : "The reading could not be noted.");
    show();
  };
  const show = () => {
    if (noted && !root.querySelector(".held")) page.anew();
  };
  const soon = () => window.setTimeout(show, 150);
  document.addEventListener("keydown", note);
  root.addEventListener("pointerup", soon);
  root.addEventListener("keyup", soon);
  return () => {
    page.undo();
    document.removeEventListener("keydown", note);
  };
}
