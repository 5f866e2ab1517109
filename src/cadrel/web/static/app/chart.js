// @ts-check
// uPlot with the house's styles: quantity decides colour, dashed is commanded, pale is a reference run, dots are
// measured.
import uPlot from "../vendor/uplot/uPlot.esm.js";

const css = getComputedStyle(document.documentElement);
const colour = (/** @type {string} */ name) => css.getPropertyValue(`--${name}`).trim();
export const COLOURS = {
  position: colour("position"),
  velocity: colour("velocity"),
  current: colour("current"),
  torque: colour("current"),
  voltage: colour("voltage"),
  error: "#7a4fa3",
  acceleration: "#6b6b00",
  inductance: "#7a4fa3",
  counts: colour("position"),
  angle: "#7a4fa3",
  state: "#59626b",
  excitation: "#59626b",
  model: colour("ink"),
  loop: colour("model"),
  ghost: "#a9a292",
};

const FULL = 1.6; // times as tall when the plots have the whole window

/**
 * @typedef {{label: string, x: number[], y: number[], quantity: string, style: string, axis: string,
 *   unit: string}} Series
 */

/** Steps between ticks that are read without counting: decibels, and parts of a turn. */
const STEPS = /** @type {Record<string, number[]>} */ ({
  db: [1, 2, 5, 10, 20, 40, 60, 100],
  deg: [5, 10, 15, 30, 45, 90, 180, 360, 720],
});

/** Digits without separators, with a true minus. @param {any} _ @param {number[]} values */
const plain = (_, values) => values.map((v) => (v === null ? "" : String(+v.toPrecision(8)).replace("-", "−")));

/** A logarithmic axis counts its ticks from where it begins: let it begin at 10, not at 10.7. @param {number} x */
const leadingDigit = (x) => {
  const decade = 10 ** Math.floor(Math.log10(x));
  return x > 0 ? Math.floor(x / decade) * decade : x;
};

/**
 * Draw series on shared x.
 * @param {HTMLElement} place
 * @param {{series: Series[], height: number, log?: boolean, xLabel?: string, lines?: {x: number, text: string}[],
 *   level?: number, onCursor?: (text: string) => void, sync?: string, range?: [number, number],
 *   right?: boolean}} options
 */
