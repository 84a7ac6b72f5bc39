// The bench: what is chosen, what is rendered, and the keys for all of it.

import { sayCaption, sayVerdict } from "./captions.js";
import { openLeaf, sayStatus } from "./common.js";
import { FinishPanel } from "./finish.js";
import { Hatching } from "./hatching.js";
import { followKeys } from "./keys.js";
import { showLedger } from "./ledger.js";
import { LightsPanel, ask } from "./lights.js";
import { Marks } from "./marks.js";
import { Plan } from "./plan.js";
import { hasPass, isLight, offerPasses } from "./passes.js";
import { DIFFERENCE, OTHER, Picture, Plate, SINGLE, WIPE } from "./plate.js";
import { RecipeForm } from "./recipe.js";
import { followPointer } from "./pointer.js";
import { Spots } from "./spots.js";
import { Watcher, json } from "./watcher.js";
import { WaysState } from "./ways.js";

const $ = (id) => document.getElementById(id);
const places = document.querySelector(".places");
const slug = places.dataset.shot;
const lut = JSON.parse(places.dataset.lut);
const chosen = { a: null, b: null }; // proofs as /proofs/N.json tells them
let cameraExposure = 0;
let exposureMoved = false;

const plate = new Plate($("stage"), $("canvas"), lut, sayPlate);
const recipe = new RecipeForm();
const lights = new LightsPanel(slug, recipe, () => chosen.a?.id);
const plan = new Plan($("plan"), slug, recipe, edited, (name) => {
  lights.opened = name;
  lights.show(true);
}, () => marks.inSpace());
const finish = new FinishPanel(slug, plate, { exposure: (stops) => setExposure(stops), picture: () => chosen.a?.picture, pass: () => $("pass").value });
const hatching = new Hatching(plate, () => chosen.a);
const marks = new Marks(plate);
const ways = new WaysState(slug, recipe);
const spots = new Spots(plate, slug, () => unproven(), (name) => openLight(name));

// ---- pictures -------------------------------------------------------------------------------------------------

async function load(proof) {
  const pass = proof.unfiltered ? "beauty" : $("pass").value;
  if (!hasPass(proof, pass)) return null;
  const answer = await fetch(`/pictures/${proof.picture}.half?pass=${pass}`);
  if (!answer.ok) return null;
  return new Picture({ ...proof, digest: proof.picture, halves: new Uint16Array(await answer.arrayBuffer()), pass });
}

async function show(slot, proof) {
  chosen[slot] = proof;
  if (slot === "a" && proof?.picture) {
    offerPasses($("pass"), proof.passes, filtering === proof.picture);
    plate.isLight = isLight($("pass").value);
  }
  const number = slot === "a" ? 0 : 1;
  if (slot === "a" && proof && !exposureMoved) setExposure(proof.exposure, false);
  if (slot === "a" && proof) cameraExposure = proof.exposure;
  if (!proof) plate.setPicture(number, null);
  else if (proof.picture) {
    const picture = await load(proof);
    if (chosen[slot]?.id === proof.id) plate.setPicture(number, picture);
  } else {
    plate.setPicture(number, new Picture({ ...proof, finished: false }));
    if (slot === "a") watcher.follow(proof);
  }
  mark();
  if (slot === "a") {
    sayLedger();
    recipe.sayMeters(proof?.meters);
    hatching.load();
    if (marks.on) marks.show(true, proof);
    lights.load();
  }
}

/** Put a proof on the plate; its parent is at hand for flipping, unless another was chosen. */
async function choose(id, other = undefined, proven = false) {
  const proof = await json(`/proofs/${id}.json`);
  const with_ = other === undefined ? proof.parent : other;
  watcher.stop();
  filtering = null;
  await Promise.all([show("a", proof), show("b", with_ ? await json(`/proofs/${with_}.json`) : null)]);
  if (recipe.field("parent").value !== String(id)) {
    await recipe.load(slug, id, proven);
    recipe.sayMeters(chosen.a?.meters);
  }
}

// ---- the noise filter ------------------------------------------------------------------------------------------

let filtering = null; // the picture that is looked at filtered, its unfiltered self beside it

