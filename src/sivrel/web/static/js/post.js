// Asking the server: to do something, or a question that its worker answers.

const token = () => document.querySelector("meta[name=csrf]").content;

async function sentence(answer) {
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  return page.querySelector(".problem")?.textContent.trim() || "Sivrel could not take this; look at the terminal where it runs.";
}

/** Post fields: what comes back as JSON or text, null where nothing does. Throws an Error with the server's sentence. */
export async function post(address, fields = {}) {
  const body = fields instanceof FormData ? fields : new URLSearchParams(fields);
  const answer = await fetch(address, { method: "POST", headers: { "X-CSRFToken": token(), "HX-Request": "true" }, body });
  if (!answer.ok) throw new Error(await sentence(answer));
  if (answer.status === 204) return null;
  return (answer.headers.get("Content-Type") ?? "").includes("json") ? answer.json() : answer.text();
}

/** Put a question whose answer may come in parts: `done(onPart)` waits for the whole of it, `stop()` calls it off. */
export const watch = (address, fields) => follow(post(address, fields));

/** The same of a question that is `asked`, or will be: a promise of its number. */
export function follow(asked) {
  asked.catch(() => {});
  let stopped = false;
  const done = async (onPart = (part) => {}) => {
    const { question } = await asked;
    for (;;) {
      await new Promise((on) => setTimeout(on, 60));
      if (stopped) throw new Error("Called off.");
      const answer = await fetch(`/questions/${question}.json`, { headers: { "HX-Request": "true" } });
      if (!answer.ok) throw new Error(await sentence(answer));
      const given = (await answer.json()).answer;
      if (given && given.done !== false) return given;
      if (given && !stopped) onPart(given);
    }
  };
  const stop = async () => {
    stopped = true;
    await post(`/questions/${(await asked).question}/call-off`);
  };
  return { done, stop };
}

/** Put a question and wait for its answer. Throws an Error with the server's sentence. */
export const ask = (address, fields) => watch(address, fields).done();
