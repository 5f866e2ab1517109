// @ts-check
import { chart, legend, short } from "./chart.js";

/** One recorded run, or one pair of Bode plots. @param {HTMLElement} root */
export function mount(root) {
  const spec = JSON.parse(String(root.querySelector("script")?.textContent));
  const undo = spec.kind === "bode" ? bode(root, spec) : time(root, spec);
  return undo;
}

/** @param {HTMLElement} root @param {any} spec @param {string} hint */
function head(root, spec, hint) {
  const title = document.createElement("div");
  title.className = "plot-title";
  title.append(spec.title);
  if (spec.run) {
    const link = document.createElement("a");
    link.href = `${location.pathname.split("/").slice(0, 3).join("/")}/run/${spec.run}/`;
    link.textContent = `run ${spec.run}`;
    title.append(link);
  }
  title.append(Object.assign(document.createElement("small"), { textContent: hint }));
  root.append(title);
}

/** @param {HTMLElement} root @param {any} spec */
function time(root, spec) {
  head(root, spec, "drag to zoom, double-click back, shift-click two cursors");
  const reading = Object.assign(document.createElement("div"), { className: "cursor-line" });
  const series = spec.series.map((/** @type {any} */ s) => ({ ...s, axis: s.like ?? s.quantity }));
  const groups = split(series, spec.stacked);
  const right = groups.some((group) => new Set(group.map((s) => s.axis)).size > 1);
  const drawn = groups.map((group, i) => {
    const place = root.appendChild(document.createElement("div"));
    return {
      group,
      made: chart(place, {
        series: group,
        height: groups.length > 2 ? 150 : 190,
        xLabel: i === groups.length - 1 ? (spec.x_label ?? "ms") : "",
        sync: spec.id,
        right,
        onCursor: (text) => {
          if (text) reading.textContent = text;
        },
      }),
    };
  });
  drawn.forEach(({ group, made }) => root.append(legend(group, [made.plot])));
  root.append(reading);
  return () => drawn.forEach(({ made }) => made.destroy());
}

/** Two quantities to a picture at the most. @param {any[]} series @param {boolean} stacked */
function split(series, stacked) {
  const kinds = [...new Set(series.map((s) => s.axis))];
  const groups = [];
  const most = stacked ? 1 : 2;
  for (let i = 0; i < kinds.length; i += most)
    groups.push(series.filter((s) => kinds.slice(i, i + most).includes(s.axis)));
  return groups;
}

/** @param {HTMLElement} root @param {any} spec */
function bode(root, spec) {
  head(root, spec, spec.predicted ? `predicted ${words(spec.predicted, spec.which)}` : "");
  root.append(marks(spec.marks));
  const { plots, destroy } = bodePair(root, spec.series, spec.marks, spec.db_label);
  root.append(
    legend(
      spec.series.map((/** @type {any} */ s) => ({ ...s, quantity: "loop" })),
      plots,
    ),
  );
  return destroy;
}

/**
 * Magnitude over phase.
 * @param {HTMLElement} root @param {any[]} curves @param {any} marked @param {string} [dbLabel]
 */
export function bodePair(root, curves, marked, dbLabel) {
  const key = `bode-${Math.random()}`;
  const make = (/** @type {any[]} */ from, /** @type {string} */ field, /** @type {string} */ unit) =>
    from.map((c) => ({ label: c.label, x: c.f, y: c[field], style: c.style, quantity: "loop", axis: field, unit }));
  const at = (/** @type {number | null | undefined} */ x, /** @type {string} */ text) => (x ? [{ x, text }] : []);
  const lines = (/** @type {any} */ m) => [
    ...(m?.crossover_hz ? at(m.crossover_hz, "0 dB") : at(m?.bandwidth_hz, "−3 dB")),
    ...(m?.crossover_hz ? at(m.phase_crossover_hz, "−180°") : at(m?.bandwidth_90_hz, "−90°")),
  ];
  const bare = (/** @type {any} */ m) => lines(m).map((l) => ({ ...l, text: "" }));
  const decibels = dbLabel ?? "dB";
  const upper = chart(root.appendChild(document.createElement("div")), {
    series: make(curves, "db", decibels),
    height: 170,
    log: true,
    lines: lines(marked),
    level: 0,
    sync: key,
  });
  const lower = chart(root.appendChild(document.createElement("div")), {
    series: make(curves, "deg", "°"),
    height: 130,
    log: true,
    xLabel: "Hz",
    lines: bare(marked),
    level: -180,
    sync: key,
  });
  return {
    plots: [upper.plot, lower.plot],
    renew: (/** @type {any[]} */ fresh, /** @type {any} */ m) => {
      upper.renew(make(fresh, "db", decibels), lines(m));
      lower.renew(make(fresh, "deg", "°"), bare(m));
    },
    destroy: () => {
      upper.destroy();
      lower.destroy();
    },
  };
}

/** @param {any} m @param {string} which */
function words(m, which) {
  return which === "open"
    ? `${m.phase_margin_deg === null ? "–" : short(m.phase_margin_deg)}°, ` +
        `${m.gain_margin_db === null ? "–" : short(m.gain_margin_db)} dB`
    : m.bandwidth_hz
      ? `${short(Math.round(m.bandwidth_hz))} Hz`
      : "";
}

/** @param {any} m */
export function marks(m) {
  const box = Object.assign(document.createElement("div"), { className: "marks" });
  const rows = /** @type {[string, number | null, string, number][]} */ ([
    ["crossover", m.crossover_hz, "Hz", 0],
    ["phase margin", m.phase_margin_deg, "°", 0],
    ["gain margin", m.gain_margin_db, "dB", 1],
    ["peak sensitivity", m.sensitivity_peak, "", 2],
    ["−3 dB at", m.bandwidth_hz, "Hz", 0],
    ["−90° at", m.bandwidth_90_hz, "Hz", 0],
  ]);
  for (const [label, value, unit, digits] of rows)
    if (value !== null && value !== undefined)
      box.append(
        Object.assign(document.createElement("span"), { textContent: `${label} ${value.toFixed(digits)} ${unit}` }),
      );
  return box;
}
