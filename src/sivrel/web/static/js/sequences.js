// Sequences of a moving shot: played from memory, wiped and flipped in step, judged for flicker.

import { roundedStops } from "./captions.js";
import { openLeaf } from "./common.js";
import { $, make } from "./dom.js";
import { inSeconds, inStops, percent, roughly, short } from "./format.js";
import { followKeys, holdButton } from "./keys.js";
import { Plate, SINGLE, WIPE } from "./plate.js";
import { followPointer } from "./pointer.js";
import { follow, post, watch } from "./post.js";
import { ReelChart } from "./reel-chart.js";
import { Clock, Reel } from "./reel.js";
import { json } from "./watcher.js";

const main = document.querySelector("main.places"), stage = $("stage"), bar = $("wipe-bar");
const reels = [null, null];
let wiping = false, mapped = false, inTime = false, going = null;

const say = (problem) => {
  $("problem").textContent = problem ?? "";
  $("problem").classList.toggle("problem", Boolean(problem));
};

// ---- plate and clock -----------------------------------------------------------------------------------------

const plate = new Plate(stage, $("canvas"), JSON.parse(main.dataset.lut), () => place());
followPointer(plate, stage, bar, { region: () => {}, click: () => {}, box: () => {} });
const clock = new Clock(() => show());
const chart = new ReelChart($("reel"), clock, (first, last) => loop(first, last));

function place() {
  const [left, , width] = plate.place(), scale = plate.canvas.width / Math.max(1, stage.clientWidth);
  bar.hidden = !(wiping && reels[1]);
  bar.style.left = `${(left + plate.wipe * width) / scale}px`;
  markPlaces();
}

function passOf(reel) {
  if (mapped) return inTime && reel.state.in_time ? "flicker_in_time" : "flicker";
  return inTime && reel.state.in_time ? "in_time" : "beauty";
}

function show() {
  reels.forEach((reel, slot) => {
    const picture = reel?.at(clock.time) ?? null;
    if (picture && picture !== plate.pictures[slot]) plate.setPicture(slot, picture);
    if (!reel && plate.pictures[slot]) plate.setPicture(slot, null);
  });
  plate.isLight = !mapped;
  plate.mode = wiping ? WIPE : SINGLE;
  plate.draw();
  chart.draw();
  document.querySelector("[data-do=play]").setAttribute("aria-pressed", String(clock.playing));
  $("play-word").textContent = clock.playing ? "pause" : "play";
  const frame = reels[0]?.frame(clock.time);
  const level = (one) => (one ? `, flicker ${Number(one.level.toPrecision(2))}` : "");
  $("at").textContent = frame ? `frame ${frame.time}${frame.picture ? (frame.seconds ? `: ${inSeconds(frame.seconds)}` : "") : `: ${frame.state}`}${level(inTime ? frame.in_time : frame.flicker)}` : "";
}

function loop(first, last) {
  clock.range = [first, last];
  document.querySelector("[data-do=loop]").setAttribute("aria-pressed", "true");
  chart.draw();
}

function loopAll() {
  clock.range = null;
  document.querySelector("[data-do=loop]").setAttribute("aria-pressed", "false");
  chart.draw();
}

function setExposure(stops) {
  plate.exposure = roundedStops(stops);
  $("exposure").value = plate.exposure;
  $("exposure-value").textContent = inStops(plate.exposure);
  plate.draw();
}

// ---- what is known of the sequences -----------------------------------------------------------------------------

function takeState(slot, state) {
  const fresh = !reels[slot] || reels[slot].state.id !== state.id;
  if (fresh) reels[slot] = new Reel(state, loaded);
  else reels[slot].take(state);
  if (slot === 0) {
    clock.setTimes(reels[0].times, state.rate);
    if (fresh) setExposure(state.exposure);
  }
  describe();
  load();
}

function load() {
  for (const reel of reels) {
    if (!reel) continue;
    reel.pass = passOf(reel);
    reel.load(clock.time);
  }
  loaded();
}

function loaded() {
  const [here, there] = reels[0]?.loaded ?? [0, 0];
  $("loading").hidden = here >= there;
  $("loading").textContent = `loading frames: ${here} of ${there}`;
  show();
}

