// @ts-check
import { draftOf, forgetSaved, keepDraft } from "./drafts.js";
import { token } from "./tab.js";

/** @typedef {HTMLInputElement | HTMLSelectElement} Control */

/**
 * An entry form that loses nothing: what is typed is kept in the browser until it is saved, and put back after the
 * form was drawn anew, because other choices ask for other fields or because the page was left.
 * @param {HTMLFormElement} form
 */
export function mount(form) {
  const name = String(form.dataset.draft);
  const hidden = /** @type {HTMLInputElement | null} */ (form.querySelector("[name=draft]"));
  const count = /** @type {HTMLElement | null} */ (form.querySelector("[data-unsaved]"));
  const discard = /** @type {HTMLElement | null} */ (form.querySelector("[data-discard]"));
  forgetSaved();
  const draft = draftOf(name);
  const typed = new Map(Object.entries(draft?.typed ?? {}));
  let mine = draft?.token ?? token();
  if (hidden) hidden.value = mine;
  const controls = () =>
    /** @type {NodeListOf<Control>} */ (form.querySelectorAll("#fields input:not([type=hidden]), #fields select"));
  const kept = new Map(); // what the page came with
  const note = () => controls().forEach((c) => kept.has(c.name) || kept.set(c.name, c.value));

  const show = () => {
    const held = typed.size;
    if (count) {
      count.hidden = !held;
      count.textContent = held === 1 ? "1 value is not saved" : `${held} values are not saved`;
    }
    if (discard) discard.hidden = !held;
    keepDraft(name, { token: mine, typed: Object.fromEntries(typed) });
  };
  /** @returns {boolean} whether anything was put back */
  const putBack = () => {
    let newer = false;
    controls().forEach((c) => {
      const value = typed.get(c.name);
      if (value === undefined || value === c.value) return;
      if (c instanceof HTMLSelectElement && ![...c.options].some((o) => o.value === value)) return;
      c.value = value;
      newer = true;
    });
    return newer;
  };
  const redraw = () => {
    /** @type {any} */ (window).htmx?.process(form); // it may not listen yet: it begins once the page is read
    form.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const change = (/** @type {Event} */ event) => {
    const control = /** @type {Control} */ (event.target);
    if (!control.name || control.type === "hidden") return; // the form itself has no name
    // Typed back to what was there, it is no change; a refused form has nothing it could go back to.
    if (kept.get(control.name) === control.value && form.dataset.typed !== "1") typed.delete(control.name);
    else typed.set(control.name, control.value);
    show();
  };
  let focused = "";
  const before = (/** @type {Event} */ event) => {
    if (/** @type {CustomEvent} */ (event).detail.target?.id === "fields") focused = document.activeElement?.id ?? "";
  };
  const swapped = (/** @type {Event} */ event) => {
    const target = /** @type {CustomEvent} */ (event).detail.target;
    if (target?.id === "fields") {
      note();
      if (focused) document.getElementById(focused)?.focus(); // whoever types goes on where they were
      if (putBack()) redraw();
    } else if (target?.id?.startsWith("note-")) {
      const field = document.getElementById(target.id.slice("note-".length));
      const wrong = document.getElementById(target.id)?.classList.contains("problem");
      if (wrong) field?.setAttribute("aria-invalid", "true");
      else field?.removeAttribute("aria-invalid");
    }
  };
  const keys = (/** @type {KeyboardEvent} */ event) => {
    if (event.key === "F1") {
      const help = /** @type {Element} */ (event.target).closest(".field")?.querySelector("details.help");
      if (!(help instanceof HTMLDetailsElement)) return;
      event.preventDefault();
      help.open = !help.open;
    }
    const control = /** @type {Control} */ (event.target);
    if (event.key === "Enter" && !event.ctrlKey && control.name && control.type !== "submit") {
      event.preventDefault();
      following(control)?.focus();
    }
    if (event.key === "Enter" && event.ctrlKey) {
      event.preventDefault();
      const button = form.querySelector("[value=next]") ?? form.querySelector("[name=save]");
      form.requestSubmit(/** @type {HTMLButtonElement} */ (button));
    }
  };
  /** The next value, past unit and convention; after the last one, Save. @param {Control} control */
  const following = (control) => {
    const values = [...controls()].filter((c) => !/\.(unit|convention)$/.test(c.name));
    const own = control.name.replace(/\.(unit|convention)$/, "");
    const at = values.findIndex((c) => c.name === own);
    return values[at + 1] ?? /** @type {HTMLElement | null} */ (form.querySelector("[name=save]"));
  };
  // What the page came with, and what was typed into it before this script was there, is newer than what was kept.
  const asDrawn = (/** @type {Control} */ c) =>
    c instanceof HTMLSelectElement
      ? (([...c.options].find((o) => o.defaultSelected) ?? c.options[0])?.value ?? "")
      : c.defaultValue;
  let early = false;
  controls().forEach((c) => {
    kept.set(c.name, asDrawn(c));
    if (c.value !== asDrawn(c)) {
      typed.set(c.name, c.value);
      early = true; // the page was not asked about it yet
    } else if (form.dataset.typed === "1" && typed.has(c.name)) typed.set(c.name, c.value);
  });
  if (putBack() || early) redraw();
  show();
  form.addEventListener("input", change);
  form.addEventListener("change", change);
  form.addEventListener("keydown", keys);
  // What is typed into this page after it was sent, the browser having gone back to it, is another draft.
  form.addEventListener("submit", () =>
    setTimeout(() => {
      mine = token();
      if (hidden) hidden.value = mine;
    }),
  );
  discard?.addEventListener("click", () => {
    typed.clear();
    show();
    location.assign(location.pathname.replace(/save\/$/, ""));
  });
  document.addEventListener("htmx:oobBeforeSwap", before);
  document.addEventListener("htmx:oobAfterSwap", swapped);
  return () => {
    document.removeEventListener("htmx:oobBeforeSwap", before);
    document.removeEventListener("htmx:oobAfterSwap", swapped);
  };
}
