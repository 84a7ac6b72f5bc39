// The noise filter: shows a proof filtered, with the unfiltered one beside it.

import { $ } from "./dom.js";
import { offerPasses } from "./passes.js";
import { SINGLE, WIPE } from "./plate.js";
import { ask } from "./post.js";


const KEPT = "sivrel:filter-drafts";
const FEW = 64; // samples: a proof with fewer is a draft
const NEEDED = ["emission", "albedo", "normal", "variance"];

/** What the filter did, in a few sentences. */
function words({ smeared, by, level }, shown) {
  const done = smeared > 0.002
    ? `It smeared ${(smeared * 100).toFixed(1)} % of the picture, where it removed more than noise: see the pass “smeared”, or take more samples.`
    : `It removed only noise.${shown}`;
  const error = level === null || level === undefined ? "" : ` Its error is about ${(level * 100).toPrecision(2)} % of the light: see the pass “error of the filter”.`;
  return `${done}${error}${by ? ` Filtered by ${by}.` : ""}`;
}

export class NoiseFilter {
  /** `chosen` are the two proofs on the plate, `show(slot, proof)` puts one there, `parent(proof)` fetches where it came from. */
  constructor(plate, chosen, show, parent) {
    this.plate = plate; this.chosen = chosen; this.show = show; this.parent = parent;
    this.picture = null; // the picture that is looked at filtered
    this.kept = new Map(); // what filtering said, by picture
    this.declined = null; // the draft that the artist wants to see as it is
    this.box = /** @type {HTMLInputElement | null} */ (document.getElementById("filter-drafts"));
    if (!this.box) return;
    this.box.checked = localStorage.getItem(KEPT) !== "no";
    this.box.addEventListener("change", () => {
      localStorage.setItem(KEPT, this.box.checked ? "yes" : "no");
      const shown = this.picture !== null && this.picture === this.chosen.a?.picture;
      if (shown && !this.box.checked) return this.toggle();
      this.declined = null;
      return this.draft(this.chosen.a);
    });
  }

  /** What filtering a proof said, which is done now if it was not; null where it can't be. */
  async made(proof) {
    if (!this.kept.has(proof.picture)) this.kept.set(proof.picture, await ask(`/proofs/${proof.id}/filter`, {}).catch(() => null));
    return this.kept.get(proof.picture);
  }

  /** Show a draft filtered as soon as it is finished, if the artist wants that. What is measured is always the unfiltered one. */
  async draft(proof) {
    const wanted = this.box?.checked && proof?.picture && proof.samples && proof.samples < FEW && NEEDED.every((pass) => proof.passes?.includes(pass));
    if (!wanted || this.picture === proof.picture || this.declined === proof.picture || $("pass").value !== "beauty") return;
    const answer = await this.made(proof);
    if (!answer || this.chosen.a !== proof || $("pass").value !== "beauty") return;
    this.picture = proof.picture;
    offerPasses($("pass"), proof.passes, true);
    $("pass").value = "filtered";
    const beside = this.chosen.b; // compared like with like
    $("filter-note").textContent = words(answer, "");
    await Promise.all([this.show("a", proof), beside && this.show("b", beside)]);
    this.say();
  }

  async toggle() {
    const proof = this.chosen.a, note = $("filter-note");
    if (!proof?.picture) return;
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
      this.picture = proof.picture;
      offerPasses($("pass"), proof.passes, true);
      $("pass").value = "filtered";
      note.textContent = words(answer, " Left of the bar filtered, right of it not.");
      await Promise.all([this.show("a", proof), this.show("b", { ...proof, unfiltered: true })]);
      this.plate.mode = WIPE;
      this.plate.draw();
    } catch (problem) {
      note.textContent = problem.message;
    }
    this.say();
  }

  say() {
    document.querySelector("[data-do=filter]").setAttribute("aria-pressed", String(this.picture !== null));
  }
}
