// Ladder, budget, match and advice: request, show parts as they come, browse pictures, prove offers.

import { $ } from "./dom.js";
import { followKeys } from "./keys.js";
import { follow, post, watch } from "./post.js";

const main = document.querySelector(".tune-places"), form = $("asked"), proof = main.dataset.proof;
let tuning = main.dataset.tuning, going = null, at = null, held = false;

const say = (problem) => {
  $("problem").textContent = problem ?? "";
  $("problem").classList.toggle("problem", Boolean(problem));
};

// ---- the request ---------------------------------------------------------------------------------------------

const where = $("where"), region = form.elements.region;

/** The region's place on the small picture. */
function showRegion() {
  if (!where) return;
  const box = $("where-box"), numbers = region.value.split(",").map(Number);
  const known = region.value.trim() !== "" && numbers.length === 4 && numbers.every(Number.isFinite);
  box.hidden = !known;
  if (!known) return;
  const [x0, y0, x1, y1] = numbers, { width, height } = where.dataset;
  Object.assign(box.style, { left: `${(100 * x0) / width}%`, top: `${(100 * y0) / height}%`, width: `${(100 * (x1 - x0)) / width}%`, height: `${(100 * (y1 - y0)) / height}%` });
}

where?.addEventListener("pointerdown", (down) => {
  const frame = where.getBoundingClientRect(), { width, height } = where.dataset;
  const spot = (event) => [
    Math.min(Math.max((event.clientX - frame.left) / frame.width, 0), 1) * width,
    Math.min(Math.max((event.clientY - frame.top) / frame.height, 0), 1) * height,
  ];
  const from = spot(down);
  where.setPointerCapture(down.pointerId);
  const move = (event) => {
    const to = spot(event);
    const box = [Math.min(from[0], to[0]), Math.min(from[1], to[1]), Math.max(from[0], to[0]), Math.max(from[1], to[1])].map(Math.round);
    region.value = box[2] - box[0] < 8 || box[3] - box[1] < 8 ? "" : box.join(",");
    showRegion();
  };
  where.addEventListener("pointermove", move);
  where.addEventListener("pointerup", () => where.removeEventListener("pointermove", move), { once: true });
  down.preventDefault();
});
region?.addEventListener("input", showRegion);
showRegion();

form.elements.noise?.addEventListener("input", () => (form.elements.seconds.disabled = form.elements.noise.value.trim() !== ""));

// ---- the result -------------------------------------------------------------------------------------------

async function showPart() {
  if (!tuning) return;
  const answer = await fetch(`/tunings/${tuning}/part`, { headers: { "HX-Request": "true" } });
  if (!answer.ok) return;
  $("part").innerHTML = await answer.text();
  dress();
}

/** Lengths of bars, and the current picture: inline styles are blocked by the content policy. */
function dress() {
  for (const bar of document.querySelectorAll("[data-share]")) bar.style.width = `${Math.max(0, Math.min(1, Number(bar.dataset.share))) * 100}%`;
  const looks = [...document.querySelectorAll(".look")];
  if (!looks.length) return;
  if (at === null || at >= looks.length) {
    const best = looks.findIndex((one) => one.closest(".enough"));
    look(best >= 0 ? best : looks.length - 1, false);
  } else look(at, false);
}

function look(number, chosen = true) {
  const looks = [...document.querySelectorAll(".look")], viewer = $("viewer");
  if (!looks.length || !viewer) return;
  const place = (number + looks.length) % looks.length;
  if (chosen) at = place;
  for (const [k, one] of looks.entries()) one.setAttribute("aria-pressed", String(k === place));
  const against = viewer.dataset.held || looks[Math.min(place + 1, looks.length - 1)].dataset.picture;
  viewer.dataset.at = place;
  viewer.querySelector("img").src = held ? against : looks[place].dataset.picture;
  viewer.querySelector("img").alt = looks[place].dataset.says;
  viewer.querySelector("figcaption").textContent = held ? (viewer.dataset.held ? "brute force" : "the next one") : looks[place].dataset.says;
  // Only the strip scrolls sideways, not the page.
  const strip = looks[place].closest(".rungs"), line = looks[place].parentElement;
  strip.scrollLeft = Math.max(0, line.offsetLeft + line.offsetWidth - strip.offsetLeft - strip.clientWidth + 8);
}

async function start() {
  if (going) return;
  say();
  await listen(watch(form.action, new FormData(form)), true);
}

async function listen(mine, fresh) {
  going = mine;
  $("going").hidden = false;
  form.querySelector("button.ink").disabled = true;
  if (fresh) [at, tuning] = [null, ""];
  let shown = 0;
  try {
    const whole = await mine.done((part) => {
      $("share").value = part.share ?? 0;
      $("what").textContent = part.what ?? "";
      if (part.tuning) tuning = part.tuning;
      // Fetch a part when there is news, but not too often.
      if (Date.now() - shown > 700) {
        shown = Date.now();
        showPart();
      }
    });
    tuning = whole.tuning ?? tuning;
    if (fresh) history.replaceState(null, "", `${location.pathname}?made=${tuning}`);
  } catch (problem) {
    if (problem.message !== "Called off.") say(problem.message);
  }
  going = null;
  $("going").hidden = true;
  form.querySelector("button.ink").disabled = false;
  await showPart();
}

async function stop() {
  const mine = going;
  await mine?.stop();
  // The worker stores the result so far a moment later.
  setTimeout(showPart, 1200);
}

async function prove(offer) {
  say();
  try {
    const { bench } = await post(`/tunings/${tuning}/prove`, { offer });
    location.href = bench;
  } catch (problem) {
    say(problem.message);
  }
}

form.addEventListener("submit", (event) => {
  event.preventDefault();
  start();
});
document.addEventListener("click", (event) => {
  const take = event.target.closest(".take"), one = event.target.closest(".look");
  if (take) prove(take.dataset.offer);
  else if (one) look([...document.querySelectorAll(".look")].indexOf(one));
  else if (event.target.closest("[data-do=stop]")) stop();
});

const open = (name) => () => (location.href = `/proofs/${proof}/${name}`);
followKeys(
  {
    start,
    leave: () => (going ? stop() : (location.href = $("to-bench").href)),
    later: () => look(Number($("viewer")?.dataset.at ?? 0) + 1),
    earlier: () => look(Number($("viewer")?.dataset.at ?? 0) - 1),
    take: () => document.querySelector(".take.ink")?.click(),
    ladder: open("ladder"), budget: open("budget"), advice: open("advice"),
    // If the facts do not decide, offer the match that would.
    match: () => (location.href = document.querySelector(".ink-link")?.href ?? `/proofs/${proof}/match`),
  },
  {
    hold: (on) => {
      held = on;
      look(Number($("viewer")?.dataset.at ?? 0), false);
    },
  },
);
dress();
// Follow one that started before this page was opened.
if (main.dataset.question) listen(follow(Promise.resolve({ question: main.dataset.question })), false);