async function toggleFilter() {
  const proof = chosen.a, told = $("filter-told");
  if (!proof?.picture) return;
  if (filtering === proof.picture) {
    filtering = null;
    $("pass").value = "beauty";
    told.textContent = "";
    plate.mode = SINGLE;
    await Promise.all([show("a", proof), show("b", proof.parent ? await json(`/proofs/${proof.parent}.json`) : null)]);
    return sayFilter();
  }
  told.textContent = "Filtering…";
  try {
    const answer = await ask(`/proofs/${proof.id}/filter`, {});
    if (chosen.a !== proof) return;
    filtering = proof.picture;
    offerPasses($("pass"), proof.passes, filtering === proof.picture);
    $("pass").value = "filtered";
    await Promise.all([show("a", proof), show("b", { ...proof, unfiltered: true })]);
    plate.mode = WIPE;
    plate.draw();
    const much = answer.smeared > 0.002;
    told.textContent = much
      ? `It smeared ${(answer.smeared * 100).toFixed(1)} % of the picture, where it took more than noise: look at the pass “smeared”, or take more samples.`
      : "It took nothing that noise does not explain. Left of the bar filtered, right of it not.";
  } catch (problem) {
    told.textContent = problem.message;
  }
  sayFilter();
}

function sayFilter() {
  document.querySelector("[data-do=filter]").setAttribute("aria-pressed", String(filtering !== null));
}

/** The ledger of the proof on the plate, its noise that of the region where one is drawn. */
async function sayLedger() {
  const proof = chosen.a, region = recipe.region();
  showLedger($("ledger"), proof, showSource);
  if (!region || !proof?.picture || !proof.passes?.includes("noise.within")) return;
  const answer = await fetch(`/proofs/${proof.id}/noise.json?region=${region.join(",")}`);
  const rows = answer.ok ? (await answer.json()).rows : [];
  if (rows.length && chosen.a === proof) showLedger($("ledger"), proof, showSource, rows);
}

function mark() {
  for (const card of document.querySelectorAll(".card")) {
    const is = card.dataset.proof === String(chosen.a?.id) ? "a" : card.dataset.proof === String(chosen.b?.id) ? "b" : null;
    if (is) card.dataset.chosen = is;
    else delete card.dataset.chosen;
    card.querySelector(".choose").toggleAttribute("aria-current", is === "a");
    if (is === "a") card.scrollIntoView({ block: "nearest" });
  }
  const query = new URLSearchParams();
  if (chosen.a) query.set("proof", chosen.a.id);
  if (chosen.b && !chosen.b.unfiltered) query.set("with", chosen.b.id);
  history.replaceState(null, "", `?${query}`);
  for (const [slot, letter] of [["a", "A"], ["b", "B"]]) sayCaption($(`caption-${slot}`), letter, chosen[slot], slot === "a" && filtering !== null);
  sayVerdict($("verdict"), chosen, plate.exposure);
}

// ---- a render on its way --------------------------------------------------------------------------------------

const watcher = new Watcher(plate, async (proof) => {
  await refreshLineage();
  if (proof.picture) await show("a", proof);
});

async function resume() {
  await watcher.resume(chosen.a.id);
  show("a", await json(`/proofs/${chosen.a.id}.json`));
}

// The other proof may still be rendering: it is shown when it is done.
setInterval(async () => {
  const b = chosen.b;
  if (!b || b.picture || b.state === "cancelled" || b.state === "failed") return;
  try {
    const now = await json(`/proofs/${b.id}.json`);
    if (!now.picture || chosen.b?.id !== b.id) return;
    await refreshLineage();
    await show("b", now);
  } catch {
    // the next second tries again
  }
}, 1000);

async function refreshLineage() {
  const query = new URLSearchParams({ proof: chosen.a?.id ?? "", with: chosen.b?.id ?? "" });
  const answer = await fetch(`/shots/${slug}/lineage?${query}`);
  if (answer.ok) $("lineage").innerHTML = await answer.text();
  mark();
}

document.body.addEventListener("sivrel:started", (event) => {
  document.querySelector("#stage .first")?.remove();
  $("problem").replaceChildren();
  choose(event.detail.proof, undefined, true);
});
document.body.addEventListener("htmx:responseError", () => {
  $("problem").innerHTML ||= '<p class="problem" role="alert">Sivrel could not take this; look at the terminal where it runs.</p>';
});
document.body.addEventListener("htmx:sendError", () => {
  $("problem").innerHTML = '<p class="problem" role="alert">Sivrel does not answer; start it again and prove once more. Nothing is lost.</p>';
});

// ---- looking --------------------------------------------------------------------------------------------------

function setExposure(stops, byHand = true) {
  plate.exposure = Math.min(8, Math.max(-8, Math.round(stops * 10) / 10));
  exposureMoved ||= byHand;
  $("exposure").value = plate.exposure;
  $("exposure-value").textContent = (plate.exposure > 0 ? "+" : plate.exposure < 0 ? "−" : "") + Math.abs(plate.exposure).toFixed(1);
  plate.draw();
}