function describe() {
  const [a, b] = reels;
  const key = inTime ? "in_time" : "flicker";
  const levels = (reel) => clock.times.map((time) => reel.frames.find((frame) => frame.time === time)?.[key]?.level ?? null);
  const lines = [];
  if (a) lines.push({ name: b ? "A" : "", levels: levels(a), dashed: false });
  if (b) lines.push({ name: "B", levels: levels(b), dashed: true });
  chart.show(lines, a ? a.frames.map((frame) => frame.state) : []);
  for (const [letter, reel, id] of [["A", a, "caption-a"], ["B", b, "caption-b"]])
    $(id).replaceChildren(...(reel ? [make("b", { textContent: letter }), `${reel.state.name || `sequence ${reel.state.id}`} · ${reel.state.progress}`] : []));
  if (a) {
    $("out-table").href = `/sequences/${a.state.id}.csv`;
    Object.assign($("from-plate"), { value: `sequence:${a.state.id}`, hidden: false, disabled: false });
    $("says").textContent = inTime && a.state.in_time ? a.state.says_in_time : a.state.says;
    document.querySelector("[data-do=cause]").hidden = !a.state.flicker || Boolean(going);
    document.querySelector("[data-do=cause]").textContent = a.state.cause ? "Find the cause again" : "Find the cause";
    $("promise").textContent = a.state.promise?.says ?? "";
    $("promise").dataset.state = a.state.promise?.state ?? "";
    showCause(a.state.cause);
    showWorst(a);
    const missing = a.state.done < a.frames.length;
    $("progress").hidden = !missing;
    $("progress-bar").value = (a.state.done + a.frames.reduce((sum, frame) => sum + (frame.share ?? 0), 0)) / Math.max(1, a.frames.length);
    $("progress-text").textContent = a.state.problem || (a.state.stopped ? `stopped at ${a.state.progress}` : a.state.progress);
    document.querySelector("[data-do=cancel]").hidden = a.state.stopped;
    document.querySelector("[data-do=resume]").hidden = !a.state.stopped;
  }
  for (const card of document.querySelectorAll("#cards .card")) {
    const number = Number(card.dataset.sequence);
    card.dataset.chosen = number === a?.state.id ? "a" : number === b?.state.id ? "b" : "";
    if (!card.dataset.chosen) delete card.dataset.chosen;
  }
}

/** The worst places of the whole sequence, a line each; a click goes there. */
function showWorst(reel) {
  const key = inTime ? "in_time" : "flicker";
  const every = reel.frames.flatMap((frame) => (frame[key]?.places ?? []).slice(0, 1).map((spot) => ({ ...spot, time: frame.time })));
  const worst = new Map();
  for (const spot of every.sort((p, q) => q.seen - p.seen)) if (!worst.has(spot.object)) worst.set(spot.object, spot);
  $("worst").replaceChildren(...[...worst.values()].slice(0, 4).map((spot) => {
    const line = make("button", { type: "button", className: "link", textContent: `frame ${spot.time}${spot.object ? `, ${short(spot.object)}` : ""}: ${Number(spot.seen.toPrecision(2))} times` });
    line.addEventListener("click", () => (clock.pause(), clock.go(clock.times.indexOf(spot.time))));
    return make("li", {}, line);
  }));
}

/** Rings the places of the shown frame on the plate. */
function markPlaces() {
  const frame = reels[0]?.frame(clock.time), spots = clock.playing ? [] : (frame?.[inTime ? "in_time" : "flicker"]?.places ?? []);
  const [left, top] = plate.place(), scale = plate.canvas.width / Math.max(1, stage.clientWidth);
  $("places-marks").replaceChildren(...spots.slice(0, 3).map((spot, k) => {
    const [x0, y0, x1, y1] = spot.box.map((n) => n * plate.zoom), box = make("div", { className: "pin-mark found" });
    box.dataset.number = "abc"[k];
    Object.assign(box.style, { left: `${(left + x0) / scale}px`, top: `${(top + y0) / scale}px`, width: `${(x1 - x0) / scale}px`, height: `${(y1 - y0) / scale}px` });
    return box;
  }));
}

function showCause(cause) {
  const holder = $("cause");
  if (!cause) return holder.replaceChildren();
  const words = { confirmed: "confirmed", struck: "struck off", open: "open" };
  const suspects = cause.suspects.map((one) => make("li", { className: one.state, title: one.says },
    make("b", { textContent: one.title }), ` ${words[one.state]}: ${percent(Math.max(0, one.share))} ${one.of || "of it"} (± ${percent(one.error)})`));
  const remedies = cause.remedies.map((one, k) => {
    const cost = `flicker ${Number(cause.level.toPrecision(2))} → about ${Number(one.level.toPrecision(2))}, ${roughly(one.seconds)} a frame${one.once > 0 ? `, ${roughly(one.once)} before the first` : ""}`;
    const take = make("button", { type: "button", className: "plain-ink", textContent: one.filtered ? "Show it so" : "Render it so" });
    take.addEventListener("click", () => (one.filtered ? setInTime(true) : takeRemedy(k)));
    return make("li", {}, make("b", { textContent: one.title }), make("span", { className: "figures", textContent: ` ${cost} ` }), take);
  });
  holder.replaceChildren(
    make("p", { textContent: cause.says }), make("p", { className: "note", textContent: `Tried in frame ${cause.time}, on the ${cause.box[2] - cause.box[0]} by ${cause.box[3] - cause.box[1]} pixels where it is worst.` }),
    make("ol", { className: "suspects" }, ...suspects), make("h3", { textContent: "Remedies" }), make("ol", { className: "remedies" }, ...remedies),
  );
}

