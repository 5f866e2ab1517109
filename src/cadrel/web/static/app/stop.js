// @ts-check
// STOP by mouse, and by Escape from anywhere. A plain script in the head: it listens before the page is drawn, and the
// button is a form that works even without it. A press goes two ways at once, to the live process and to the web
// process; the drives count it once.
(() => {
  const LONGEST = 2500; // [ms] until a way counts as dead

  /** @param {string} url @param {string} press */
  const send = async (url, press) => {
    const body = new URLSearchParams({ press }),
      signal = AbortSignal.timeout(LONGEST);
    const answer = await fetch(url, { method: "POST", body, credentials: "include", keepalive: true, signal });
    if (!answer.ok) throw new Error(String(answer.status));
    return answer.json();
  };

  const stop = async () => {
    const button = document.getElementById("stop");
    const form = /** @type {HTMLFormElement | null} */ (button?.closest("form"));
    if (!button || !form) return;
    button.classList.add("pressed");
    const press = `${Date.now().toString(36)}-${Math.random().toString(36).slice(2)}`;
    let text = "STOP was sent to every connected axis.";
    try {
      const { told, unreached } = await Promise.any([send(form.action, press), send(String(form.dataset.also), press)]);
      if (unreached.length) text = `STOP did not reach ${unreached.join(", ")}. Use the machine's emergency stop.`;
      else if (!told.length) text = "STOP: no axis is connected.";
    } catch {
      text = "STOP did not get through. Use the machine's emergency stop; without contact the drive stops by itself.";
    }
    const place = document.getElementById("said");
    if (place) {
      place.className = "notice error";
      place.textContent = text;
    }
    setTimeout(() => button.classList.remove("pressed"), 400);
  };
  document.addEventListener(
    "keydown",
    (event) => {
      if (event.key === "Escape") stop();
    },
    { capture: true },
  );
  document.addEventListener(
    "pointerdown",
    (event) => {
      if (/** @type {Element} */ (event.target).closest("#stop")) stop();
    },
    { capture: true },
  );
  document.addEventListener("submit", (event) => {
    const form = /** @type {Element} */ (event.target);
    if (!form.querySelector("#stop")) return;
    event.preventDefault();
    // A press of the mouse was taken at once, above; the keyboard arrives here only.
    if (!document.getElementById("stop")?.classList.contains("pressed")) stop();
  });
})();
