// @ts-check
// Loading a page anew, but never one that is being left: that would call off where its user goes, a form that was just
// sent included, and with it what the next page has to say.

/**
 * A page's own loading anew, which does nothing once the page is being left.
 * @param {Window} [view] @param {() => void} [load]
 * @returns {{ anew: () => void, undo: () => void }}
 */
export function loading(view = window, load = () => view.location.reload()) {
  let left = false;
  const leave = () => {
    left = true;
  };
  const back = () => {
    left = false;
  };
  view.addEventListener("beforeunload", leave);
  view.addEventListener("pageshow", back); // come back to as it was left
  return {
    anew: () => {
      if (!left) load();
    },
    undo: () => {
      view.removeEventListener("beforeunload", leave);
      view.removeEventListener("pageshow", back);
    },
  };
}
