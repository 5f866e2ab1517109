// @ts-check
// Robust against quick: one point on a line, dragged; all gains move with it.

const SVG = "http://www.w3.org/2000/svg";
const WIDE = 340,
  HIGH = 186,
  LEFT = 44,
  RIGHT = 8,
  TOP = 8,
  BOTTOM = 36;
const MOST_PEAK = 3; // beyond, a loop is of no use, and the line would flatten what matters
const STEP = 0.5; // of a point, by an arrow key

/**
 * @typedef {{factor: number, stiffness: number, sensitivity_peak: number, phase_margin_deg: number | null,
 *   gain_margin_db: number | null, settling: number | null, ripple: number | null, is_stable: boolean,
 *   honours: boolean, gains: Record<string, number>}} Point
 */

/** Those that can be shown: stable, and not beyond all use. @param {Point[]} points */
export const usable = (points) => points.filter((p) => p.is_stable && p.sensitivity_peak <= MOST_PEAK);

/** Between two values, by their ratio. @param {number} a @param {number} b @param {number} t */
const geometric = (a, b, t) => (a > 0 && b > 0 ? a * (b / a) ** t : a + (b - a) * t);

/**
 * The point at a place along the line, whole numbers being the points themselves.
 * @param {Point[]} points @param {number} at @returns {Point}
 */
export function between(points, at) {
  const k = Math.max(0, Math.min(points.length - 2, Math.floor(at)));
  const a = points[k],
    b = points[Math.min(k + 1, points.length - 1)],
    t = Math.max(0, Math.min(1, at - k));
  const linear = (/** @type {number | null} */ x, /** @type {number | null} */ y) =>
    x === null || y === null ? (t < 0.5 ? x : y) : x + (y - x) * t;
  return {
    factor: geometric(a.factor, b.factor, t),
    stiffness: geometric(a.stiffness, b.stiffness, t),
    sensitivity_peak: a.sensitivity_peak + (b.sensitivity_peak - a.sensitivity_peak) * t,
    phase_margin_deg: linear(a.phase_margin_deg, b.phase_margin_deg),
    gain_margin_db: linear(a.gain_margin_db, b.gain_margin_db),
    settling: linear(a.settling, b.settling),
    ripple: linear(a.ripple, b.ripple),
    is_stable: a.is_stable && b.is_stable,
    honours: t === 0 ? a.honours : t === 1 ? b.honours : a.honours && b.honours,
    gains: Object.fromEntries(Object.keys(a.gains).map((key) => [key, geometric(a.gains[key], b.gains[key], t)])),
  };
}

/**
 * The place along a line of pixels that lies nearest to a spot.
 * @param {[number, number][]} line @param {number} x @param {number} y
 */
export function nearest(line, x, y) {
  let best = 0,
    least = Infinity;
  for (let k = 0; k < line.length - 1; k++) {
    const [ax, ay] = line[k],
      [bx, by] = line[k + 1];
    const long = (bx - ax) ** 2 + (by - ay) ** 2;
    const t = long ? Math.max(0, Math.min(1, ((x - ax) * (bx - ax) + (y - ay) * (by - ay)) / long)) : 0;
    const away = (ax + t * (bx - ax) - x) ** 2 + (ay + t * (by - ay) - y) ** 2;
    if (away < least) [best, least] = [k + t, away];
  }
  return best;
}

/** @param {Point[]} points @param {number} factor */
export const placeOf = (points, factor) => {
  const k = points.findIndex((p) => p.factor >= factor);
  if (k <= 0) return k === 0 ? 0 : points.length - 1;
  return k - 1 + Math.log(factor / points[k - 1].factor) / Math.log(points[k].factor / points[k - 1].factor);
};

/** @param {string} tag @param {Record<string, string | number>} attributes @param {string} [text] */
function drawn(tag, attributes, text = "") {
  const made = document.createElementNS(SVG, tag);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, String(value));
  made.textContent = text;
  return made;
}

/** Round values inside of two bounds, for a logarithmic axis. @param {number} low @param {number} high */
export function ticksOf(low, high) {
  const found = [];
  for (let decade = 10 ** Math.floor(Math.log10(low)); decade <= high; decade *= 10)
    for (const digit of [1, 2, 5]) if (decade * digit >= low && decade * digit <= high) found.push(decade * digit);
  return found.length > 5 ? found.filter((v) => /^[1]/.test(v.toExponential())) : found;
}

/**
 * What is read below the line: key, text, and whether it is what was asked for.
 * @param {Point} p @param {Record<string, number>} asked @returns {[string, string, boolean][]}
 */
