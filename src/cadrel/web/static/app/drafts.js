// @ts-check
// What was typed and not saved: kept in this browser, per user, axis and step, until it is saved or discarded.

const PREFIX = "cadrel-draft-";

/** @typedef {{token: string, typed: Record<string, string>}} Draft */

/** @param {string} name @returns {Draft | null} */
export function draftOf(name) {
  try {
    return JSON.parse(localStorage.getItem(PREFIX + name) ?? "null");
  } catch {
    return null; // not ours, or damaged
  }
}

/** Keep a draft, or forget it if nothing is in it. @param {string} name @param {Draft | null} draft */
export function keepDraft(name, draft) {
  try {
    if (draft && Object.keys(draft.typed).length) localStorage.setItem(PREFIX + name, JSON.stringify(draft));
    else localStorage.removeItem(PREFIX + name);
  } catch {
    // storage is full or forbidden: the page still holds it
  }
  document.dispatchEvent(new CustomEvent("drafts:changed"));
}

/** Forget the draft of the form that was saved last, as this page says, whatever page it is. */
export function forgetSaved() {
  const saved = document.getElementById("route")?.dataset.saved;
  if (!saved) return;
  for (const key of Object.keys(localStorage))
    if (key.startsWith(PREFIX) && draftOf(key.slice(PREFIX.length))?.token === saved) localStorage.removeItem(key);
}

/** Marks in the route the steps that hold unsaved typing. @param {HTMLElement} route */
export function mount(route) {
  const mark = () => {
    for (const item of /** @type {NodeListOf<HTMLElement>} */ (route.querySelectorAll("[data-step]"))) {
      const held = Object.keys(draftOf(`${route.dataset.drafts}-${item.dataset.step}`)?.typed ?? {}).length;
      item.classList.toggle("typing", held > 0);
      const line = item.querySelector("a > span");
      if (line instanceof HTMLElement) {
        line.dataset.line ??= line.textContent ?? "";
        line.textContent = held ? `${held} not saved` : line.dataset.line;
      }
    }
  };
  forgetSaved();
  document.addEventListener("drafts:changed", mark);
  mark();
  return () => document.removeEventListener("drafts:changed", mark);
}
