// @ts-check
// STOP by mouse, and by Escape from anywhere. A plain script in the head: it listens before the page is drawn, and the
// button is a form that works even without it.
(() => {
  const stop = async () => {
    const button = document.getElementById("stop"), form = /** @type {HTMLFormElement | null} */ (button?.closest("form"));
    if (!button || !form) return;
    button.classList.add("pressed");
    let text = "STOP was sent to every connected axis.";
    try {
      const answer = await fetch(form.action, { method: "POST", body: new FormData(form), keepalive: true });
      const { unreached } = await answer.json();
      if (unreached.length) text = `STOP did not reach ${unreached.join(", ")}. Use the machine's emergency stop.`;
    } catch {
      text = "STOP did not get through. Use the machine's emergency stop; the drive stops by itself without contact.";
    }
    const place = document.getElementById("said");
    if (place) { place.className = "notice error"; place.textContent = text; }
    setTimeout(() => button.classList.remove("pressed"), 400);
  };
  document.addEventListener("keydown", (event) => { if (event.key === "Escape") stop(); }, { capture: true });
  document.addEventListener("pointerdown", (event) => { if (/** @type {Element} */ (event.target).closest("#stop")) stop(); }, { capture: true });
  document.addEventListener("submit", (event) => {
    const form = /** @type {Element} */ (event.target);
    if (!form.querySelector("#stop")) return;
    event.preventDefault();
    // A press of the mouse was taken at once, above; the keyboard arrives here only.
    if (!document.getElementById("stop")?.classList.contains("pressed")) stop();
  });
})();
