// The queue: a sheet over the bench, renewed while it is open.

import { post } from "./post.js";

const sheet = document.getElementById("queue-sheet");
const holder = sheet.querySelector(".part");

let last = "", next = 0;

async function renew() {
  if (!sheet.open) return;
  const answer = await fetch("/queue").catch(() => null);
  const text = answer?.ok ? await answer.text() : null;
  // A button that has the focus keeps it.
  if (text !== null && text !== last) {
    const at = [...holder.querySelectorAll("button, a")].indexOf(document.activeElement);
    holder.innerHTML = last = text;
    if (at >= 0) holder.querySelectorAll("button, a")[at]?.focus();
  }
  clearTimeout(next);
  next = setTimeout(renew, 1000);
}

export function openQueue() {
  sheet.showModal();
  renew();
}

holder.addEventListener("click", async (event) => {
  const button = event.target.closest("button");
  if (!button) return;
  const id = button.closest("[data-proof]")?.dataset.proof;
  if (button.dataset.queue) await post(`/proofs/${id}/queue?${button.dataset.queue}`);
  else await post(`/queue/hold${button.dataset.queueAll ? `?${button.dataset.queueAll}` : ""}`);
  renew();
});
