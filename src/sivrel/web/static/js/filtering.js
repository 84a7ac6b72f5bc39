// The noise filter: shows a proof filtered, with the unfiltered one beside it.

import { $ } from "./dom.js";
import { offerPasses } from "./passes.js";
import { SINGLE, WIPE } from "./plate.js";
import { ask } from "./post.js";


/** What the filter did, in a few sentences. */
function words({ smeared, by, level }) {
  const done = smeared > 0.002
    ? `It smeared ${(smeared * 100).toFixed(1)} % of the picture, where it removed more than noise: see the pass “smeared”, or take more samples.`
    : "It removed only noise. Left of the bar filtered, right of it not.";
  const error = level === null || level === undefined ? "" : ` Its error is about ${(level * 100).toPrecision(2)} % of the light: see the pass “error of the filter”.`;
  return `${done}${error}${by ? ` Filtered by ${by}.` : ""}`;
}

export class NoiseFilter {
  /** `chosen` are the two proofs on the plate, `show(slot, proof)` puts one there, `parent(proof)` fetches where it came from. */
  constructor(plate, chosen, show, parent) {
    this.plate = plate; this.chosen = chosen; this.show = show; this.parent = parent;
    this.picture = null; // the picture that is looked at filtered
  }

  async toggle() {
    const proof = this.chosen.a, note = $("filter-note");
    if (!proof?.picture) return;
    if (this.picture === proof.picture) {
      this.picture = null;
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
      await Promise.all([this.show("a", proof), this.show("b", { ...proof, unfiltered: true })]);
      this.plate.mode = WIPE;
      this.plate.draw();
      note.textContent = words(answer);
    } catch (problem) {
      note.textContent = problem.message;
    }
    this.say();
  }

  say() {
    document.querySelector("[data-do=filter]").setAttribute("aria-pressed", String(this.picture !== null));
  }
}
