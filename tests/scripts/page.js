// A page to try scripts in: jsdom's window as the globals a browser would give, and answers to what is posted.
import { JSDOM } from "jsdom";

/**
 * @param {string} body markup of the page
 * @param {(url: string, values: Record<string, string>) => Promise<{status?: number, body?: any}>} answer
 */
export function page(body, answer = async () => ({})) {
  const dom = new JSDOM(`<meta name="csrf" content="a-token"><div id="said"></div>${body}`, {
    url: "http://here/axis/1/",
  });
  const { window } = dom;
  const posted = [],
    calledOff = [];
  for (const name of [
    "document",
    "HTMLElement",
    "HTMLSelectElement",
    "HTMLDetailsElement",
    "Event",
    "CustomEvent",
    "KeyboardEvent",
    "sessionStorage",
  ])
    globalThis[name] = window[name];
  globalThis.window = window;
  globalThis.location = window.location;
  globalThis.fetch = async (url, options) => {
    const values = Object.fromEntries(options.body);
    posted.push({ url, ...values });
    const aborted = new Promise((_, fail) =>
      options.signal?.addEventListener("abort", () => {
        calledOff.push(values);
        fail(new DOMException("called off", "AbortError"));
      }),
    );
    aborted.catch(() => {}); // after the answer nobody waits for it any more
    const { status = 204, body } = await Promise.race([answer(url, values), aborted]);
    return { ok: status < 400, status, json: async () => body };
  };
  window.HTMLElement.prototype.setPointerCapture = () => {};
  return { window, document: window.document, posted, calledOff };
}

/** Let what was begun go on. @param {number} [ms] */
export const after = (ms = 0) => new Promise((done) => setTimeout(done, ms));
