// @ts-check
/** The start button opens only with the consent ticked. */
export function registerConsent() {
  document.addEventListener("alpine:init", () => {
    // @ts-ignore Alpine is a global of its own script
    window.Alpine.data("consent", () => ({
      closed: true,
      /** A box ticked before this script ran counts. */
      init() {
        // @ts-ignore $el is Alpine's
        this.closed = !this.$el.querySelector("input[name=consent]").checked;
      },
      /** @param {Event} event */
      toggle(event) {
        this.closed = !(/** @type {HTMLInputElement} */ (event.target).checked);
      },
    }));
  });
}
