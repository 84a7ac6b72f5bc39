// The first five minutes: a new user is led once through the loop, on the shot that is open. Nothing is blocked; each step is left by
// doing it, or skipped; the palette brings the guide back.

import { $, make } from "./dom.js";
import { named } from "./keys.js";

const KEPT = "sivrel.guide";
const key = (name) => (named[name] ? `<kbd>${named[name].shown[0]}</kbd>` : "");

/** Steps: what to do, as HTML; what it points at; and whether it is done, from the facts of the bench. */
const STEPS = [
  {
    title: "Prove", says: () => `The picture is a proof: one test render, kept with its recipe, its time and its noise. Make a small one of your own: drag the number of samples to 4, then press ${key("prove")} or Prove.`,
    at: "#prove", done: (now, then) => now.proof !== then.proof && now.picture,
  },
  {
    title: "Change one thing", says: () => `Change a single setting and prove again. Raise “diffuse bounces”, or take “nothing” for what the camera sees. The line under the picture always says what comes next (${key("accept")} does it).`,
    at: "[name='limits.diffuse_bounces']", done: (now, then) => now.proof !== then.proof && now.picture,
  },
  {
    title: "Compare", says: () => `A is the new proof, B the one before. Hold ${key("flip")} to see B, or press ${key("wipe")} to wipe between them. Under the picture stands how visible the difference is.`,
    at: "[data-do=wipe]", done: (now) => now.compared,
  },
  {
    title: "Findings", says: () => `Press ${key("findings").replace(" ", "&nbsp;")}, again to diagnose: flaws are found by measurement, and each cause is tried by small renders with only that changed.`,
    at: "#leaf-findings", done: (now) => now.diagnosed,
  },
  {
    title: "Remedy", says: () => `Open a finding, look at its evidence, and prove a remedy with one click (${key("proveFirst").replace(" ", "&nbsp;")}). It is measured again afterwards, so you see whether it worked.`,
    at: "#findings", done: (now, then) => now.proof !== then.proof,
  },
];

export class Guide {
  /** `facts()`: {proof, picture (whether it has one), compared, diagnosed}. */
  constructor(facts) {
    this.facts = facts;
    this.at = Number(localStorage.getItem(KEPT) ?? 0); // the number of steps means: done with
    this.then = facts();
    document.addEventListener("sivrel:status", () => this.look());
    $("guide").addEventListener("click", (event) => {
      const act = event.target.closest("[data-guide]")?.dataset.guide;
      if (act === "skip") this.go(this.at + 1);
      if (act === "end") this.go(STEPS.length);
    });
    this.say();
  }

  begin() {
    this.go(0);
  }

  go(step) {
    this.at = step;
    localStorage.setItem(KEPT, String(step));
    this.then = this.facts();
    this.say();
  }

  look() {
    if (this.at >= STEPS.length) return;
    const now = this.facts();
    this.then.proof ??= now.proof;
    if (STEPS[this.at].done(now, this.then)) this.go(this.at + 1);
  }

  say() {
    for (const one of document.querySelectorAll(".pointed")) one.classList.remove("pointed");
    const step = STEPS[this.at], holder = $("guide");
    holder.hidden = !step;
    if (!step) return;
    const words = make("p");
    words.innerHTML = step.says();
    const act = (name, title) => {
      const button = make("button", { type: "button", className: "link", textContent: title });
      button.dataset.guide = name;
      return button;
    };
    holder.replaceChildren(make("p", {}, make("b", { textContent: step.title }), ` ${this.at + 1} of ${STEPS.length}`), words, make("p", {}, act("skip", "Skip this"), " ", act("end", "No guide")));
    document.querySelector(step.at)?.classList.add("pointed");
  }
}
