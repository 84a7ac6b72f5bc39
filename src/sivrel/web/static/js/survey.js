// The survey: plan and section of the scene, its findings, and fixes that are tried on the drawing before they are proven.

import { $, make } from "./dom.js";
import { percent, short } from "./format.js";
import { followKeys, holdButton } from "./keys.js";
import { ask, post, watch } from "./post.js";
import { Sections } from "./sections.js";

const main = document.querySelector(".survey-places"), slug = main.dataset.shot, form = document.querySelector("#mends form");
const before = JSON.parse(main.dataset.edits);
const LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
let edits = { ...before }, past = [], future = [], findings = [], chosen = 0, going = null, standing = false, turned = false;

const fields = (of = edits) => ({ proof: main.dataset.proof, camera: main.dataset.camera, edits: JSON.stringify(of) });
const say = (problem) => ($("problem").textContent = problem ?? "");

const sections = new Sections($("drawings"), {
  ask: (cut, mended) => ask(`/shots/${slug}/section`, { ...fields(mended ? edits : before), ...cut }),
  choose: (number) => choose(number),
  stand: (place) => stand(place),
});

// ---- the survey -----------------------------------------------------------------------------------------------

async function look() {
  going?.stop();
  const mine = (going = watch(`/shots/${slug}/survey`, fields()));
  $("going").hidden = false;
  say();
  try {
    const survey = await mine.done((part) => {
      if (mine !== going) return;
      $("share").value = part.share;
      $("what").textContent = `looking at: ${part.what}`;
      // Findings are shown as they come; earlier ones stay until they are checked again.
      if (part.findings?.length > findings.length) take(part);
    });
    if (mine === going) take(survey);
  } catch (problem) {
    if (mine === going) say(problem.message);
  }
  if (mine === going) {
    $("going").hidden = true;
    going = null;
  }
}

/** List the findings, and keep the selected one, or select the worst. */
function take(survey) {
  const kept = turned ? findings[chosen]?.title : null;
  findings = survey.findings;
  chosen = Math.max(0, findings.findIndex((one) => one.title === kept));
  list(survey);
}

function list(survey) {
  const holder = $("found");
  holder.replaceChildren(...findings.map((one, k) => item(one, k)));
  if (!findings.length)
    holder.append(make("li", { className: "none" }, make("p", {}, "No problems were found. Sheets, gaps, duplicate and flipped faces, holes, scale, lights and camera were checked. ",
      make("a", { href: $("to-bench").href, textContent: "Go to the bench to prove it." }))));
  if (survey.checks) holder.setAttribute("aria-label", `${findings.length} findings of ${survey.checks.length} checks, worst for this picture first`);
  mark();
}

const inWords = (key, v) => {
  if (typeof v === "string") return `${key.replaceAll("_", " ")} ${v.split("/").pop()}`;
  if (key.startsWith("share") || key.includes("_share")) return `${key.replace(/^share_of_/, "").replaceAll("_", " ")} ${Math.round(100 * v)} %`;
  const [, name, unit] = key.match(/^(.*?)(?:_(m|m2|m3))?$/);
  return `${name.replaceAll("_", " ")} ${number(v)}${{ m: " m", m2: " m²", m3: " m³" }[unit] ?? ""}`;
};
/** With spaces between thousands from ten thousand on, as on the cards of shots. */
const spaced = (value) => (Math.abs(value) >= 10000 ? String(Math.round(value)).replace(/\B(?=(\d{3})+$)/g, "\u2009") : value);
const number = (value) => (typeof value === "number" ? (Math.abs(value) < 1 ? Number(value.toPrecision(3)) : spaced(Math.round(value * 100) / 100)) : value);

function item(one, k) {
  const evidence = Object.entries(one.evidence).filter(([, v]) => typeof v === "number" || typeof v === "string");
  const mends = one.mends.map((mend) => {
    if (!Object.keys(mend.edits).length) return make("p", { className: "note", textContent: mend.words });
    const button = make("button", { type: "button", className: "mend", textContent: mend.words });
    button.addEventListener("click", () => apply(mend.edits));
    return button;
  });
  const body = make("div", { className: "about" },
    make("p", { textContent: one.why }),
    make("p", { className: "figures", textContent: evidence.map(([key, v]) => inWords(key, v)).join(" · ") }),
    ...mends);
  const head = make("button", { type: "button", className: "head-line" }, make("b", { textContent: LETTERS[k % 26] }),
    make("span", {}, one.title), make("span", { className: "severity", textContent: one.severity }));
  head.addEventListener("click", () => choose(k));
  const line = make("li", {}, head, body);
  line.dataset.kind = one.kind;
  return line;
}

function mark() {
  const lines = [...$("found").children];
  for (const [k, line] of lines.entries()) {
    const is = k === chosen && findings.length > 0;
    line.classList.toggle("chosen", is);
    line.firstElementChild?.setAttribute("aria-expanded", String(is));
  }
  for (const old of $("plate").querySelectorAll(".ring")) old.remove();
  if ($("plate").querySelector("img"))
    for (const [k, one] of findings.entries()) {
      if (!one.spot) continue;
      const ring = make("button", { type: "button", className: "ring", textContent: LETTERS[k % 26], title: one.title });
      Object.assign(ring.style, { left: `clamp(13px, ${100 * one.spot[0]}%, calc(100% - 13px))`, top: `clamp(13px, ${100 * one.spot[1]}%, calc(100% - 13px))` });
      ring.classList.toggle("chosen", k === chosen);
      ring.addEventListener("click", () => choose(k));
      $("plate").append(ring);
    }
  sections.findings = findings.map((one, k) => ({ ...one, letter: LETTERS[k % 26] }));
  sections.chosen = chosen;
  sections.mark();
}