export function readings(p, asked) {
  const { phase_margin_deg: phase, gain_margin_db: gain, settling, ripple } = p;
  const least = (/** @type {number | null} */ value, /** @type {number} */ bound) =>
    value === null || value >= bound - 1e-6;
  return [
    ["stiffness", `${p.stiffness.toPrecision(3)} N·m/rad`, true],
    ["peak", p.sensitivity_peak.toFixed(2), p.sensitivity_peak <= asked.sensitivity_peak + 1e-6],
    ["phase", phase === null ? "–" : `${phase.toFixed(0)}°`, least(phase, (asked.phase_margin * 180) / Math.PI)],
    ["gain", gain === null ? "–" : `${gain.toFixed(1)} dB`, least(gain, asked.gain_margin_db)],
    ["settles", settling === null ? "not in 400 ms" : `${(1e3 * settling).toFixed(0)} ms`, true],
    ["ripple", ripple === null ? "–" : `${(100 * ripple).toPrecision(2)} %`, ripple === null || ripple <= asked.ripple],
  ];
}

/** @param {HTMLElement} root */
export function mount(root) {
  const form = /** @type {HTMLFormElement} */ (root.closest("form"));
  const told = /** @type {HTMLElement} */ (root.querySelector(".front-told"));
  const hushed = new AbortController();
  fetch(String(root.dataset.address), { signal: hushed.signal })
    .then(async (answer) => {
      const body = await answer.json();
      if (body.problem) told.textContent = body.problem;
      else if (!usable(body.points).some((p) => p.factor > 0.99 && p.factor < 1.01))
        told.textContent =
          "The gains kept are not stable over the spread that is asked for: there is no line to drag on.";
      else shown(root, told, form, body);
    })
    .catch((reason) => {
      if (reason.name !== "AbortError")
        told.textContent = "Cadrel did not answer: load the page anew for this picture.";
    });
  return () => hushed.abort();
}

