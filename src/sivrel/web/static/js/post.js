// Requests to the server, and requests that its worker answers later.

/** Milliseconds until an answer is asked for again: at first, and at most, while nothing changes. */
const SOON = 60, LATE = 400;

const token = () => document.querySelector("meta[name=csrf]").content;

async function sentence(answer) {
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  return page.querySelector(".problem")?.textContent.trim() || "Sivrel could not do this; see the terminal where it runs.";
}

/** Post fields: returns JSON or text, or null. Throws an Error with the server's sentence. */
export async function post(address, fields = {}) {
  const body = fields instanceof FormData ? fields : new URLSearchParams(fields);
  const answer = await fetch(address, { method: "POST", headers: { "X-CSRFToken": token(), "HX-Request": "true" }, body });
  if (!answer.ok) throw new Error(await sentence(answer));
  if (answer.status === 204) return null;
  return (answer.headers.get("Content-Type") ?? "").includes("json") ? answer.json() : answer.text();
}

/** Ask for JSON. Throws an Error with the server's sentence. */
export async function get(address) {
  const answer = await fetch(address, { headers: { "HX-Request": "true" } });
  if (!answer.ok) throw new Error(await sentence(answer));
  return answer.json();
}

/** Send a request whose answer may come in parts: `done(onPart)` waits for all of it, `stop()` cancels it. */
export const watch = (address, fields) => follow(post(address, fields));

/** The same for a request that was already sent: a promise of its number. */
export function follow(asked) {
  asked.catch(() => {});
  let stopped = false;
  const done = async (onPart = (part) => {}) => {
    const { question } = await asked;
    let rest = SOON, before = "";
    for (;;) {
      await new Promise((on) => setTimeout(on, rest));
      if (stopped) throw new Error("Cancelled.");
      const given = (await get(`/questions/${question}.json`)).answer;
      if (given && given.done !== false) return given;
      // Asking, and drawing what has not changed, takes processor time from the work itself.
      const said = JSON.stringify(given), same = said === before;
      before = said;
      rest = same ? Math.min(LATE, rest * 1.3) : SOON;
      if (given && !same && !stopped) onPart(given);
    }
  };
  const stop = async () => {
    stopped = true;
    await post(`/questions/${(await asked).question}/call-off`);
  };
  return { done, stop };
}

/** Send a request and wait for its answer. Throws an Error with the server's sentence. */
export const ask = (address, fields) => watch(address, fields).done();
