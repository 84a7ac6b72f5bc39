// The bench: what is chosen, what is rendered, and the keys for all of it.

import { About } from "./about.js";
import { CameraMover } from "./cameras.js";
import { sayCaption, sayVerdict } from "./captions.js";
import { openLeaf, sayStatus } from "./common.js";
import { $, scrollWithin } from "./dom.js";
import { NoiseFilter } from "./filtering.js";
import { Findings } from "./findings.js";
import { FinishPanel } from "./finish.js";
import { foundOnBench } from "./found.js";
import { Guide } from "./guide.js";
import { Hatching } from "./hatching.js";
import { followKeys, holdButton } from "./keys.js";
import { sayLedger } from "./ledger.js";
import { LightsPanel } from "./lights.js";
import { Lineage } from "./lineage.js";
import { Looking } from "./looking.js";
import { Marks } from "./marks.js";
import { Moments } from "./moments.js";
import { NextStep } from "./next.js";
import { Outlines } from "./outlines.js";
import { hasPass, isLight, offerPasses } from "./passes.js";
import { Panels, followCards } from "./panels.js";
import { Pins } from "./pins.js";
import { Placing } from "./placing.js";
import { Plan } from "./plan.js";
import { Palette } from "./palette.js";
import { OTHER, Picture, Plate, SINGLE } from "./plate.js";
import { sayPlate } from "./plate-words.js";
import { followPointer } from "./pointer.js";
import { post } from "./post.js";
import { openQueue } from "./queue.js";
import { RecipeForm } from "./recipe.js";
import { followRecipes } from "./recipes.js";
import { followScrubs } from "./scrub.js";
import { say } from "./say.js";
import { enlarge, fitToPlate, rescale } from "./sizes.js";
import { Spots } from "./spots.js";
import { Watcher, json } from "./watcher.js";
import { WaysState } from "./ways.js";

const places = document.querySelector(".places");
const slug = places.dataset.shot;
const outside = places.dataset.outside !== undefined; // pictures from elsewhere have no scene: what needs one is not there
const chosen = { a: null, b: null }; // proofs as in /proofs/N.json
const parentOf = async (proof) => (proof?.parent ? json(`/proofs/${proof.parent}.json`).catch(() => null) : null);

const plate = new Plate($("stage"), $("canvas"), JSON.parse(places.dataset.lut), () => {
  marks.draw();
  outlines.draw();
  pins.draw();
  sayPlate(plate, recipe, { boxing: pointer.boxing, reach: spots.on, pin: pins.on, walk: mover.on, live: moments.on });
});
const looking = new Looking(plate);
const recipe = new RecipeForm();
const lights = new LightsPanel(slug, recipe, () => chosen.a?.id);
const plan = new Plan($("plan"), slug, recipe, () => edited(), (name) => openLight(name), () => marks.inSpace(), () => findings.paths());
const finish = new FinishPanel(slug, plate, { exposure: (stops) => looking.expose(stops), picture: () => chosen.a?.picture, pass: () => $("pass").value });
const hatching = new Hatching(plate, () => chosen.a);
const marks = new Marks(plate);
const outlines = new Outlines(plate, $("outlines"));
const ways = new WaysState(slug, recipe);
const unproven = () => ({ proof: chosen.a?.id ?? "", edits: recipe.field("edits").value, camera: recipe.field("camera").value });
const spots = new Spots(plate, slug, unproven, (name) => openLight(name));
const placing = new Placing(plate, slug, unproven);
lights.place = (kind, put) => placing.start(kind, put);
const pins = new Pins(plate, slug, () => chosen.a, (id) => choose(id));
const moments = new Moments(plate, slug, recipe, () => show("a", chosen.a));
const mover = new CameraMover(slug, recipe, () => moments.wish(true));
const filter = new NoiseFilter(plate, chosen, { show: (slot, proof) => show(slot, proof), parent: parentOf, again: () => show("a", chosen.a) });
const lineage = new Lineage(slug, () => chosen.a?.id, (id, beside) => (beside ? choose(chosen.a?.id ?? id, id) : choose(id)));
const findings = new Findings(outlines, () => chosen.a, async (id) => (await lineage.renew(), choose(id, undefined, true)), (id) => choose(id));
findings.filtered = () => filter.picture !== null;
findings.turned = () => (next.renew(), plan.shown && plan.drawing && plan.draw());
const panels = new Panels(places);
const next = new NextStep(() => ({
  proof: chosen.a, running: watcher.following || moments.shown, changes: recipe.changed().length + recipe.changedEdits().length,
  forecast: $("forecast")?.textContent ?? "", stale: ways.stale(), diagnosed: Boolean(findings.about) && findings.of === chosen.a?.id,
  diagnosing: Boolean(findings.going), findings: findings.list, outside, retests: findings.of === chosen.a?.id ? findings.retests : [],
}), {
  prove: () => recipe.prove(), resume: () => resume(), findings: () => findings.press(), finish: () => openLeaf("finish"),
  remedy: ({ finding, number, region }) => findings.proveRemedy(finding, number, region),
  whole: () => (recipe.setRegion(null), recipe.step(), recipe.prove()), double: () => rescale(recipe, 2),
});
const guide = outside ? null : new Guide(() => ({ proof: chosen.a?.id, picture: Boolean(chosen.a?.picture), compared: looking.compared, diagnosed: Boolean(findings.about) && findings.of === chosen.a?.id }));
new About(() => chosen.a?.id);
followRecipes(recipe, () => chosen.a?.id);
followCards($("lineage"), $("card-more"));