export function chart(place, options) {
  const { series } = options;
  const tall = () => Math.round(options.height * (document.body.classList.contains("picture") ? FULL : 1));
  const data = joined(series);
  const axes = [...new Set(series.map((s) => s.axis))];
  const shown = axes.slice(0, 2);
  const font = "13px Barlow SC";
  const plot = new uPlot(
    /** @type {any} */ ({
      width: place.clientWidth,
      height: tall(),
      legend: { show: false },
      // beside one with a second axis, the times stand below each other
      padding: [6, options.right && shown.length < 2 ? 74 : 10, 0, 0],
      cursor: {
        drag: { x: true, y: false },
        sync: options.sync ? { key: options.sync } : undefined,
        points: { size: 5 },
      },
      scales: {
        x: {
          time: false,
          distr: options.log ? 3 : 1,
          range: (/** @type {any} */ _, /** @type {number} */ low, /** @type {number} */ high) => [
            options.log ? leadingDigit(low) : low,
            high,
          ],
        },
        ...Object.fromEntries(axes.map((a) => [a, options.range && a === axes[0] ? { range: options.range } : {}])),
      },
      axes: [
        {
          label: options.xLabel,
          font,
          labelFont: font,
          labelSize: 16,
          size: 26,
          stroke: colour("mute"),
          grid: { stroke: "#e6e1d5", width: 1 },
          ticks: { show: false },
          values: options.log
            ? (/** @type {any} */ _, /** @type {number[]} */ v) =>
                v.map((n) =>
                  n === null ? "" : /^[125]/.test(String(n).replace(/^0\.0*/, "")) ? String(+n.toPrecision(3)) : "",
                )
            : plain,
        },
        ...shown.map((a, i) => ({
          scale: a,
          side: i ? 1 : 3,
          label: series.find((s) => s.axis === a)?.unit || series.find((s) => s.axis === a)?.label,
          font,
          labelFont: font,
          labelSize: 16,
          size: 48,
          stroke: colour("mute"),
          values: plain,
          incrs: STEPS[a],
          space: STEPS[a] ? 24 : 30,
          grid: { show: i === 0, stroke: "#e6e1d5", width: 1 },
          ticks: { show: false },
        })),
      ],
      series: [{}, ...series.map((s) => style(s))],
      hooks: {
        draw: [(/** @type {any} */ u) => drawLines(u, options)],
        setCursor: [(/** @type {any} */ u) => options.onCursor?.(reading(u, series, options.xLabel ?? ""))],
      },
    }),
    /** @type {any} */ (data),
    place,
  );
  const cursors = /** @type {number[]} */ ([]);
  plot.over.addEventListener("dblclick", () => {
    cursors.length = 0;
  });
  plot.over.addEventListener("click", (/** @type {MouseEvent} */ event) => {
    if (!event.shiftKey) return;
    cursors.push(plot.posToVal(/** @type {number} */ (plot.cursor.left), "x"));
    if (cursors.length > 2) cursors.shift();
    /** @type {any} */ (plot).marked = cursors;
    plot.redraw(false);
  });
  const fit = () => {
    const size = { width: place.clientWidth, height: tall() };
    if (size.width && (size.width !== plot.width || size.height !== plot.height)) plot.setSize(size);
  };
  const watch = new ResizeObserver(fit);
  watch.observe(place);
  document.addEventListener("folds:changed", fit);
  /**
   * Other data in the same picture: zoom, cursors and hidden series stay.
   * @param {Series[]} fresh @param {any[]} lines
   */
  const renew = (fresh, lines) => {
    options.lines = lines;
    const x = plot.data[0],
      { min, max } = plot.scales.x;
    const zoomed = x.length > 1 && Number(max) - Number(min) < 0.98 * (x[x.length - 1] - x[0]);
    plot.batch(() => {
      plot.setData(/** @type {any} */ (joined(fresh)), !zoomed);
      if (zoomed) plot.setScale("x", { min: Number(min), max: Number(max) });
    });
  };
  return {
    plot,
    renew,
    destroy: () => {
      watch.disconnect();
      document.removeEventListener("folds:changed", fit);
      plot.destroy();
    },
  };
}

/** @param {Series[]} series */
function joined(series) {
  const tables = series.map((s) => [s.x, s.y]);
  return tables.length > 1 ? uPlot.join(/** @type {any} */ (tables)) : tables[0];
}

/** @param {Series} s */
function style(s) {
  const ghost = s.style === "ghost",
    dots = s.style === "dots";
  const stroke = ghost ? COLOURS.ghost : (COLOURS[/** @type {keyof typeof COLOURS} */ (s.quantity)] ?? COLOURS.state);
  return {
    label: s.label,
    scale: s.axis,
    stroke,
    width: s.quantity === "model" ? 1.5 : 2,
    dash: s.style === "dashed" ? [7, 4] : undefined,
    spanGaps: !dots,
    paths: dots ? () => null : undefined,
    points: dots ? { show: true, size: 5, stroke: colour("ink"), fill: "#fff", width: 1 } : { show: false },
  };
}