// ---- acts ------------------------------------------------------------------------------------------------------------

async function open(number, slot = 0) {
  if (slot === 1 && reels[0]?.state.id === number) return;
  if (slot === 0 && reels[1]?.state.id === number) reels[1] = null;
  takeState(slot, await json(`/sequences/${number}.json`));
  const asked = new URLSearchParams({ show: String(reels[0]?.state.id ?? "") });
  if (reels[1]) asked.set("with", String(reels[1].state.id));
  history.replaceState(null, "", `${location.pathname}?${asked}`);
  if (slot === 0 && reels[0].state.question && !going) listen(follow(Promise.resolve({ question: reels[0].state.question })));
}

async function listen(mine, onDone = async (whole) => {}) {
  going = mine;
  $("going").hidden = false;
  document.querySelector("[data-do=cause]").hidden = true;
  try {
    const whole = await mine.done((part) => {
      $("share").value = part.share ?? 0;
      $("what").textContent = part.what ?? "";
    });
    await onDone(whole);
  } catch (problem) {
    if (problem.message !== "Called off." && problem.message !== "Cancelled.") say(problem.message);
  }
  going = null;
  $("going").hidden = true;
  await refresh();
}

async function takeRemedy(k) {
  try {
    const { sequence } = await post(`/sequences/${reels[0].state.id}/remedy`, { remedy: String(k) });
    await renewCards();
    const before = reels[0].state.id;
    await open(sequence);
    await open(before, 1);
  } catch (problem) {
    say(problem.message);
  }
}

async function setInTime(on) {
  inTime = on;
  document.querySelector("[data-do=inTime]").setAttribute("aria-pressed", String(on));
  for (const reel of reels) {
    if (!on || !reel || reel.state.in_time) continue;
    if (reel.state.done < reel.frames.length) {
      say("Frames are filtered with their neighbours: wait until all of them are rendered.");
      return setInTime(false);
    }
    openLeaf("flicker");
    await listen(watch(`/sequences/${reel.state.id}/judge`));
    takeState(reels.indexOf(reel), await json(`/sequences/${reel.state.id}.json`));
  }
  describe();
  load();
}

async function render(event) {
  event?.preventDefault();
  say();
  try {
    const { sequence } = await post($("new-form").action, new FormData($("new-form")));
    await renewCards();
    await open(sequence);
    openLeaf("flicker");
  } catch (problem) {
    say(problem.message);
  }
}

async function predict() {
  say();
  $("predicted").textContent = "rendering small parts of three frames…";
  try {
    const { says } = await watch(`/shots/${main.dataset.shot}/sequences/predict`, new FormData($("new-form"))).done();
    $("predicted").textContent = says;
  } catch (problem) {
    $("predicted").textContent = "";
    say(problem.message);
  }
}

async function exportAs(kind) {
  if (!reels[0]) return ($("out-says").textContent = "Render a sequence first.");
  const number = reels[0].state.id, fields = { as: kind, ...($("out-filtered").checked ? { filtered: "1" } : {}) };
  $("out-says").textContent = "writing…";
  try {
    const { name } = await watch(`/sequences/${number}/export`, fields).done((part) => ($("out-says").textContent = `writing ${part.what ?? ""}`));
    const link = make("a", { href: `/sequences/${number}/export/${name}`, textContent: "Download it", download: "" });
    $("out-says").replaceChildren(link);
    link.click();
  } catch (problem) {
    $("out-says").textContent = problem.message;
  }
}

async function renewCards() {
  const answer = await fetch(`/shots/${main.dataset.shot}/sequences/cards`, { headers: { "HX-Request": "true" } });
  if (answer.ok) $("cards").innerHTML = await answer.text();
  describe();
}

/** What is new of the sequences on the plate. One that was put away while the server answered stays away. */
async function refresh() {
  for (const slot of [0, 1]) {
    const reel = reels[slot], state = reel && (await json(`/sequences/${reel.state.id}.json`));
    if (reel && reels[slot] === reel) takeState(slot, state);
  }
}

