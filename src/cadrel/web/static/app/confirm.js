// @ts-check
/** Ask before a form that loses something is sent. @param {HTMLElement} form */
export function mount(form) {
  const ask = (/** @type {Event} */ event) => {
    if (form.dataset.ask && !window.confirm(form.dataset.ask.replace(/\s+/g, " "))) event.preventDefault();
  };
  form.addEventListener("submit", ask);
  return () => form.removeEventListener("submit", ask);
}
