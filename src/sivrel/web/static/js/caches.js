// The caches page: the worker, which has the scenes in memory, checks whether each cache is valid.

import { ask } from "./post.js";

/** The state of a cache in words. */
function inWords({ fresh, because, others }) {
  if (!fresh) return `stale: ${because} changed`;
  const not = { settings: "other settings", camera: "another camera", limits: "other limits" };
  const words = others.map((name) => not[name] ?? name);
  return words.length ? `fresh, for ${words.join(" and ")} than the newest proof's` : "fresh";
}

const slugs = new Set([...document.querySelectorAll("tr[data-shot]")].map((row) => row.dataset.shot));
for (const slug of slugs) {
  const rows = [...document.querySelectorAll(`tr[data-shot="${slug}"]`)];
  try {
    const { caches } = await ask(`/shots/${slug}/caches`, {});
    for (const row of rows) {
      const state = caches[row.dataset.digest], cell = row.querySelector(".state");
      if (!state) {
        if (cell.textContent === "looking…") cell.textContent = "–";
        continue;
      }
      cell.textContent = inWords(state);
      cell.classList.toggle("stale", !state.fresh);
    }
  } catch (problem) {
    for (const row of rows) row.querySelector(".state").textContent = problem.message;
  }
}