function setMode(mode) {
  plate.mode = plate.mode === mode ? SINGLE : mode;
  plate.draw();
}

async function setView(name) {
  $("view").value = name;
  const answer = await fetch(`/views/${name}.lut`);
  plate.painter.setView(new Uint16Array(await answer.arrayBuffer()), name);
  plate.draw();
}

async function reload() {
  plate.isLight = isLight($("pass").value);
  for (const slot of ["a", "b"]) if (chosen[slot]?.picture) await show(slot, chosen[slot]);
}

function next(select) {
  select.selectedIndex = (select.selectedIndex + 1) % select.options.length;
  select.dispatchEvent(new Event("change"));
}

function sayPlate() {
  marks.draw();
  const both = plate.pictures[0] && plate.pictures[1];
  for (const [name, mode] of [["wipe", WIPE], ["difference", DIFFERENCE]]) {
    const button = document.querySelector(`[data-do=${name}]`);
    button.setAttribute("aria-pressed", String(Boolean(both) && plate.mode === mode));
    button.disabled = !both;
  }
  document.querySelector("[data-do=flip]").disabled = !both;
  document.querySelector("[data-do=region]").setAttribute("aria-pressed", String(pointer.regionMode));
  document.querySelector("[data-do=reach]").setAttribute("aria-pressed", String(spots.on));
  $("zoom").textContent = `${Math.round((plate.zoom / (devicePixelRatio || 1)) * 100)} %`;
  const [left, top, width, height] = plate.place().map((v) => v / (devicePixelRatio || 1));
  $("wipe-bar").hidden = !both || plate.mode !== WIPE || plate.held;
  $("wipe-bar").style.left = `${left + plate.wipe * width}px`;
  const region = recipe.region();
  $("region-box").hidden = !region;
  if (region) {
    const [x0, y0, x1, y1] = region, [w, h] = recipe.size();
    Object.assign($("region-box").style, {
      left: `${left + (x0 / w) * width}px`, top: `${top + (y0 / h) * height}px`,
      width: `${((x1 - x0) / w) * width}px`, height: `${((y1 - y0) / h) * height}px`,
    });
  }
  const values = plate.read();
  const words = (v) => v.map((c) => c.toPrecision(3)).join(" ");
  if (!values || !values[0]) $("probe").textContent = "";
  else {
    const [x, y] = plate.probe.map(Math.floor);
    const lum = 0.2126 * values[0][0] + 0.7152 * values[0][1] + 0.0722 * values[0][2];
    $("probe").textContent = `${x},${y}  A ${words(values[0])}  lum ${lum.toPrecision(3)}${values[1] ? `  B ${words(values[1])}` : ""}`;
  }
}

// ---- lights ----------------------------------------------------------------------------------------------------

const unproven = () => ({ proof: chosen.a?.id ?? "", edits: recipe.field("edits").value, camera: recipe.field("camera").value });

/** An edit of a light was made, in the panel or on the plan. */
function edited() {
  plan.renew();
}
recipe.onEdits = () => {
  lights.load();
  plan.renew();
};

function openLight(name) {
  lights.opened = name;
  lights.show(true);
}

const SOURCES = {
  "bounced light": ["indirect", "sampling.gi_rays"], gloss: ["gloss", "sampling.glossy_rays"], glass: ["glass", "sampling.glossy_rays"],
  "camera rays": ["beauty", "sampling.max"], "cross terms": ["beauty", "sampling.max"], measuring: ["samples", "sampling.max"],
};

/** A source of the ledger: its pass on the plate, and its settings beside it. */
function showSource(name) {
  const layer = name.replace(/^\/+|\/+$/g, "").replace(/[/.]/g, "_");
  const [pass, setting] = SOURCES[name] ?? [`light.${layer}`, null];
  if ([...$("pass").options].some((option) => option.value === pass)) {
    $("pass").value = pass;
    reload();
  }
  if (!setting) return openLight(name);
  openLeaf("recipe");
  recipe.field(setting).focus();
}

async function togglePlan() {
  const on = !plan.shown;
  document.querySelector("[data-do=plan]").setAttribute("aria-pressed", String(on));
  await plan.show(on, unproven);
}

async function toggleMarks() {
  document.querySelector("[data-do=marks]").setAttribute("aria-pressed", String(!marks.on));
  await marks.show(!marks.on, chosen.a);
  if (plan.shown) plan.draw();
}

// ---- hands ----------------------------------------------------------------------------------------------------

