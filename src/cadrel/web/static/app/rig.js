// @ts-check
import { stream } from "./tab.js";

/** Keep the strip live from the event stream. @param {HTMLElement} strip */
export function mount(strip) {
  if (!strip.dataset.connected) return () => {};
  const source = stream(String(strip.dataset.live));
  let told = "";
  source.onmessage = (event) => {
    const live = JSON.parse(event.data);
    show(strip, live);
    if (strip.id === "strip") document.dispatchEvent(new CustomEvent("cadrel:live", { detail: live }));
    const text = whatToTell(live, String(strip.dataset.user));
    if (text !== told) tell((told = text));
  };
  source.onerror = () =>
    show(strip, {
      link: "lost",
      state: "No contact with Cadrel",
      lamp: "none",
      control: "not known what the axis does",
      blockers: [],
      not_stored: [],
    });
  strip.querySelector("[data-take]")?.addEventListener("submit", takeFrom);
  const close = () => source.close();
  window.addEventListener("pagehide", close);
  return () => {
    window.removeEventListener("pagehide", close);
    close();
  };
}

/** Control is not taken from somebody unasked: the question names them. @param {Event} event */
export function takeFrom(event) {
  const form = /** @type {HTMLFormElement} */ (event.target),
    other = form.dataset.other;
  const force = /** @type {HTMLInputElement} */ (form.elements.namedItem("force"));
  force.value = other ? "1" : "0";
  const question = `${other} has control and may be moving the axis. Take it all the same? The axis is stopped then.`;
  if (other && !window.confirm(question)) event.preventDefault();
}

const RECENT = 30; // [s] of drive time that a STOP of somebody else is told

/**
 * What stands across the sheet: a database that is away, a STOP of somebody else as what it was, gains that the drive
 * halved.
 * @param {any} live @param {string} me @returns {string}
 */
export function whatToTell(live, me) {
  if (live.database === "away") {
    return "The database does not answer. The strip above is live; what is shown of runs and values may be old.";
  }
  const stop = live.last_stop;
  if (stop && live.time - stop.time < RECENT && !String(stop.by).startsWith(`${me} (`) && stop.by !== me) {
    return `${stop.why}. The axis was stopped; its run and its consent have ended.`;
  }
  const swung = live.swung;
  if (swung && live.time - swung.time < RECENT) {
    return (
      `The loop swung ever wider at ${swung.hz.toFixed(0)} Hz: the drive halved the gains of velocity and position ` +
      "loop and went on. They are in its working memory only; keep lower ones, or tune anew."
    );
  }
  return "";
}

/** @param {string} text */
function tell(text) {
  const place = document.getElementById("told");
  if (!place) return;
  place.hidden = !text;
  place.textContent = text;
}

/** @param {HTMLElement} strip @param {any} live */
export function show(strip, live) {
  const texts = {
    ...live,
    not_stored_count: live.link === "up" ? String(live.not_stored.length) : "–",
    blocker_text: live.blockers.length ? `${live.blockers.length} to clear` : "Ready to enable",
  };
  for (const place of /** @type {NodeListOf<HTMLElement>} */ (strip.querySelectorAll("[data-live-text]"))) {
    const text = texts[String(place.dataset.liveText)];
    if (text !== undefined && place.textContent !== text) place.textContent = text;
  }
  for (const place of /** @type {NodeListOf<HTMLElement>} */ (strip.querySelectorAll("[data-live-number]"))) {
    const value = live[String(place.dataset.liveNumber)];
    place.textContent = value === null || value === undefined ? "–" : fixed(value, Number(place.dataset.digits));
  }
  const take = /** @type {HTMLElement | null} */ (strip.querySelector("[data-take]"));
  if (take) take.dataset.other = live.other ?? "";
  const power = strip.querySelector("#power");
  if (power) power.className = `power lamp-${live.lamp}`;
  for (const place of /** @type {NodeListOf<HTMLElement>} */ (strip.querySelectorAll("[data-shown-if]")))
    place.hidden = !live[String(place.dataset.shownIf)];
  for (const place of /** @type {NodeListOf<HTMLElement>} */ (strip.querySelectorAll("[data-shown-unless]")))
    place.hidden = Boolean(live[String(place.dataset.shownUnless)]);
  const details = /** @type {HTMLElement | null} */ (strip.querySelector("#blockers"));
  if (!details) return; // other places show live values too
  details.hidden = live.link !== "up";
  const list = /** @type {HTMLElement} */ (strip.querySelector("[data-live-list]"));
  const key = JSON.stringify(live.blockers);
  if (list.dataset.key === key) return;
  list.dataset.key = key;
  list.replaceChildren(
    ...(live.blockers.length
      ? live.blockers.map((/** @type {any} */ b) => {
          const item = document.createElement("li"),
            link = document.createElement("a");
          link.href = `/axis/${list.dataset.axis}/${b.step}/`;
          link.textContent = b.remedy;
          item.append(`${b.text} `, link);
          return item;
        })
      : [Object.assign(document.createElement("li"), { textContent: "Nothing prevents enabling." })]),
  );
}

/** @param {number} value @param {number} digits */
export function fixed(value, digits) {
  const text = value.toFixed(digits);
  return (Number(text) === 0 ? (0).toFixed(digits) : text).replace("-", "−");
}
