// @ts-check
/**
 * When other choices ask for other fields the form is drawn anew; what was typed meanwhile is put back into it.
 * @param {HTMLElement} form
 */
export function mount(form) {
  const typed = /** @type {Map<string, string>} */ (new Map());
  const controls = () =>
    /** @type {NodeListOf<HTMLInputElement | HTMLSelectElement>} */ (
      form.querySelectorAll("#fields input:not([type=hidden]), #fields select")
    );
  const keep = (/** @type {Event} */ event) => {
    if (/** @type {CustomEvent} */ (event).detail.target.id !== "fields") return;
    typed.clear();
    controls().forEach((c) => typed.set(c.name, c.value));
  };
  const putBack = (/** @type {Event} */ event) => {
    if (/** @type {CustomEvent} */ (event).detail.target.id !== "fields") return;
    let newer = false;
    controls().forEach((c) => {
      const value = typed.get(c.name);
      if (value === undefined || value === c.value) return;
      if (c instanceof HTMLSelectElement && ![...c.options].some((o) => o.value === value)) return;
      c.value = value;
      newer = true;
    });
    if (newer) form.dispatchEvent(new Event("input", { bubbles: true }));
  };
  document.addEventListener("htmx:oobBeforeSwap", keep);
  document.addEventListener("htmx:oobAfterSwap", putBack);
  return () => {
    document.removeEventListener("htmx:oobBeforeSwap", keep);
    document.removeEventListener("htmx:oobAfterSwap", putBack);
  };
}
