// @ts-check
// Room for the picture: route and shelf fold, or the plots take the whole window. Kept while the tab is open.

const KEY = "cadrel-fold";
const FOLDS = /** @type {Record<string, string>} */ ({ r: "roomy", f: "picture" });

/** Fold, or unfold if it is folded so already. @param {string} fold */
export function toggle(fold) {
  const now = document.body.classList.contains(fold) ? "" : fold;
  sessionStorage.setItem(KEY, now);
  apply(now);
}

/** @param {string} fold */
function apply(fold) {
  for (const one of Object.values(FOLDS)) document.body.classList.toggle(one, one === fold);
  document.dispatchEvent(new CustomEvent("folds:changed"));
}

/** Keys and buttons of folding. @param {HTMLElement} box */
export function mount(box) {
  apply(sessionStorage.getItem(KEY) ?? "");
  const press = (/** @type {KeyboardEvent} */ event) => {
    const typing = /^(INPUT|SELECT|TEXTAREA)$/.test(/** @type {HTMLElement} */ (event.target).tagName);
    if (typing || event.ctrlKey || event.altKey || event.metaKey || !FOLDS[event.key]) return;
    event.preventDefault();
    toggle(FOLDS[event.key]);
  };
  document.addEventListener("keydown", press);
  for (const button of /** @type {NodeListOf<HTMLElement>} */ (box.querySelectorAll("[data-fold]")))
    button.addEventListener("click", () => toggle(String(button.dataset.fold)));
  return () => document.removeEventListener("keydown", press);
}
