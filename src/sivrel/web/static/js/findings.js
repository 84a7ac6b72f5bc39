// Findings beside the recipe: the flaws of the proof on the plate, the evidence, and remedies that are proven with one key.

import { openLeaf } from "./common.js";
import { $, make } from "./dom.js";
import { named } from "./keys.js";
import { percent, roughly } from "./format.js";
import { letterOf } from "./outlines.js";
import { post, watch } from "./post.js";
import { json } from "./watcher.js";

const small = (name) => `/trials/${name}.png`;
const howBad = (one) => (one.kind === "slow" ? "costs time" : one.seen < 4 ? "just seen" : one.seen < 12 ? "seen" : "plain to see");

export class Findings {
  /** `chosen()` is the proof on the plate, `outlines` draws, `started(id)` puts a new proof there. */
  constructor(outlines, chosen, started, choose) {
    this.outlines = outlines; this.proof = chosen; this.started = started; this.choose = choose; this.list = []; this.at = 0;
    this.about = null; this.of = null; this.retests = []; this.going = null; this.why = new Set(); this.turned = () => {}; this.filtered = () => false; // whether the proof is looked at filtered
    this.holder = $("findings");
  }

  get open() {
    return !this.holder.hidden;
  }

  /** The tab was opened, or another proof is on the plate. */
  async load() {
    const proof = this.proof();
    clearTimeout(this.waiting);
    if (!proof?.id || proof.unfiltered) return;
    const another = this.of !== proof.id;
    if (another && this.going) this.stop(false);
    const answer = await json(`/proofs/${proof.id}/findings.json`);
    if (this.proof()?.id !== proof.id || this.going) return;
    if (another) this.at = 0;
    Object.assign(this, { of: proof.id, list: answer.findings, about: answer.about, retests: answer.retests });
    this.at = Math.min(this.at, Math.max(0, this.list.length - 1));
    this.say();
    // A running retest, of this proof or of a descendant.
    const pending = [...answer.retests, ...answer.findings.flatMap((one) => one.retests)].some((one) => !one.result);
    if (pending) this.waiting = setTimeout(() => this.load(), 1500);
  }

  async diagnose() {
    const proof = this.proof();
    if (!proof?.picture || this.going) return;
    const mine = (this.going = watch(`/proofs/${proof.id}/diagnose`, { seconds: this.seconds ?? 20, ...(this.filtered() ? { filtered: "yes" } : {}) }));
    Object.assign(this, { of: proof.id, list: [], at: 0, about: null, problem: "", part: { what: "analysing the picture", share: 0 } });
    this.say();
    try {
      await mine.done((part) => {
        if (mine !== this.going) return;
        this.part = part;
        this.list = part.findings ?? [];
        this.at = Math.min(this.at, Math.max(0, this.list.length - 1));
        this.say();
      });
    } catch (problem) {
      if (mine === this.going) this.problem = problem.message === "Called off." ? "" : problem.message;
    }
    if (mine !== this.going) return;
    this.going = null;
    await this.load();
  }

  async stop(reload = true) {
    const mine = this.going;
    this.going = null;
    await mine?.stop();
    if (reload) {
      this.problem = "The diagnosis was cancelled; these are its findings up to then.";
      this.say();
      // The worker stores it, too; then it can be dismissed.
      this.waiting = setTimeout(() => this.load(), 1200);
    }
  }

  /** Turn to a finding. */
  turn(by) {
    if (!this.list.length) return;
    if (!this.open) return openLeaf("findings");
    this.at = (this.at + by + this.list.length) % this.list.length;
    this.say();
    this.holder.querySelector(".chosen")?.scrollIntoView({ block: "nearest" });
  }

  /** Key: open the tab, and diagnose the proof if that was not done yet. */
  async press() {
    if (this.open) return this.going ? null : this.about ? openLeaf("recipe") : this.diagnose();
    openLeaf("findings");
    await this.load();
    if (!this.about && !this.going) await this.diagnose();
  }

  /** Render a remedy, of the whole picture or only about its finding. */
  async proveRemedy(one, number, region = false) {
    this.problem = "";
    try {
      const { proof } = await post(`/findings/${one.id}/prove`, { remedy: number, ...(region ? { region: "yes" } : {}) });
      await this.started(proof);
    } catch (problem) {
      this.problem = problem.message;
      this.say();
    }
  }

  proveFirst() {
    const one = this.list[this.at], number = one?.remedies.findIndex((remedy) => this.changes(remedy).length) ?? -1;
    if (this.open && one?.id && number >= 0) return this.proveRemedy(one, number);
  }

  /** The light's way to the finding that is turned to, in metres, for the plan. */
  paths() {
    const path = this.open ? this.list[this.at]?.path : null;
    return path?.length > 1 ? [path] : [];
  }

