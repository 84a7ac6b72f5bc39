// Compare: two to four linked plates, and the difference of each from the first.

import { roundedStops } from "./captions.js";
import { $ } from "./dom.js";
import { canFilter, keepWanted, wantsFiltered } from "./filtering.js";
import { inStops } from "./format.js";
import { followKeys, holdButton } from "./keys.js";
import { DIFFERENCE, OTHER, Picture, Plate, SINGLE, WIPE } from "./plate.js";
import { followPointer } from "./pointer.js";
import { ask } from "./post.js";
import { json } from "./watcher.js";

const main = document.querySelector(".side-by-side");
const lut = JSON.parse(main.dataset.lut);
const holders = [...document.querySelectorAll(".small-plate")];
const numbers = holders.map((holder) => Number(holder.dataset.proof));
let shown = "pictures";
let linking = false;

/** Synchronise the view of all plates. */
function link(from) {
  if (linking) return;
  linking = true;
  for (const { plate } of places) {
    if (plate === from || !plate.pictures[0]) continue;
    // The same part of the frame at the same size on the screen, however many pixels each has.
    const zoom = (from.zoom * from.frame[0]) / plate.frame[0];
    if (Math.abs(plate.zoom - zoom) < 1e-9 && plate.centre.every((c, k) => c === from.centre[k])) continue;
    Object.assign(plate, { zoom, centre: [...from.centre], fitted: from.fitted });
    plate.paint();
  }
  linking = false;
}

const places = holders.map((holder) => {
  const stage = holder.querySelector(".stage");
  const plate = new Plate(stage, holder.querySelector("canvas"), lut, () => link(plate));
  const bar = document.createElement("i"); // there is no wipe here
  followPointer(plate, stage, bar, { region: () => {}, click: () => {} });
  return { holder, plate, verdict: holder.querySelector(".verdict") };
});

// The wipe follows the pointer in all plates.
for (const { plate } of places)
  plate.stage.addEventListener("pointermove", (event) => {
    if (shown !== "wipe") return;
    const across = plate.toFrame(...plate.at(event))[0] / plate.frame[0];
    for (const place of places) {
      place.plate.wipe = Math.min(1, Math.max(0, across));
      place.plate.draw();
    }
  });

async function load(proof, address = null, pass = "beauty") {
  const answer = await fetch(address ?? `/pictures/${proof.picture}.half?pass=${pass}`);
  if (!answer.ok) return null;
  return new Picture({ ...proof, digest: address ? null : proof.picture, halves: new Uint16Array(await answer.arrayBuffer()), pass });
}

/** A proof's picture: filtered, if that is wanted and possible. What is judged is always the unfiltered one. */
async function pictureOf(proof) {
  const filtered = $("filter-drafts").checked && canFilter(proof) && (await ask(`/proofs/${proof.id}/filter`, {}).catch(() => null));
  return load(proof, null, filtered ? "filtered" : "beauty");
}

const proofs = await Promise.all(numbers.map((number) => json(`/proofs/${number}.json`)));
$("filter-drafts").checked = wantsFiltered();
let pictures = await Promise.all(proofs.map((proof) => load(proof)));
const visible = new Map(); // pictures of visible differences, by exposure and number

function setExposure(stops) {
  const exposure = roundedStops(stops);
  $("exposure").value = exposure;
  $("exposure-value").textContent = inStops(exposure);
  for (const { plate } of places) {
    plate.exposure = exposure;
    plate.draw();
  }
}

async function visibleOf(k) {
  const exposure = places[0].plate.exposure.toFixed(1), key = `${exposure}/${k}`;
  if (!visible.has(key)) visible.set(key, await load(proofs[k], `/pictures/${proofs[0].picture}/${proofs[k].picture}/visible.half?exposure=${exposure}`));
  return visible.get(key);
}

const MODES = { difference: DIFFERENCE, wipe: WIPE };

/** Show pictures, wipes or signed differences against A, or visible differences. */
async function show(what) {
  shown = what;
  for (const button of document.querySelectorAll("[data-show][aria-pressed]")) button.setAttribute("aria-pressed", String(button.dataset.show === what));
  await Promise.all(places.map(async ({ plate }, k) => {
    const map = what === "visible" && k > 0 ? await visibleOf(k) : null;
    if (shown !== what) return;
    plate.isLight = !map;
    plate.mode = k > 0 ? (MODES[what] ?? SINGLE) : SINGLE;
    plate.setPicture(0, map ?? pictures[k]);
    plate.setPicture(1, k > 0 ? pictures[0] : null);
  }));
}

function hold(on) {
  for (const [k, { plate }] of places.entries()) {
    if (k === 0) continue;
    plate.held = on;
    plate.draw();
  }
}

async function judge() {
  for (const [k, { verdict }] of places.entries()) {
    if (k === 0) continue;
    const answer = await fetch(`/pictures/${proofs[0].picture}/${proofs[k].picture}/difference.json?exposure=${places[0].plate.exposure.toFixed(1)}`);
    const difference = await answer.json().catch(() => null);
    verdict.textContent = difference?.verdict ?? "It covers other pixels than A.";
  }
}

let judging = null;
$("exposure").addEventListener("input", () => {
  setExposure(Number($("exposure").value));
  clearTimeout(judging);
  judging = setTimeout(() => (judge(), shown === "visible" && show("visible")), 400);
});
async function renew() {
  pictures = await Promise.all(proofs.map(pictureOf));
  await show(shown);
}
$("filter-drafts").addEventListener("change", () => {
  keepWanted($("filter-drafts").checked);
  $("filter-drafts").blur(); // the keys are the plates' again
  return renew();
});
$("add")?.addEventListener("change", () => {
  if ($("add").value) location.search = `?proofs=${[...numbers, $("add").value].join(",")}`;
});
for (const button of document.querySelectorAll("[data-show][aria-pressed]")) button.addEventListener("click", () => show(button.dataset.show));
holdButton(document.querySelector("[data-show=flip]"), hold);

const first = () => places[0].plate;
const gain = (by) => places.forEach(({ plate }) => ((plate.gain *= by), plate.draw()));
followKeys(
  {
    pictures: () => show("pictures"),
    wipe: () => show(shown === "wipe" ? "pictures" : "wipe"),
    difference: () => show(shown === "difference" ? "pictures" : "difference"),
    visible: () => show(shown === "visible" ? "pictures" : "visible"),
    numbers: () => document.querySelector("details.numbers").toggleAttribute("open"),
    darker: () => setExposure(first().exposure - 1 / 3),
    lighter: () => setExposure(first().exposure + 1 / 3),
    weaker: () => gain(0.5),
    stronger: () => gain(2),
    zoomIn: () => first().zoomTo(first().zoom * 1.5),
    zoomOut: () => first().zoomTo(first().zoom / 1.5),
    fit: () => first().fit(),
    pixels: () => first().zoomTo(devicePixelRatio || 1),
    back: () => (location.href = `/shots/${main.dataset.shot}?proof=${numbers[1]}&with=${numbers[0]}`),
  },
  { hold },
);

const tables = new Uint16Array(await (await fetch(`/views/${main.dataset.view}.lut`)).arrayBuffer());
// If all show the same region, it fills the plates.
const cropped = proofs.every((proof) => String(proof.window) === String(proofs[0].window) && proof.width === proofs[0].width);
for (const { plate } of places) plate.cropped = cropped;
for (const { plate } of places) plate.painter.setView(tables, main.dataset.view);
setExposure(Number($("exposure").value));
await show("pictures");
judge();
if ($("filter-drafts").checked) renew();

window.sivrel = { places, OTHER, show, shown: () => shown };
