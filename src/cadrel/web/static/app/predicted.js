// @ts-check
import { chart, legend } from "./chart.js";
import { bodePair, marks } from "./plot.js";

const VIEWS = { open: "Open loop", closed: "Closed loop", sensitivity: "Sensitivity", plant: "Plant" };

/** Curves of the values on the left, beside those kept; redrawn on "gains:predicted". @param {HTMLElement} root */
export function mount(root) {
  const source = document.getElementById("prediction");
  let prediction = JSON.parse(String(source?.textContent)), view = "open", undo = () => {};
  const draw = () => {
    undo();
    root.replaceChildren();
    const title = Object.assign(document.createElement("div"), { className: "plot-title", textContent: "With these values" });
    const tabs = Object.assign(document.createElement("div"), { className: "tabs" });
    for (const [key, label] of Object.entries(VIEWS)) {
      if (!prediction.now[key]) continue;
      const button = Object.assign(document.createElement("button"), { type: "button", textContent: label });
      button.setAttribute("aria-pressed", String(view === key));
      button.addEventListener("click", () => { view = key; draw(); });
      tabs.append(button);
    }
    title.append(tabs, Object.assign(document.createElement("small"), { textContent: prediction.now.stable ? prediction.origin : "unstable" }));
    root.append(title);
    const shown = view === "open" ? prediction.now.margins : view === "closed" ? { bandwidth_hz: prediction.now.margins.bandwidth_hz, bandwidth_90_hz: prediction.now.margins.bandwidth_90_hz } : {};
    root.append(marks(shown));
    const curves = [{ label: "kept", style: "ghost", ...prediction.kept[view] }, { label: "with these values", style: "solid", ...prediction.now[view] }];
    const measured = prediction.now[`measured_${view}`];
    if (measured) curves.push({ label: "on the measured plant", style: "dots", ...measured });
    const pair = bodePair(root, curves, view === "open" ? shown : {}, view === "plant" ? "dB (rad/s per N·m)" : "dB");
    const steps = [{ label: "kept", style: "ghost", ...prediction.kept.step }, { label: "with these values", style: "solid", ...prediction.now.step }]
      .map((s) => ({ label: s.label, x: s.t.map((/** @type {number} */ t) => 1e3 * t), y: s.y, style: s.style, quantity: "loop", axis: "step", unit: "unit step" }));
    const step = chart(root.appendChild(document.createElement("div")), { series: steps, height: 130, xLabel: "ms", level: 1 });
    root.append(legend(curves.map((c) => ({ ...c, quantity: "loop" })), pair.plots));
    undo = () => { pair.destroy(); step.destroy(); };
  };
  const renew = (/** @type {Event} */ event) => { prediction = /** @type {CustomEvent} */ (event).detail; draw(); };
  document.addEventListener("gains:predicted", renew);
  draw();
  return () => { document.removeEventListener("gains:predicted", renew); undo(); };
}
