// @ts-check
// This tab's name: it stays while pages change within it. The drive is told which tab enabled an axis, and lets go when
// that tab is gone.

const KEY = "cadrel-tab";

/** @returns {string} */
export function tab() {
  let name = sessionStorage.getItem(KEY);
  if (!name) {
    name = token();
    sessionStorage.setItem(KEY, name);
  }
  return name;
}

/** A name nobody else has. @returns {string} */
export function token() {
  return Array.from(crypto.getRandomValues(new Uint8Array(8)), (b) => b.toString(16).padStart(2, "0")).join("");
}

/**
 * An event stream of the live process, under this tab's name.
 * @param {string} url @returns {EventSource}
 */
export function stream(url) {
  const source = new EventSource(`${url}?tab=${tab()}`, { withCredentials: true });
  source.addEventListener("ended", () => {
    source.close();
    location.reload();
  }); // logged out: the page says so
  return source;
}
