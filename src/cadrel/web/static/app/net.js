// @ts-check
/**
 * POST form values with the page's token.
 * @param {string} url @param {Record<string, string>} values @param {RequestInit} [more]
 */
export function post(url, values, more = {}) {
  const token = String(document.querySelector("meta[name=csrf]")?.getAttribute("content"));
  return fetch(url, {
    method: "POST",
    headers: { "X-CSRFToken": token },
    body: new URLSearchParams(values),
    keepalive: true,
    ...more,
  });
}

/** Say something aloud, at the top of the sheet. @param {string} text */
export function say(text) {
  const place = document.getElementById("said");
  if (!place) return;
  place.className = text ? "notice error" : "";
  place.textContent = text;
}