// ---- pictures -------------------------------------------------------------------------------------------------

async function load(proof) {
  let pass = proof.unfiltered ? "beauty" : $("pass").value;
  if (pass === "filtered" && !(await filter.made(proof))) pass = "beauty";
  if (!hasPass(proof, pass)) return null;
  const answer = await fetch(`/pictures/${proof.picture}.half?pass=${pass}`);
  if (!answer.ok) return null;
  return new Picture({ ...proof, digest: proof.picture, halves: new Uint16Array(await answer.arrayBuffer()), pass });
}

async function show(slot, proof) {
  chosen[slot] = proof;
  if (slot === "a" && proof?.picture) {
    offerPasses($("pass"), proof.passes, filter.picture === proof.picture);
    plate.isLight = isLight($("pass").value);
  }
  const number = slot === "a" ? 0 : 1;
  if (slot === "a" && proof) looking.follow(proof.exposure);
  if (!proof) plate.setPicture(number, null);
  else if (proof.picture) {
    const picture = await load(proof);
    if (chosen[slot]?.id === proof.id && !(slot === "a" && moments.shown)) plate.setPicture(number, picture);
  } else {
    if (slot === "a") watcher.follow(proof);
    else plate.setPicture(number, new Picture({ ...proof, finished: false }));
  }
  mark();
  if (slot === "a") {
    sayLedger($("ledger"), chosen, recipe.region(), showSource);
    recipe.sayMeters(proof?.meters);
    finish.offer(proof);
    hatching.load();
    if (marks.on) marks.show(true, proof);
    if (!outside) lights.load();
    pins.list();
    findings.load();
    filter.draft(proof);
  }
}

/** Put a proof on the plate, with its parent for flipping unless another was chosen. */
async function choose(id, other = undefined, proven = false) {
  await moments.stop(false);
  if (mover.on) await toggleWalk();
  const proof = await json(`/proofs/${id}.json`);
  watcher.stop();
  filter.picture = null;
  if ($("pass").value === "filtered") $("pass").value = "beauty";
  if (filter.kept.has(proof.picture)) await filter.before(proof);
  // An enlarged region is shown as a whole.
  plate.cropped = Boolean(proof.window && proof.width > 2 * plate.canvas.width);
  await Promise.all([show("a", proof), show("b", other === undefined ? await parentOf(proof) : other ? await json(`/proofs/${other}.json`) : null)]);
  if (recipe.field("parent").value !== String(id)) {
    await recipe.load(slug, id, proven);
    recipe.sayMeters(chosen.a?.meters);
  }
}

