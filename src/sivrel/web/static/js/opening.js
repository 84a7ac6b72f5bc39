// A scene that is being opened: how far it is, Cancel, and a question before a large one.

import { $ } from "./dom.js";
import { get, post } from "./post.js";

const reading = $("reading"), bar = reading.querySelector("progress"), said = reading.querySelector(".said");
const [yes, no] = reading.querySelectorAll("button");

/** Open a scene: shows how far it is, can be cancelled, and asks before a large one is opened. */
export async function opening(form) {
  let stopped = false, answered = (/** @type {boolean} */ _yes) => {};
  const show = (words, share) => {
    said.textContent = words;
    if (share === undefined) bar.removeAttribute("value");
    else bar.value = share;
  };
  form.classList.add("busy");
  reading.hidden = false;
  yes.hidden = true;
  bar.hidden = false;
  no.textContent = "Cancel";
  show("sending the files");
  no.onclick = () => {
    stopped = true;
    answered(false);
  };
  no.focus();
  let key;
  try {
    ({ key } = await post("/openings", new FormData(form)));
    for (;;) {
      if (stopped) break;
      const at = await get(`/openings/${key}.json`);
      show(at.what, at.share || undefined);
      if (at.done) {
        if (at.question) {
          show(at.question);
          bar.hidden = true;
          yes.hidden = false;
          yes.focus();
          stopped = !(await new Promise((/** @type {(yes: boolean) => void} */ on) => {
            answered = on;
            yes.onclick = () => on(true);
          }));
          if (stopped) break;
        }
        location.assign((await post(`/openings/${key}/open`)).page);
        return;
      }
      await new Promise((on) => setTimeout(on, 200));
    }
    if (key) await post(`/openings/${key}/cancel`);
    reading.hidden = true;
  } catch (error) {
    show(error.message);
    bar.hidden = true;
    no.textContent = "Close";
    no.onclick = () => (reading.hidden = true);
  } finally {
    form.classList.remove("busy");
  }
}