/** Select a finding: its line, its ring, and plan and section cut through it. */
function choose(k) {
  if (!findings.length) return;
  turned = true;
  chosen = (k + findings.length) % findings.length;
  mark();
  $("found").children[chosen].scrollIntoView({ block: "nearest" });
  sections.cutThrough(findings[chosen].at);
}

// ---- fixes ----------------------------------------------------------------------------------------------------

const text = (v) => (v === true ? "on" : v === false ? "off" : String(v));

function apply(values) {
  past.push(edits);
  future = [];
  edits = { ...edits, ...Object.fromEntries(Object.entries(values).map(([key, v]) => [key, text(v)])) };
  changed();
}

function takeBack(keys) {
  past.push(edits);
  future = [];
  edits = Object.fromEntries(Object.entries(edits).filter(([key]) => !keys.includes(key)));
  for (const key of keys) if (key in before) edits[key] = before[key];
  changed();
}

function step(from, to) {
  if (!from.length) return;
  to.push(edits);
  edits = from.pop();
  changed();
}

async function changed() {
  form.elements.edits.value = JSON.stringify(edits);
  try {
    const now = Object.fromEntries(Object.entries(edits).filter(([key, v]) => String(before[key] ?? "") !== String(v)));
    const lines = await post(`/shots/${slug}/survey/words`, { edits: JSON.stringify(now) });
    $("mends").hidden = !lines.length && !Object.keys(before).length;
    $("mends").querySelector("ul").replaceChildren(
      ...lines.map(([keys, words]) => {
        const back = make("button", { type: "button", className: "link", textContent: "undo" });
        back.addEventListener("click", () => takeBack(keys));
        return make("li", {}, make("span", { className: "changed", textContent: words }), " ", back);
      }),
    );
  } catch (problem) {
    return say(problem.message);
  }
  sections.renew();
  look();
}

// ---- view from a point --------------------------------------------------------------------------------------

function toggleStanding(on = !standing) {
  standing = on;
  document.querySelector("[data-do=spot]").setAttribute("aria-pressed", String(on));
  $("drawings").classList.toggle("standing", on);
  if (!on) {
    $("standpoint").hidden = true;
    sections.stood = null;
    sections.mark();
  }
}

async function stand([x, y, z]) {
  if (!standing) return;
  const slip = $("standpoint");
  slip.hidden = false;
  slip.textContent = "Looking…";
  try {
    const seen = await ask(`/shots/${slug}/standpoint`, { ...fields(), x, y, z });
    if (!standing) return;
    sections.stood = seen;
    sections.mark();
    const lights = seen.lights.map((light) => {
      const share = light.unhindered > 0 ? light.brings / light.unhindered : 0;
      const words = light.brings > 0 ? `${percent(share)} of it arrives` : light.behind ? `behind ${short(light.behind)}` : "does not reach it";
      return make("li", { className: light.brings > 0 ? "" : "none", textContent: `${short(light.name)}: ${words}` });
    });
    slip.replaceChildren(
      make("p", { className: "figures", textContent: `${seen.at.map((v) => v.toFixed(2)).join(", ")} m` }),
      ...(seen.inside ? [make("p", { className: "changed", textContent: `It is inside ${short(seen.inside)}.` })] : []),
      make("p", { textContent: `It sees the outside by ${percent(seen.open)} of its rays, and ${seen.things.slice(0, 4).map(([name, v]) => `${short(name)} ${percent(v)}`).join(", ")}.` }),
      make("ul", {}, ...lights),
    );
  } catch (problem) {
    slip.textContent = problem.message;
  }
}

// ---- keys -----------------------------------------------------------------------------------------------------

const hold = (on) => sections.flip(on);
followKeys(
  {
    after: () => choose(chosen + 1),
    before: () => choose(chosen - 1),
    fix: () => findings[chosen]?.mends[0] && Object.keys(findings[chosen].mends[0].edits).length && apply(findings[chosen].mends[0].edits),
    stand: () => toggleStanding(),
    lower: () => sections.raise(-0.1),
    higher: () => sections.raise(0.1),
    prove: () => !$("mends").hidden && form.requestSubmit(),
    leave: () => (going ? stop() : standing ? toggleStanding(false) : (location.href = $("to-bench").href)),
  },
  { hold, undo: () => step(past, future), redo: () => step(future, past) },
);

function stop() {
  going?.stop();
  going = null;
  $("going").hidden = true;
  say("The survey was cancelled; the list is from before. Reload the page to run it again.");
}

document.querySelector("[data-do=stop]").addEventListener("click", stop);
document.querySelector("[data-do=spot]").addEventListener("click", () => toggleStanding());
holdButton(document.querySelector("[data-do=flip]"), hold);
$("camera").addEventListener("change", (event) => {
  const query = new URLSearchParams({ camera: event.target.value });
  if (main.dataset.proof) query.set("proof", main.dataset.proof);
  location.search = query.toString();
});
sections.renew();
if (Object.keys(before).length) changed();
else look();
window.sivrel = { sections, findings: () => findings, edits: () => edits };