function mark() {
  for (const card of document.querySelectorAll(".card")) {
    const is = card.dataset.proof === String(chosen.a?.id) ? "a" : card.dataset.proof === String(chosen.b?.id) ? "b" : null;
    if (is) card.dataset.chosen = is;
    else delete card.dataset.chosen;
    if (is === "a") card.querySelector(".choose").setAttribute("aria-current", "true");
    else card.querySelector(".choose").removeAttribute("aria-current");
    if (is === "a") scrollWithin(panels.state.arrange === "foot" ? $("lineage") : document.querySelector(".lineage"), card);
  }
  const query = new URLSearchParams();
  if (chosen.a) query.set("proof", chosen.a.id);
  if (chosen.b && !chosen.b.unfiltered) query.set("with", chosen.b.id);
  history.replaceState(null, "", `?${query}`);
  $("to-survey").search = chosen.a ? new URLSearchParams({ proof: chosen.a.id }) : "";
  const tuned = chosen.a?.picture && !outside;
  $("to-tune").hidden = !tuned;
  if (tuned) $("to-tune").href = `/proofs/${chosen.a.id}/ladder`;
  const notes = $("caption-a").querySelectorAll("#marks-note, #hatch-note");
  for (const [slot, letter] of [["a", "A"], ["b", "B"]]) sayCaption($(`caption-${slot}`), letter, chosen[slot], slot === "a" && (filter.picture !== null || filter.live(chosen.a)));
  $("caption-a").append(...notes);
  sayVerdict($("verdict"), chosen, plate.exposure);
}
lineage.onRenewed = mark;

// ---- a running render --------------------------------------------------------------------------------------

const watcher = new Watcher(plate, async (proof) => {
  await lineage.renew();
  if (proof.picture) {
    filter.ended(proof);
    // Compared like with like.
    if ((await filter.before(proof)) && chosen.b) await show("b", chosen.b);
    await show("a", proof);
  }
  ways.renewWhole();
  pins.load();
}, (proof) => filter.live(proof));

async function resume() {
  await watcher.resume(chosen.a.id);
  show("a", await json(`/proofs/${chosen.a.id}.json`));
}

// Other proofs may still render: their cards, and the other proof on the plate, are updated when the queue moves on.
let queued = "";
document.addEventListener("sivrel:status", async ({ detail }) => {
  const now = `${detail.rendering} ${detail.waiting} ${detail.ended}`, before = queued;
  queued = now;
  if (now === before || !document.querySelector(".card[data-state=waiting], .card[data-state=rendering]")) return;
  await lineage.renew();
  const b = chosen.b;
  if (!b || b.picture || b.unfiltered) return;
  const other = await json(`/proofs/${b.id}.json`);
  if (other.picture && chosen.b?.id === b.id) await show("b", other);
});

document.body.addEventListener("sivrel:started", (event) => {
  document.querySelector("#stage .first")?.remove();
  $("problem").replaceChildren();
  lineage.fold();
  choose(event.detail.proof, undefined, true);
});
document.body.addEventListener("htmx:responseError", () => {
  $("problem").innerHTML ||= '<p class="problem" role="alert">Sivrel could not take this; look at the terminal where it runs.</p>';
});
document.body.addEventListener("htmx:sendError", () => {
  $("problem").innerHTML = '<p class="problem" role="alert">Sivrel does not answer; start it again and prove once more. Nothing is lost.</p>';
});
addEventListener("unhandledrejection", (event) => {
  if (event.reason instanceof TypeError && /fetch/i.test(event.reason.message)) event.preventDefault(); // the head of the page says it
  else if (event.reason instanceof Error) say(event.reason.message);
});

// ---- looking --------------------------------------------------------------------------------------------------

async function reload() {
  plate.isLight = isLight($("pass").value);
  for (const slot of ["a", "b"]) if (chosen[slot]?.picture) await show(slot, chosen[slot]);
}

// ---- lights, plan, sources ---------------------------------------------------------------------------------------

