// @ts-check
import { post, say } from "./net.js";

/** STOP by mouse, and by Escape from anywhere. */
export function mountStop() {
  const button = document.getElementById("stop");
  if (!button) return;
  const stop = async () => {
    button.classList.add("pressed");
    try {
      const answer = await post(String(button.dataset.url), {});
      const { unreached } = await answer.json();
      say(unreached.length ? `STOP did not reach ${unreached.join(", ")}. Use the machine's emergency stop.` : "STOP was sent to every connected axis.");
    } catch {
      say("STOP did not get through. Use the machine's emergency stop; the drive stops by itself without contact.");
    } finally {
      setTimeout(() => button.classList.remove("pressed"), 400);
    }
  };
  button.addEventListener("pointerdown", stop);
  button.addEventListener("click", (event) => { if (event.detail === 0) stop(); });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape") stop(); }, { capture: true });
}