/** Marked frequencies, cursors, and a level such as 0 dB. @param {any} u @param {any} options */
function drawLines(u, options) {
  const ctx = u.ctx;
  ctx.save();
  ctx.strokeStyle = colour("ink");
  ctx.lineWidth = devicePixelRatio;
  const vertical = (/** @type {number} */ x, /** @type {number[]} */ dash) => {
    const at = u.valToPos(x, "x", true);
    ctx.setLineDash(dash);
    ctx.beginPath();
    ctx.moveTo(at, u.bbox.top);
    ctx.lineTo(at, u.bbox.top + u.bbox.height);
    ctx.stroke();
  };
  ctx.font = `${12 * devicePixelRatio}px Barlow SC`;
  ctx.textAlign = "left";
  const written = /** @type {[number, number][]} */ ([]); // from and to of labels on the first line
  for (const { x, text } of options.lines ?? []) {
    vertical(x, []);
    if (!text) continue;
    const unit = devicePixelRatio,
      at = u.valToPos(x, "x", true) + 4 * unit,
      wide = ctx.measureText(text).width;
    const down = written.some(([from, to]) => at < to + 6 * unit && at + wide > from - 6 * unit) ? 16 * unit : 0;
    written.push([at, at + wide]);
    ctx.fillStyle = "#fffc"; // the curve may pass behind the words
    ctx.fillRect(at - 2 * unit, u.bbox.top + unit + down, wide + 4 * unit, 15 * unit);
    ctx.fillStyle = colour("ink");
    ctx.fillText(text, at, u.bbox.top + 12 * unit + down);
  }
  for (const x of u.marked ?? []) vertical(x, [4, 4]);
  if (options.level !== undefined) {
    const at = u.valToPos(
      options.level,
      Object.keys(u.scales).find((k) => k !== "x"),
      true,
    );
    ctx.strokeStyle = colour("line");
    ctx.setLineDash([]);
    ctx.beginPath();
    ctx.moveTo(u.bbox.left, at);
    ctx.lineTo(u.bbox.left + u.bbox.width, at);
    ctx.stroke();
  }
  ctx.restore();
}

/** @param {any} u @param {Series[]} series @param {string} xUnit */
function reading(u, series, xUnit) {
  const marked = u.marked ?? [];
  const parts = [];
  if (u.cursor.idx !== null && u.cursor.idx !== undefined) {
    parts.push(`${short(u.data[0][u.cursor.idx])} ${xUnit}`);
    series.forEach((s, k) => {
      const y = nearest(u.data[k + 1], u.cursor.idx);
      if (u.series[k + 1].show && y !== null) parts.push(`${s.label} ${short(y)}`);
    });
  }
  if (marked.length === 2) {
    const [a, b] = marked.map((/** @type {number} */ x) => u.valToIdx(x));
    parts.push(`Δ ${short(u.data[0][b] - u.data[0][a])} ${xUnit}`);
    const [p, q] = [nearest(u.data[1], a), nearest(u.data[1], b)];
    if (p !== null && q !== null) parts.push(`Δ ${series[0].label} ${short(q - p)} ${series[0].unit}`);
  }
  return parts.join("   ");
}

/** @param {(number | null)[]} y @param {number} i */
function nearest(y, i) {
  for (let d = 0; d < 40; d++)
    for (const k of [i - d, i + d]) if (y[k] !== null && y[k] !== undefined) return /** @type {number} */ (y[k]);
  return null;
}

/** @param {number} v */
export function short(v) {
  return String(Number(v.toPrecision(4))).replace("-", "−");
}

/** A legend whose entries hide their series. @param {Series[]} series @param {any[]} plots */
export function legend(series, plots) {
  const box = document.createElement("div");
  box.className = "legend";
  series.forEach((s, k) => {
    const button = document.createElement("button");
    button.type = "button";
    button.setAttribute("aria-pressed", "true");
    const ghost = s.style === "ghost";
    const stroke = ghost ? COLOURS.ghost : COLOURS[/** @type {keyof typeof COLOURS} */ (s.quantity)];
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("viewBox", "0 0 26 8");
    const mark = document.createElementNS("http://www.w3.org/2000/svg", s.style === "dots" ? "circle" : "line");
    const attributes =
      s.style === "dots"
        ? { cx: 13, cy: 4, r: 3, fill: "#fff", stroke: "#1d2833" }
        : {
            x1: 0,
            x2: 26,
            y1: 4,
            y2: 4,
            stroke,
            "stroke-width": 2.5,
            "stroke-dasharray": s.style === "dashed" ? "6 3" : "none",
          };
    for (const [name, value] of Object.entries(attributes)) mark.setAttribute(name, String(value));
    svg.append(mark);
    button.append(svg, s.label);
    button.addEventListener("click", () => {
      const on = button.getAttribute("aria-pressed") !== "true";
      button.setAttribute("aria-pressed", String(on));
      plots.forEach((p) => p.setSeries(k + 1, { show: on }));
    });
    box.append(button);
  });
  return box;
}