/** @param {HTMLElement} root @param {HTMLElement} told @param {HTMLFormElement} form @param {any} body */
function shown(root, told, form, body) {
  const points = usable(body.points),
    asked = body.asked;
  const peaks = points.map((p) => p.sensitivity_peak),
    stiff = points.map((p) => p.stiffness);
  const x0 = Math.floor(10 * Math.min(...peaks, asked.sensitivity_peak)) / 10,
    x1 = Math.ceil(10 * Math.max(...peaks, asked.sensitivity_peak)) / 10;
  const y0 = Math.min(...stiff) / 1.15,
    y1 = Math.max(...stiff) * 1.15;
  const x = (/** @type {number} */ v) => LEFT + ((v - x0) / (x1 - x0)) * (WIDE - LEFT - RIGHT);
  const y = (/** @type {number} */ v) => HIGH - BOTTOM - (Math.log(v / y0) / Math.log(y1 / y0)) * (HIGH - TOP - BOTTOM);
  const line = /** @type {[number, number][]} */ (points.map((p) => [x(p.sensitivity_peak), y(p.stiffness)]));
  const picture = drawn("svg", {
    viewBox: `0 0 ${WIDE} ${HIGH}`,
    tabindex: 0,
    role: "slider",
    "aria-label": "Robust or quick",
  });
  picture.append(
    drawn("rect", { x: LEFT, y: TOP, width: WIDE - LEFT - RIGHT, height: HIGH - TOP - BOTTOM, class: "ground" }),
    drawn("rect", {
      x: x(asked.sensitivity_peak),
      y: TOP,
      width: Math.max(0, WIDE - RIGHT - x(asked.sensitivity_peak)),
      height: HIGH - TOP - BOTTOM,
      class: "beyond",
    }),
  );
  if (WIDE - RIGHT - x(asked.sensitivity_peak) > 110)
    picture.append(
      drawn(
        "text",
        { x: WIDE - RIGHT - 6, y: HIGH - BOTTOM - 7, class: "limit", "text-anchor": "end" },
        "more than asked",
      ),
    );
  const every = x1 - x0 > 1 ? 0.5 : 0.2;
  for (let v = Math.ceil(x0 / every - 1e-9) * every; v <= x1 + 1e-9; v += every)
    picture.append(
      drawn("line", { x1: x(v), x2: x(v), y1: TOP, y2: HIGH - BOTTOM, class: "grid" }),
      drawn("text", { x: x(v), y: HIGH - BOTTOM + 14, class: "tick", "text-anchor": "middle" }, v.toFixed(1)),
    );
  for (const v of ticksOf(y0, y1))
    picture.append(
      drawn("line", { x1: LEFT, x2: WIDE - RIGHT, y1: y(v), y2: y(v), class: "grid" }),
      drawn("text", { x: LEFT - 5, y: y(v) + 4, class: "tick", "text-anchor": "end" }, String(+v.toPrecision(3))),
    );
  picture.append(
    drawn("text", { x: (LEFT + WIDE) / 2, y: HIGH - 6, class: "axis", "text-anchor": "middle" }, "peak sensitivity"),
    drawn(
      "text",
      {
        x: 0,
        y: 0,
        class: "axis",
        transform: `translate(11 ${(HIGH - BOTTOM) / 2 + 4}) rotate(-90)`,
        "text-anchor": "middle",
      },
      "N·m/rad",
    ),
    drawn("text", { x: LEFT, y: HIGH - 6, class: "word" }, "◂ robust"),
    drawn("text", { x: WIDE - RIGHT, y: HIGH - 6, class: "word", "text-anchor": "end" }, "quick ▸"),
    drawn("polyline", { points: line.map((p) => p.join()).join(" "), class: "line" }),
    drawn("polyline", {
      points: line
        .filter((_, k) => points[k].honours)
        .map((p) => p.join())
        .join(" "),
      class: "line honours",
    }),
  );
  const home = placeOf(points, 1);
  const spot = (/** @type {number} */ at) => {
    const p = between(points, at);
    return [x(p.sensitivity_peak), y(p.stiffness)];
  };
  const [hx, hy] = spot(home);
  picture.append(drawn("circle", { cx: hx, cy: hy, r: 7, class: "kept" }));
  const handle = drawn("circle", { cx: hx, cy: hy, r: 7, class: "handle" });
  picture.append(handle);
  root.querySelector(".front-picture")?.replaceChildren(picture);
  let at = home,
    moving = false;

  const fields = [...form.querySelectorAll("input[name]")].map((f) => /** @type {HTMLInputElement} */ (f));
  const put = () => {
    const p = between(points, at);
    for (const field of fields) {
      if (!(field.name in p.gains)) continue;
      const same = Math.abs(p.factor - 1) < 1e-9;
      field.value = same ? String(field.dataset.kept) : String(Number(p.gains[field.name].toPrecision(4)));
      moving = true;
      field.dispatchEvent(new Event("input", { bubbles: true }));
      moving = false;
    }
  };
  const tell = () => {
    const p = between(points, at);
    const [cx, cy] = spot(at);
    handle.setAttribute("cx", String(cx));
    handle.setAttribute("cy", String(cy));
    root.classList.remove("off");
    picture.setAttribute("aria-valuenow", p.factor.toFixed(2));
    picture.setAttribute("aria-valuetext", `${p.factor.toFixed(2)} times as quick`);
    told.textContent =
      Math.abs(p.factor - 1) < 1e-9
        ? "The gains kept. Drag the point."
        : `${p.factor.toFixed(2)} times as quick as kept`;
    told.classList.toggle("missed", !p.honours);
    if (!p.honours) told.textContent += "; not what is asked for";
    const rows = readings(p, asked);
    for (const [key, text, good] of rows) {
      const cell = root.querySelector(`[data-front="${key}"]`);
      if (cell) cell.textContent = text;
      cell?.classList.toggle("missed", !good);
    }
  };
  const go = (/** @type {number} */ to) => {
    at = Math.max(0, Math.min(points.length - 1, Math.abs(to - home) < 0.12 ? home : to));
    tell();
    put();
  };
  const where = (/** @type {PointerEvent} */ event) => {
    const box = picture.getBoundingClientRect(),
      scale = WIDE / box.width;
    return nearest(line, (event.clientX - box.left) * scale, (event.clientY - box.top) * scale);
  };
  picture.addEventListener("pointerdown", (event) => {
    const e = /** @type {PointerEvent} */ (event);
    picture.setPointerCapture(e.pointerId);
    go(where(e));
  });
  picture.addEventListener("pointermove", (event) => {
    const e = /** @type {PointerEvent} */ (event);
    if (picture.hasPointerCapture(e.pointerId)) go(where(e));
  });
  picture.addEventListener("keydown", (event) => {
    const e = /** @type {KeyboardEvent} */ (event);
    const way = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[e.key];
    if (!way) return;
    e.preventDefault();
    go(at + way * STEP);
  });
  // A value set singly leaves the line; the point waits where it was.
  form.addEventListener("input", () => {
    if (moving) return;
    root.classList.add("off");
    told.textContent = "Set singly: not on this line. Drag the point to come back to it.";
  });
  form.querySelector("#gains-back")?.addEventListener("click", () => {
    at = home;
    tell();
  });
  tell();
}
