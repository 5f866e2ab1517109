// @ts-check
import { chart, legend } from "./chart.js";
import { bodePair, marks } from "./plot.js";

const VIEWS = { open: "Open loop", closed: "Closed loop", sensitivity: "Sensitivity", plant: "Plant" };
/** Loops that a prediction may hold, in the order they are drawn: key, name in the legend, style. */
const LOOPS = [
  ["kept", "kept", "ghost"],
  ["proposed", "proposed", "dashed"],
  ["now", "", "solid"],
];

/** How what is shown first is called: a proposal that waits, or what the sliders say. @param {any} prediction */
const nameOf = (prediction) => prediction.named ?? "with these values";

/** Curves of the values on the left, beside those kept; redrawn on "gains:predicted". @param {HTMLElement} root */
export function mount(root) {
  const source = document.getElementById("prediction");
  let prediction = JSON.parse(String(source?.textContent)),
    view = "open",
    drawn = /** @type {{ names: string, renew: () => void, destroy: () => void } | null} */ (null);

  const draw = () => {
    drawn?.destroy();
    root.replaceChildren();
    const title = element("div", "plot-title", prediction.named ? "As proposed" : "With these values");
    const tabs = element("div", "tabs");
    for (const [key, label] of Object.entries(VIEWS)) {
      if (!prediction.now[key]) continue;
      const button = Object.assign(document.createElement("button"), { type: "button", textContent: label });
      button.setAttribute("aria-pressed", String(view === key));
      button.addEventListener("click", () => {
        view = key;
        draw();
      });
      tabs.append(button);
    }
    const origin = element("small", "", originOf(prediction));
    title.append(tabs, origin);
    let read = marks(marksOf(prediction, view));
    root.append(title, read);
    const curves = curvesOf(prediction, view);
    const unit = view === "plant" ? "dB (rad/s per N·m)" : "dB";
    const pair = bodePair(root, curves, linesOf(prediction, view), unit);
    const series = stepsOf(prediction);
    const place = root.appendChild(document.createElement("div"));
    const step = chart(place, { series, height: 130, xLabel: "ms", level: 1 });
    root.append(
      legend(
        curves.map((c) => ({ ...c, quantity: "loop" })),
        pair.plots,
      ),
    );
    drawn = {
      names: namesOf(prediction, view),
      renew: () => {
        const fresh = marks(marksOf(prediction, view));
        read.replaceWith(fresh);
        read = fresh;
        origin.textContent = originOf(prediction);
        pair.renew(curvesOf(prediction, view), linesOf(prediction, view));
        step.renew(stepsOf(prediction), []);
      },
      destroy: () => {
        pair.destroy();
        step.destroy();
      },
    };
  };
  const renew = (/** @type {Event} */ event) => {
    prediction = /** @type {CustomEvent} */ (event).detail;
    // While a value is dragged only the data change: what was zoomed or hidden stays so.
    if (drawn && drawn.names === namesOf(prediction, view)) drawn.renew();
    else draw();
  };
  document.addEventListener("gains:predicted", renew);
  draw();
  return () => {
    document.removeEventListener("gains:predicted", renew);
    drawn?.destroy();
  };
}

/** @param {string} tag @param {string} className @param {string} [text] */
function element(tag, className, text = "") {
  return Object.assign(document.createElement(tag), { className, textContent: text });
}

/** @param {any} prediction */
const originOf = (prediction) => (prediction.now.stable ? prediction.origin : "unstable");

/** @param {any} prediction @param {string} view */
function marksOf(prediction, view) {
  const m = prediction.now.margins;
  if (view === "open") return m;
  return view === "closed" ? { bandwidth_hz: m.bandwidth_hz, bandwidth_90_hz: m.bandwidth_90_hz } : {};
}

/** @param {any} prediction @param {string} view */
const linesOf = (prediction, view) => (view === "open" ? prediction.now.margins : {});

/** @param {any} prediction @param {string} view @returns {any[]} */
function curvesOf(prediction, view) {
  const curves = LOOPS.filter(([key]) => prediction[key]?.[view]).map(([key, label, style]) => ({
    label: label || nameOf(prediction),
    style,
    ...prediction[key][view],
  }));
  const measured = prediction.now[`measured_${view}`];
  if (measured) curves.push({ label: "on the measured plant", style: "dots", ...measured });
  return curves;
}

/** @param {any} prediction @param {string} view */
const namesOf = (prediction, view) =>
  curvesOf(prediction, view)
    .map((c) => c.label)
    .join();

/** @param {any} prediction */
function stepsOf(prediction) {
  return LOOPS.filter(([key]) => prediction[key]).map(([key, label, style]) => ({
    label: label || nameOf(prediction),
    x: prediction[key].step.t.map((/** @type {number} */ t) => 1e3 * t),
    y: prediction[key].step.y,
    style,
    quantity: "loop",
    axis: "step",
    unit: "unit step",
  }));
}