  changes(remedy) {
    return [...Object.keys(remedy.values), ...Object.keys(remedy.edits)];
  }

  // ---- words ------------------------------------------------------------------------------------------------------

  say() {
    const holder = this.holder, proof = this.proof();
    const parts = [];
    for (const one of this.retests ?? []) parts.push(this.retested(one));
    if (this.going) parts.push(this.progress());
    else if (!this.about) parts.push(this.first(proof));
    if (this.problem) parts.push(make("p", { className: "problem", role: "alert", textContent: this.problem }));
    parts.push(make("ol", { className: "found", ariaLabel: `${this.list.length} findings, worst first` }, ...this.list.map((one, k) => this.item(one, k))));
    for (const problem of this.about?.unreadable ?? []) parts.push(make("p", { className: "problem", textContent: problem }));
    if (this.about && !this.about.unreadable?.length && !this.list.length && !this.going) parts.push(make("p", { textContent: "No flaws: differences from brute force are within noise, or not visible." }));
    if (this.about && !this.going) parts.push(this.foot(proof));
    holder.replaceChildren(...parts);
    this.outlines.show(this.list, this.open ? this.at : -1, this.open);
    this.turned();
    $("finding-count").textContent = this.list.filter((one) => !one.dismissed).length || "";
  }

  first(proof) {
    if (!proof?.picture) return make("p", { className: "note", textContent: "When this proof is done, its flaws can be found." });
    const button = make("button", { type: "button", className: "ink", innerHTML: `Diagnose <kbd>${named.findings.shown[0]}</kbd>` });
    button.addEventListener("click", () => this.diagnose());
    return make("div", { className: "first-look" },
      make("p", { textContent: "Finds the flaws of this picture by measurement, proves their causes by small renders with one change at a time, and offers remedies." }),
      make("p", {}, "Trials may take ", this.field(), " s."), button);
  }

  field() {
    const field = make("input", { value: String(this.seconds ?? 20), ariaLabel: "seconds that brute force and trials may take", inputMode: "numeric" });
    field.addEventListener("change", () => (this.seconds = Number(field.value) || 20));
    return field;
  }

  progress() {
    const stop = make("button", { type: "button", className: "plain-ink", innerHTML: "Cancel <kbd>Esc</kbd>" });
    stop.addEventListener("click", () => this.stop());
    return make("div", { className: "on-its-way" }, make("progress", { max: 1, value: this.part.share, ariaLabel: "Progress of the diagnosis" }), stop,
      make("p", { className: "note", role: "status", textContent: this.part.what }));
  }

  retested(one) {
    const link = make("button", { type: "button", className: "link", textContent: `proof ${one.of}` });
    link.addEventListener("click", () => this.choose(one.of));
    const result = one.result;
    return make("div", { className: `retested ${result?.verdict ?? "waits"}` },
      make("p", {}, make("b", { textContent: result ? result.verdict : "being measured…" }), ` ${one.finding} (`, link, ")"),
      make("p", { className: "note", textContent: result?.said ?? "The flaw that this proof should fix is measured again." }));
  }

  item(one, k) {
    const is = k === this.at;
    const head = make("button", { type: "button", className: "finding-head", ariaExpanded: String(is) }, make("b", { textContent: letterOf(k) }),
      make("span", { textContent: one.title }), make("small", { textContent: one.dismissed ? "dismissed" : howBad(one) }));
    head.addEventListener("click", () => {
      this.at = k;
      this.say();
    });
    const line = make("li", { className: `${is ? "chosen" : ""} ${one.dismissed ? "dismissed" : ""}` }, head);
    if (is) line.append(this.body(one));
    line.dataset.kind = one.kind;
    line.dataset.cause = one.cause_key ?? "";
    return line;
  }

  body(one) {
    const parts = [];
    if (one.pictures?.loupe) parts.push(make("img", { className: "loupe", src: small(one.pictures.loupe), alt: "the spot, enlarged" }));
    parts.push(make("p", { textContent: one.why + (one.weak ? " Judged from the picture alone: weaker evidence." : "") }));
    if (one.cause) parts.push(make("p", { className: "cause" }, make("b", { textContent: "Cause: " }), `${one.cause}${one.confidence ? ` (${percent(one.confidence)} sure)` : ""}.`));
    for (const said of one.withdrawn ?? []) parts.push(make("p", { className: "note", textContent: said }));
    if (one.note) parts.push(make("p", { className: "cause" }, make("b", { textContent: one.note })));
    if (one.fed) parts.push(make("p", { className: "note", textContent: one.fed.said }));
    if (one.trials?.length) parts.push(this.trials(one));
    for (const [number, remedy] of one.remedies.entries()) parts.push(this.remedy(one, remedy, number));
    for (const question of one.settles ?? []) parts.push(make("p", { className: "settles", textContent: question }));
    for (const tried of one.retests ?? []) parts.push(this.tried(tried));
    if (one.id) parts.push(this.dismissal(one));
    return make("div", { className: "finding-body" }, ...parts);
  }

