// The line under the plate: the one act that is most useful now, with its reason and its key.

import { $, make } from "./dom.js";
import { roughly } from "./format.js";
import { named } from "./keys.js";

const KEPT = "sivrel.next";

/** What to do next with a proof, or null: {what, why, does}. `facts` are: proof, running, changes (their number), forecast (words),
 * stale (a sentence, if a cache is), retests, diagnosed, diagnosing, findings, accepts (seconds that a remedy may take), outside. */
export function nextStep(facts) {
  const { proof, findings } = facts;
  if (facts.running || facts.diagnosing) return null;
  if (!proof) return { what: "Prove a first draft", why: "nothing is rendered yet; small and grainy is fine", does: "prove" };
  if (facts.changes) {
    const [it, are] = facts.changes === 1 ? ["it", "1 change is"] : ["them", `${facts.changes} changes are`];
    return { what: `Prove ${it}`, why: `${are} not proven yet${facts.forecast ? `; ${facts.forecast}` : ""}`, does: "prove" };
  }
  if (!proof.picture) return proof.state === "cancelled" ? { what: "Resume the render", why: "it was cancelled; its finished tiles are kept", does: "resume" } : null;
  const [x0, y0, x1, y1] = proof.window, part = (x1 - x0) * (y1 - y0) < proof.width * proof.height;
  const cured = facts.retests.find((one) => ["gone", "smaller"].includes(one.result?.verdict));
  if (facts.retests.some((one) => !one.result)) return null; // it is being measured
  if (part && cured) return { what: "Render the whole frame with it", why: `${cured.result.verdict}: ${cured.finding.replace(/\.$/, "")}`, does: "whole" };
  if (facts.stale) return { what: "Prove it again", why: facts.stale, does: "prove" };
  if (!facts.diagnosed) return { what: "Find what is wrong with it", why: "this proof is not diagnosed yet; trials take about 20 s", does: "findings" };
  const left = findings.filter((one) => !one.dismissed), title = (one) => one.title.replace(/\.$/, "");
  const accepts = Math.max(facts.accepts, 1.3 * (proof.seconds ?? 0)); // who waited so long for this picture does so for its cure
  for (const region of [false, true]) for (const one of left) {
    const cost = (remedy) => (remedy.seconds ?? 0) * (region ? one.share_of_region ?? 1 : 1);
    const number = one.remedies.findIndex((remedy) => Object.keys({ ...remedy.values, ...remedy.edits }).length && cost(remedy) <= accepts);
    if (number < 0 || !one.id || one.retests?.some((retest) => retest.remedy === number)) continue;
    const remedy = one.remedies[number], after = remedy.seen != null && remedy.seen < one.threshold ? ", then invisible" : "";
    const time = remedy.seconds == null ? "" : `: about ${roughly(cost(remedy))}${region ? " for this part only" : ""}`;
    return { what: remedy.words.replace(/\.$/, ""), why: `${title(one)}${time}${after}`, does: "remedy", finding: one, number, region };
  }
  if (left.length) return { what: "Read why", why: `${title(left[0])}; no untried remedy takes less than ${roughly(accepts)}`, does: "findings" };
  if (facts.outside) return null;
  if (part) return { what: "Render the whole frame", why: "nothing is wrong in this region", does: "whole" };
  if (proof.width < 1280) return { what: "Render it at twice the size", why: `nothing is wrong at ${proof.width} × ${proof.height}`, does: "double" };
  return { what: "Save it", why: "nothing is wrong that an eye would see: this can be the final", does: "finish" };
}

export class NextStep {
  /** `facts()` as for `nextStep`; `acts` by name are what it can do. */
  constructor(facts, acts) {
    this.facts = facts; this.acts = acts; this.step = null; this.said = "";
    this.kept = { off: false, accepts: 120, ...JSON.parse(localStorage.getItem(KEPT) ?? "{}") };
    $("next-accepts").value = String(this.kept.accepts);
    $("next-accepts").addEventListener("change", () => this.keep({ accepts: Number($("next-accepts").value) }));
    $("next-off").addEventListener("click", () => this.keep({ off: true }));
    $("next-do").addEventListener("click", () => this.take());
    document.addEventListener("sivrel:status", () => this.renew());
  }

  keep(values) {
    Object.assign(this.kept, values);
    localStorage.setItem(KEPT, JSON.stringify(this.kept));
    this.renew();
  }

  /** Switch the line off for good, or on again. */
  toggle() {
    this.keep({ off: !this.kept.off });
  }

  renew() {
    const step = this.kept.off ? null : nextStep({ ...this.facts(), accepts: this.kept.accepts }), said = JSON.stringify([step?.what, step?.why]);
    this.step = step;
    $("next").hidden = this.kept.off;
    if (said === this.said) return;
    this.said = said;
    $("next").classList.toggle("nothing", !step);
    $("next-do").replaceChildren(...(step ? [make("b", { textContent: step.what }), make("kbd", { textContent: named.accept.shown[0] })] : []));
    $("next-why").textContent = step?.why ?? "";
    $("next-why").title = step?.why ?? "";
  }

  take() {
    if (this.step) this.acts[this.step.does](this.step);
  }
}