/** Whether the flicker of a frame is still to come: it has both neighbours. */
function isJudgedLater(reel) {
  const times = new Set(reel.frames.map((frame) => frame.time));
  return reel.frames.some((frame) => !frame.flicker && times.has(frame.time - 1) && times.has(frame.time + 1));
}

const isAlive = (reel) => reel && (reel.state.done < reel.frames.length ? !reel.state.stopped : isJudgedLater(reel));

async function follow_() {
  try {
    if (reels.some(isAlive)) {
      const before = reels[0]?.state.done;
      await refresh();
      if (reels[0]?.state.done !== before) await renewCards();
    }
  } catch {
    // The page says that the server does not answer, and goes on asking.
  }
  setTimeout(follow_, 700);
}

const acts = {
  play: () => (clock.playing ? clock.pause() : clock.play()),
  back: () => clock.step(-1),
  on: () => clock.step(1),
  loop: () => (clock.range ? loopAll() : loop(0, clock.times.length - 1)),
  wipe: () => {
    wiping = !wiping;
    document.querySelector("[data-do=wipe]").setAttribute("aria-pressed", String(wiping));
    show();
  },
  map: () => {
    mapped = !mapped;
    document.querySelector("[data-do=map]").setAttribute("aria-pressed", String(mapped));
    load();
  },
  inTime: () => setInTime(!inTime),
  cancel: async () => (await post(`/sequences/${reels[0].state.id}/cancel`), refresh()),
  resume: async () => (await post(`/sequences/${reels[0].state.id}/resume`), refresh()),
  cause: () => (say(), listen(watch(`/sequences/${reels[0].state.id}/cause`))),
  stop: () => going?.stop(),
  predict,
};
document.addEventListener("click", (event) => {
  const act = event.target.closest("[data-do]"), card = event.target.closest("#cards .card"), tab = event.target.closest(".leaves [role=tab]");
  const out = event.target.closest("[data-export]");
  if (act && act.dataset.do !== "flip") acts[act.dataset.do]?.();
  else if (out) exportAs(out.dataset.export);
  else if (tab) openLeaf(tab.id.replace("leaf-", ""));
  else if (card && event.target.closest(".with")) open(Number(card.dataset.sequence), 1);
  else if (card && event.target.closest(".delete")) remove(Number(card.dataset.sequence));
  else if (card) open(Number(card.dataset.sequence));
});

async function remove(number) {
  await post(`/sequences/${number}/delete`);
  const undo = make("button", { type: "button", className: "link", textContent: "undo" });
  undo.addEventListener("click", async () => (await post(`/sequences/${number}/restore`), say(), renewCards()));
  $("problem").replaceChildren("Deleted; ", undo);
  if (reels[1]?.state.id === number) reels[1] = null;
  await renewCards();
  if (reels[0]?.state.id === number) location.search = "";
}

const hold = (on) => {
  plate.held = on;
  plate.draw();
};
holdButton(document.querySelector("[data-do=flip]"), hold);
$("new-form").addEventListener("submit", render);
$("exposure").addEventListener("input", () => setExposure(Number($("exposure").value)));
followKeys(
  {
    play: acts.play, back: acts.back, on: acts.on, first: () => clock.step(-clock.times.length), last: () => clock.step(clock.times.length),
    loopFrom: () => (clock.range?.[0] === clock.index ? loopAll() : loop(clock.index, Math.max(clock.index, clock.range?.[1] ?? clock.times.length - 1))),
    loopTo: () => (clock.range?.[1] === clock.index ? loopAll() : loop(Math.min(clock.index, clock.range?.[0] ?? 0), clock.index)),
    wipe: acts.wipe, map: acts.map, inTime: acts.inTime,
    worst: () => reels[0]?.state.flicker && (clock.pause(), clock.go(clock.times.indexOf(reels[0].state.flicker.worst))),
    darker: () => setExposure(plate.exposure - 1 / 3),
    lighter: () => setExposure(plate.exposure + 1 / 3),
    zoomIn: () => plate.zoomTo(plate.zoom * 1.5),
    zoomOut: () => plate.zoomTo(plate.zoom / 1.5),
    fit: () => plate.fit(),
    pixels: () => plate.zoomTo(devicePixelRatio || 1),
    leave: () => (location.href = $("to-bench").href),
  },
  { hold },
);

const tables = new Uint16Array(await (await fetch(`/views/${main.dataset.view}.lut`)).arrayBuffer());
plate.painter.setView(tables, main.dataset.view);
if (main.dataset.show) await open(Number(main.dataset.show));
if (main.dataset.with) await open(Number(main.dataset.with), 1);
follow_();

window.sivrel = { plate, clock, reels, chart, open, setInTime, refresh };
