// The noise filter: shows a proof filtered, with the unfiltered one beside it.

import { $ } from "./dom.js";
import { offerPasses } from "./passes.js";
import { SINGLE, WIPE } from "./plate.js";
import { ask } from "./post.js";
import { say } from "./say.js";

const KEPT = "sivrel:filter-drafts";
const FEW = 512; // samples: a proof with fewer has grain to take off
const NEEDED = ["emission", "albedo", "normal"];

/** Whether the artist wants to see proofs filtered, which all pages remember. */
export const wantsFiltered = () => localStorage.getItem(KEPT) !== "no";

export const keepWanted = (wanted) => localStorage.setItem(KEPT, wanted ? "yes" : "no");

/** Whether a proof has so few samples that there is grain to take off. */
const hasFew = (proof) => Boolean(proof?.samples && proof.samples < FEW);

/** Whether a finished proof is worth filtering, and has the passes for it. */
export const canFilter = (proof) => Boolean(hasFew(proof) && proof.picture && NEEDED.every((pass) => proof.passes?.includes(pass)));

/** What the filter did, in a few sentences. */
function words({ smeared, by, level }, shown) {
  const done = smeared === null ? `Whether detail was lost is not known: the proof was kept without its variance.${shown}` : smeared > 0.002
    ? `It smeared ${(smeared * 100).toFixed(1)} % of the picture, where it removed more than noise: see the pass “smeared”, or take more samples.`
    : `It removed only noise.${shown}`;
  const error = level === null || level === undefined ? "" : ` Its error is about ${(level * 100).toPrecision(2)} % of the light: see the pass “error of the filter”.`;
  return `${done}${error}${by ? ` Filtered by ${by}.` : ""}`;
}

const WAITS = "This picture is being filtered; it is shown as it is meanwhile.";
const SOON = 1500; // milliseconds that a finished picture waits to be seen filtered at once

export class NoiseFilter {
  /** `chosen` are the two proofs on the plate, `show(slot, proof)` puts one there, `parent(proof)` fetches where it came from; `again()` starts to
   * watch the running render anew. */
  constructor(plate, chosen, { show, parent, again }) {
    this.plate = plate; this.chosen = chosen; this.show = show; this.parent = parent; this.again = again;
    this.unfilteredRender = null; // the running render that the artist wants to see as it is
    this.picture = null; // the picture that is looked at filtered
    this.kept = new Map(); // what filtering said, by picture
    this.asked = {}; // promises of what is being filtered
    this.declined = null; // the picture that the artist wants to see as it is
    this.box = /** @type {HTMLInputElement | null} */ (document.getElementById("filter-drafts"));
    if (!this.box) return;
    this.box.checked = wantsFiltered();
    this.box.addEventListener("change", () => {
      keepWanted(this.box.checked);
      if (this.chosen.a && !this.chosen.a.picture) return this.again();
      const shown = this.picture !== null && this.picture === this.chosen.a?.picture;
      if (shown && !this.box.checked) return this.toggle();
      this.declined = null;
      return this.draft(this.chosen.a);
    });
  }

  /** What filtering a proof said, which is done now if it was not; null where it can't be. */
  async made(proof) {
    if (!this.kept.has(proof.picture)) {
      this.asked[proof.picture] ??= ask(`/proofs/${proof.id}/filter`, {}).catch(() => null);
      this.kept.set(proof.picture, await this.asked[proof.picture]);
    }
    return this.kept.get(proof.picture);
  }

  /** Whether a running render is shown filtered. */
  live(proof) {
    return Boolean(this.box?.checked) && hasFew(proof) && !proof.picture && this.unfilteredRender !== proof.id;
  }

  /** Whether a finished proof is to be shown filtered, and is not yet. */
  due(proof) {
    return Boolean(this.box?.checked) && canFilter(proof) && this.picture !== proof.picture && this.declined !== proof.picture && $("pass").value === "beauty";
  }

  /** From now on a proof is looked at filtered; `answer` is what filtering said. */
  turnOn(proof, answer, shown = "") {
    this.picture = proof.picture;
    offerPasses($("pass"), proof.passes, true);
    $("pass").value = "filtered";
    $("filter-note").textContent = words(answer, shown);
  }

  /** A render has ended: one that was watched unfiltered stays so. */
  ended(proof) {
    if (this.unfilteredRender === proof.id) this.declined = proof.picture;
  }

  /** Called before a proof is put on the plate: it is then shown filtered at once, if that is wanted and soon done; returns whether. */
  async before(proof) {
    const late = new Promise((on) => setTimeout(on, SOON));
    const answer = this.due(proof) && (await Promise.race([this.made(proof), late]));
    if (answer) this.turnOn(proof, answer);
    return Boolean(answer);
  }

  /** Show a proof filtered as soon as it is there, if the artist wants that. What is measured is always the unfiltered one. */
  async draft(proof) {
    if (!this.due(proof)) return;
    $("filter-note").textContent = "Filtering…";
    // A message that is there stays: it may offer to restore what was deleted.
    const slow = setTimeout(() => $("slip").hidden && say(WAITS), SOON);
    const answer = await this.made(proof);
    clearTimeout(slow);
    if ($("slip").textContent === WAITS) say("");
    if (!answer || this.chosen.a !== proof || $("pass").value !== "beauty") return;
    this.turnOn(proof, answer);
    const beside = this.chosen.b;
    await Promise.all([this.show("a", proof), beside && this.show("b", beside)]);
    this.say();
  }

  async toggle() {
    const proof = this.chosen.a, note = $("filter-note");
    if (!proof) return;
    if (!proof.picture) {
      this.unfilteredRender = this.live(proof) ? proof.id : null;
      return this.again();
    }
    if (this.picture === proof.picture) {
      this.picture = null;
      this.declined = proof.picture;
      $("pass").value = "beauty";
      note.textContent = "";
      this.plate.mode = SINGLE;
      await Promise.all([this.show("a", proof), this.show("b", await this.parent(proof))]);
      return this.say();
    }
    note.textContent = "Filtering…";
    try {
      const answer = await ask(`/proofs/${proof.id}/filter`, {});
      if (this.chosen.a !== proof) return;
      this.turnOn(proof, answer, " Left of the bar filtered, right of it not.");
      await Promise.all([this.show("a", proof), this.show("b", { ...proof, unfiltered: true })]);
      this.plate.mode = WIPE;
      this.plate.draw();
    } catch (problem) {
      note.textContent = problem.message;
    }
    this.say();
  }

  say() {
    document.querySelector("[data-do=filter]").setAttribute("aria-pressed", String(this.picture !== null || this.live(this.chosen.a)));
  }
}