const pointer = followPointer(plate, $("stage"), $("wipe-bar"), {
  region: (box, last = false) => {
    recipe.setRegion(box, plate.frame);
    if (last) recipe.step();
    if (last) sayLedger();
    pointer.regionMode = false;
    plate.draw();
  },
  // A click that does not drag.
  click: (event) => spots.on && spots.ask(event),
});

function toggleRegion() {
  if (pointer.regionMode || recipe.region()) {
    pointer.regionMode = !pointer.regionMode && !recipe.region();
    if (!pointer.regionMode) {
      recipe.setRegion(null);
      recipe.step();
    }
  } else pointer.regionMode = true;
  $("stage").classList.toggle("region", pointer.regionMode);
  plate.draw();
}

const DO = {
  wipe: () => setMode(WIPE),
  difference: () => setMode(DIFFERENCE),
  region: toggleRegion,
  reach: () => spots.show(!spots.on),
  plan: togglePlan,
  marks: toggleMarks,
  filter: toggleFilter,
  fit: () => plate.fit(),
  cancel: () => watcher.cancel(),
  resume,
};
for (const [name, act] of Object.entries(DO)) document.querySelector(`[data-do=${name}]`).addEventListener("click", act);

function hold(on) {
  plate.held = on;
  plate.draw();
}
const flip = document.querySelector("[data-do=flip]");
flip.addEventListener("pointerdown", () => hold(true));
for (const end of ["pointerup", "pointerleave", "blur"]) flip.addEventListener(end, () => hold(false));
addEventListener("blur", () => hold(false));

$("lineage").addEventListener("click", (event) => {
  const card = event.target.closest(".card");
  if (!card) return;
  const id = Number(card.dataset.proof);
  if (event.target.closest(".with") || event.shiftKey) choose(chosen.a?.id ?? id, id);
  else choose(id);
});

function step(by) {
  const cards = [...document.querySelectorAll(".card")];
  const at = cards.findIndex((card) => card.dataset.proof === String(chosen.a?.id));
  const card = cards[Math.min(cards.length - 1, Math.max(0, at + by))];
  if (card) choose(Number(card.dataset.proof));
}

$("exposure").addEventListener("input", () => setExposure(Number($("exposure").value)));
$("view").addEventListener("change", () => setView($("view").value));
$("pass").addEventListener("change", reload);
for (const tab of document.querySelectorAll(".leaves [role=tab]")) tab.addEventListener("click", () => openLeaf(tab.id.replace("leaf-", "")));

const KEYS = {
  w: DO.wipe,
  d: DO.difference,
  r: toggleRegion,
  p: () => chosen.a?.parent && choose(chosen.a.id, chosen.a.parent),
  l: () => lights.show(!lights.shown),
  s: () => lights.press("solo"),
  x: () => lights.press("on"),
  q: () => spots.show(!spots.on),
  g: togglePlan,
  e: () => openLeaf($("finish").hidden ? "finish" : "recipe"),
  n: toggleFilter,
  m: () => finish.measure(),
  o: () => hatching.next(),
  c: toggleMarks,
  v: () => next($("view")),
  a: () => next($("pass")),
  "[": () => setExposure(plate.exposure - 1 / 3),
  "]": () => setExposure(plate.exposure + 1 / 3),
  "\\": () => setExposure(cameraExposure),
  ",": () => { plate.gain /= 2; plate.draw(); },
  ".": () => { plate.gain *= 2; plate.draw(); },
  "+": () => plate.zoomTo(plate.zoom * 1.5),
  "=": () => plate.zoomTo(plate.zoom * 1.5),
  "-": () => plate.zoomTo(plate.zoom / 1.5),
  0: () => plate.fit(),
  1: () => plate.zoomTo(devicePixelRatio || 1),
  ArrowUp: () => step(-1),
  ArrowDown: () => step(1),
  Enter: () => recipe.prove(),
  Escape: () => {
    if (spots.on) return spots.show(false);
    if (plan.shown) return togglePlan();
    if (watcher.following) return watcher.cancel();
    if (pointer.regionMode) return toggleRegion();
    plate.mode = SINGLE;
    plate.draw();
  },
};

followKeys(KEYS, { hold, undo: () => recipe.undo(), redo: () => recipe.redo() });

recipe.onChange = () => {
  plate.draw();
  ways.renew();
};
ways.renew();
setView($("view").value);
const first = document.querySelector(".card[data-chosen=a]");
if (first) choose(Number(first.dataset.proof), Number(document.querySelector(".card[data-chosen=b]")?.dataset.proof) || undefined);

// The browser tests read the plate through this.
window.sivrel = { plate, chosen, sayStatus, OTHER, recipe, lights, plan, finish, marks, ways };
