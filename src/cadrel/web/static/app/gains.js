// @ts-check
import { post } from "./net.js";

/** Sliders and numbers of one loop; every change asks for a new prediction. @param {HTMLFormElement} form */
export function mount(form) {
  const rows = [...form.querySelectorAll(".slider")].map((row) => ({
    row: /** @type {HTMLElement} */ (row),
    range: /** @type {HTMLInputElement} */ (row.querySelector("input[type=range]")),
    number: /** @type {HTMLInputElement} */ (row.querySelector(".number input")),
    pending: /** @type {HTMLElement} */ (row.querySelector("[data-pending]")),
    log: /** @type {HTMLElement} */ (row).dataset.scale === "log",
  }));
  const bounds = (/** @type {HTMLInputElement} */ r) => [Number(r.dataset.low), Number(r.dataset.high)];
  const shareOf = (/** @type {(typeof rows)[number]} */ row, /** @type {string | undefined} */ text) => {
    const [low, high] = bounds(row.range),
      value = Number(text);
    return row.log ? Math.log(value / low) / Math.log(high / low) : (value - low) / (high - low);
  };
  const place = (/** @type {(typeof rows)[number]} */ row) => {
    const share = shareOf(row, row.number.value);
    if (Number.isFinite(share)) row.range.value = String(Math.round(1000 * share));
    row.pending.hidden = row.number.value === row.number.dataset.kept;
  };
  const tell = (/** @type {string} */ text) => {
    const problem = form.querySelector("#gain-problem");
    if (problem) problem.textContent = text;
  };
  let asking = false,
    again = false;
  const ask = async () => {
    if (asking) {
      again = true;
      return;
    }
    asking = true;
    const set = [...form.querySelectorAll(".slider .number input, [data-along]")].map(
      (field) => /** @type {HTMLInputElement} */ (field),
    );
    const values = Object.fromEntries(set.map((field) => [field.name, field.value]));
    try {
      const answer = await post(String(form.dataset.predict), values);
      const body = await answer.json();
      tell(body.problem ?? (body.now?.stable === false ? "These values are unstable." : ""));
      if (answer.ok) {
        table(form, body.table);
        document.dispatchEvent(new CustomEvent("gains:predicted", { detail: body }));
      }
    } catch {
      tell("Cadrel did not answer: the curves are those of before. Drag on to ask again.");
    }
    asking = false;
    if (again) {
      again = false;
      ask();
    }
  };
  for (const row of rows) {
    place(row);
    row.row.style.setProperty("--kept", String(shareOf(row, row.number.dataset.kept))); // where a mark stays
    row.range.addEventListener("input", () => {
      const [low, high] = bounds(row.range),
        share = Number(row.range.value) / 1000;
      const value = row.log ? low * (high / low) ** share : low + (high - low) * share;
      row.number.value = String(Number(value.toPrecision(4)));
      row.pending.hidden = row.number.value === row.number.dataset.kept;
      ask();
    });
    row.number.addEventListener("input", () => {
      place(row);
      ask();
    });
  }
  form.querySelector("#gains-back")?.addEventListener("click", () => {
    for (const row of rows) {
      row.number.value = String(row.number.dataset.kept);
      place(row);
    }
    for (const along of form.querySelectorAll("[data-along]"))
      /** @type {HTMLInputElement} */ (along).value = String(/** @type {HTMLInputElement} */ (along).dataset.kept);
    ask();
  });
  if (rows.some((row) => row.number.value !== row.number.dataset.kept)) ask(); // typed before this was there
  return () => {};
}

/** @param {HTMLElement} form @param {any[]} rows */
function table(form, rows) {
  const body = form.querySelector("#predicted tbody");
  if (!body || !rows) return;
  [...body.querySelectorAll("tr")].forEach((tr, i) => {
    const cells = tr.querySelectorAll("td");
    cells[0].textContent = rows[i].kept;
    cells[1].replaceChildren(Object.assign(document.createElement("b"), { textContent: rows[i].now }));
    const missed = Object.assign(document.createElement("b"), { className: "missed", textContent: "✗" });
    cells[2].replaceChildren(...(rows[i].good === true ? ["✓"] : rows[i].good === false ? [missed] : []));
  });
}