/** An edit was made, in the panel or on the plan. */
function edited() {
  plan.renew();
  if (moments.on) moments.wish();
}
recipe.onEdits = () => {
  if (outside) return;
  lights.load();
  edited();
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

async function toggleWalk() {
  await mover.show(!mover.on);
  if (!mover.on) await moments.stop();
  plate.draw();
}

// ---- hands ----------------------------------------------------------------------------------------------------

const pointer = followPointer(plate, $("stage"), $("wipe-bar"), {
  box: (box, last) => {
    if (pins.on) {
      if (!last) return;
      pins.add(box);
      return togglePins();
    }
    recipe.setRegion(box, plate.frame);
    if (last) {
      recipe.step();
      sayLedger($("ledger"), chosen, recipe.region(), showSource);
      toggleBoxing(false);
      if (recipe.region()) say("⏎ proves the region alone. Drag any number of the recipe sideways to see it here at once.");
    }
    plate.draw();
  },
  click: (event) => (placing.on ? placing.click(event) : spots.on && spots.ask(event)),
  grab: (dx, dy, event) => mover.on && (mover.drag(dx, dy, event.shiftKey), true),
  wheel: (event) => mover.on && (mover.near(event.deltaY / 100), true),
  rest: () => mover.on && mover.rest(),
});

function toggleBoxing(on) {
  pointer.boxing = on;
  $("stage").classList.toggle("region", on);
  plate.draw();
}

function toggleRegion() {
  if (!pointer.boxing && recipe.region()) {
    recipe.setRegion(null);
    recipe.step();
  } else toggleBoxing(!pointer.boxing);
  plate.draw();
}

function togglePins() {
  pins.show(!pins.on);
  if (pins.on) openLeaf("pins");
  toggleBoxing(pins.on);
}

/** A recipe value is dragged or changed: with a region, or in live mode, it is rendered at once. */
function changing(dragged) {
  if (moments.on || (dragged && recipe.region())) moments.wish();
}

function compareSideBySide() {
  if (lineage.selected.size) return lineage.compare();
  if (chosen.a?.picture && chosen.b?.picture && !chosen.b.unfiltered) location.href = `/shots/${slug}/compare?proofs=${chosen.b.id},${chosen.a.id}`;
  else say("Choose two finished proofs first: one with a click, the other with ◫ or Shift.");
}

const DO = {
  compare: compareSideBySide,
  region: toggleRegion,
  enlarge: () => say(enlarge(recipe)),
  live: () => (moments.toggle(), plate.draw()),
  pin: togglePins,
  walk: toggleWalk,
  keep: () => mover.openKeep(),
  reach: () => spots.show(!spots.on),
  plan: togglePlan,
  marks: toggleMarks,
  filter: () => filter.toggle(),
  fit: () => plate.fit(plate.fitted && !plate.cropped && Boolean(plate.pictures[0] && recipe.region())),
  cancel: () => watcher.cancel(),
  queue: openQueue,
  resume,
};

const hold = (on) => looking.hold(on);
holdButton(document.querySelector("[data-do=flip]"), hold);
addEventListener("blur", () => hold(false));

$("pass").addEventListener("change", reload);
for (const tab of document.querySelectorAll(".leaves [role=tab]")) tab.addEventListener("click", () => openLeaf(tab.id.replace("leaf-", "")));
document.addEventListener("sivrel:leaf", (event) => {
  if (panels.state.away.includes("recipe")) panels.show("recipe");
  if (event.detail === "pins") pins.load();
  findings.say();
});

// The last used number, which a ladder varies when it is opened.
let inHand = "";
$("recipe").addEventListener("focusin", (event) => {
  if (event.target.matches("[data-min][name*='.']")) inHand = event.target.name;
});
function tune(kind) {
  if (!chosen.a?.picture || outside) return;
  const query = new URLSearchParams();
  if (kind === "ladder" && inHand) query.set("key", inHand);
  const region = recipe.field("region").value.trim();
  if (region && ["ladder", "match"].includes(kind)) query.set("region", region);
  location.href = `/proofs/${chosen.a.id}/${kind}?${query}`;
}

const ofProof = (act) => () => chosen.a && act(chosen.a.id);
const walkOr = (steps, act) => () => (mover.on ? (mover.walk(...steps), mover.rest()) : act());
// What each command of web/keys/pages.py does, by its name; its buttons and keys are declared there.
Object.assign(DO, looking.commands(), {
  findings: () => findings.press(),
  findingBefore: () => findings.turn(-1),
  findingAfter: () => findings.turn(1),
  proveFirst: () => findings.proveFirst(),
  ladder: () => tune("ladder"),
  budget: () => tune("budget"),
  match: () => tune("match"),
  advice: () => tune("advice"),
  parent: () => chosen.a?.parent && choose(chosen.a.id, chosen.a.parent),
  oneByOne: () => recipe.proveOneByOne(),
  name: ofProof((id) => lineage.openName(id)),
  star: ofProof((id) => lineage.each(id, (one) => lineage.star(one))),
  putAside: ofProof((id) => lineage.remove(id)),
  cover: ofProof(async (id) => (await post(`/proofs/${id}/cover`), say("This picture stands for the shot on the shots page."))),
  select: ofProof((id) => lineage.select(id)),
  copySettings: () => say(`${recipe.copy()} settings copied.`),
  pasteSettings: () => {
    const words = recipe.paste();
    say(!words ? "Nothing was copied yet." : words.length ? `Pasted, ${words.length} differ: ${words.slice(0, 6).join(", ")}${words.length > 6 ? "…" : ""}` : "The copied settings are the same.");
  },
  find: () => (panels.show("lineage"), $("find").focus()),
  only: () => panels.only(),
  lineagePanel: () => panels.toggle("lineage"),
  recipePanel: () => panels.toggle("recipe"),
  arrange: () => panels.arrange(),
  ledger: () => panels.ledger(),
  accept: () => next.take(),
  nextLine: () => next.toggle(),
  guide: () => (panels.show("recipe"), guide?.begin()),
  lights: () => lights.show(!lights.shown),
  solo: () => lights.press("solo"),
  lightOn: () => lights.press("on"),
  finish: () => openLeaf($("finish").hidden ? "finish" : "recipe"),
  measure: () => finish.measure(),
  hatch: () => hatching.next(),
  half: () => rescale(recipe, 0.5),
  double: () => rescale(recipe, 2),
  plateSize: () => fitToPlate(recipe, plate),
  before: walkOr([1, 0, 0], () => lineage.step(-1)),
  after: walkOr([-1, 0, 0], () => lineage.step(1)),
  fold: walkOr([0, -1, 0], () => lineage.toggleFold(chosen.a?.id, true)),
  unfold: walkOr([0, 1, 0], () => lineage.toggleFold(chosen.a?.id, false)),
  rise: walkOr([0, 0, 1], () => {}),
  sink: walkOr([0, 0, -1], () => {}),
  prove: () => recipe.prove(),
  palette: () => palette.open(),
  leave,
});

// ---- the palette ----------------------------------------------------------------------------------------------

const palette = new Palette(() => foundOnBench({ recipe, findings, lights: outside ? [] : JSON.parse(places.dataset.lights), openLight, choose: (id) => choose(id) }));

/** Escape leaves the last mode. */
function leave() {
  if (panels.bare) return panels.only();
  if (findings.going && findings.open) return findings.stop();
  if (placing.on) return placing.stop();
  if (spots.on) return spots.show(false);
  if (pins.on) return togglePins();
  if (mover.on) return toggleWalk();
  if (plan.shown) return togglePlan();
  if (watcher.following) return watcher.cancel();
  if (pointer.boxing) return toggleBoxing(false);
  if (moments.shown) return (moments.on = false), moments.stop();
  plate.mode = SINGLE;
  plate.draw();
}
for (const [name, act] of Object.entries(DO)) for (const button of document.querySelectorAll(`[data-do=${name}]`)) button.addEventListener("click", act);
document.getElementById("more-pictures")?.addEventListener("change", (event) => event.target.form.requestSubmit());
if (outside) openLeaf("findings");

followKeys(DO, { hold, undo: () => recipe.undo(), redo: () => recipe.redo() });
for (const holder of [recipe.holder, $("lights")]) followScrubs(holder, { moved: () => changing(true), rested: () => {} });

recipe.onChange = () => {
  plate.draw();
  next.renew();
  if (!outside) ways.renew();
};
recipe.holder.addEventListener("input", () => changing(false));
if (!outside) ways.renew();
looking.view($("view").value);
lineage.fold();
pins.load();
if (places.dataset.proof) choose(Number(places.dataset.proof), Number(places.dataset.with) || undefined);

// The browser tests read the plate through this.
window.sivrel = { DO, plate, chosen, sayStatus, OTHER, recipe, lights, plan, finish, marks, ways, moments, mover, pins, lineage, findings, outlines, panels, next };
