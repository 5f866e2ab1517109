// @ts-check
/** Show all rows, or only those that differ. @param {HTMLElement} root */
export function mount(root) {
  const box = /** @type {HTMLInputElement | null} */ (root.querySelector("#only-differences"));
  const apply = () => root.classList.toggle("show-all", !box?.checked);
  box?.addEventListener("change", apply);
  apply();
  return () => box?.removeEventListener("change", apply);
}