  /** The evidence: the trial's small pictures side by side, with the removed share. */
  trials(one) {
    const strip = make("div", { className: "strip" });
    const figure = (picture, words, kind = "") => strip.append(make("figure", { className: kind }, make("img", { src: small(picture), alt: "" }), make("figcaption", { textContent: words })));
    for (const [name, picture] of Object.entries(one.pictures)) if (name !== "loupe") figure(picture, name);
    const struck = [];
    for (const trial of one.trials) {
      const share = trial.explained == null || trial.error >= 1 ? "" : `removes ${Math.round(trial.explained * 100)} ± ${Math.round(trial.error * 100)} % of it`;
      if (trial.picture) figure(trial.picture, share, trial.verdict === "proven" ? "proven" : trial.verdict === "struck off" ? "struck" : "");
      struck.push(make("li", { className: trial.verdict === "struck off" ? "struck" : "" }, make("b", { textContent: `${trial.verdict}: ` }), `${trial.says}${share ? `, ${share}` : ""}`));
    }
    const details = make("details", { className: "why" }, make("summary", { textContent: "Evidence" }), strip, make("ul", {}, ...struck));
    details.open = this.why.has(one.key) || one.trials.some((trial) => trial.verdict === "proven");
    details.addEventListener("toggle", () => (details.open ? this.why.add(one.key) : this.why.delete(one.key)));
    return details;
  }

  remedy(one, remedy, number) {
    const notes = [];
    if (remedy.seconds != null) notes.push(`about ${roughly(remedy.seconds)}`);
    if (remedy.seen != null && one.measure !== "time") notes.push(remedy.seen < one.threshold ? "then invisible" : `then ${Math.round(100 * (1 - remedy.seen / one.seen))} % less`);
    if (remedy.costs) notes.push(remedy.costs);
    const words = [make("span", { textContent: remedy.words }), notes.length ? make("small", { textContent: notes.join(", ") }) : null];
    if (!this.changes(remedy).length || !one.id) return make("p", { className: "remedy-words" }, ...words);
    const first = one.remedies.findIndex((other) => this.changes(other).length) === number;
    const button = make("button", { type: "button", className: "remedy" }, ...words, first ? make("kbd", { textContent: named.proveFirst?.shown[0] ?? "" }) : null);
    button.addEventListener("click", () => this.proveRemedy(one, number));
    if (remedy.seconds == null || remedy.seconds < 10 || !(one.share_of_region < 0.5)) return button;
    const part = make("button", { type: "button", className: "link", textContent: `only here, about ${roughly(remedy.seconds * one.share_of_region)}` });
    part.addEventListener("click", () => this.proveRemedy(one, number, true));
    return make("div", {}, button, part);
  }

  tried(tried) {
    const link = make("button", { type: "button", className: "link", textContent: `Proof ${tried.proof}` });
    link.addEventListener("click", () => this.choose(tried.proof));
    return make("p", { className: `retested ${tried.result?.verdict ?? "waits"}` }, link, `: ${tried.result?.said ?? "on its way."}`);
  }

  dismissal(one) {
    if (one.dismissed) {
      const back = make("button", { type: "button", className: "link", textContent: "undo" });
      back.addEventListener("click", () => this.dismiss(one, ""));
      return make("p", { className: "note" }, `Dismissed in this shot: ${one.dismissed} `, back);
    }
    const reason = make("input", { placeholder: "wanted, because…", ariaLabel: "reason to dismiss this finding", maxLength: 300 });
    const form = make("form", { className: "dismissal" }, reason, make("button", { className: "link", textContent: "dismiss" }));
    form.addEventListener("submit", (event) => {
      event.preventDefault();
      if (reason.value.trim()) this.dismiss(one, reason.value);
      else reason.focus();
    });
    return form;
  }

  async dismiss(one, reason) {
    await post(`/findings/${one.id}/dismiss`, { reason });
    await this.load();
  }

  foot(proof) {
    const again = make("button", { type: "button", className: "link", textContent: "Diagnose again" });
    again.addEventListener("click", () => this.diagnose());
    const left = this.about?.complete ? "" : " Not all causes could be tried in the time.";
    return make("p", { className: "note foot" }, make("a", { href: `/proofs/${proof.id}/report`, textContent: "Report" }), " · ", again, " within ", this.field(), ` s.${left}${this.about?.filtered ? " Judged as the noise filter shows it." : ""} Visible at 67 pixels a degree, at the camera's exposure.`);
  }
}
