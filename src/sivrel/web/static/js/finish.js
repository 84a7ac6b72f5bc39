// Finishing: how the picture is shown and saved. It applies to the plate at once and is stored with the shot.

import { PLAIN } from "./plate.js";
import { ask, post, watch } from "./post.js";

const KEPT_AFTER = 600; // milliseconds without a change
const SLIDERS = ["temperature", "tint", "highlights", "shadows", "contrast", "saturation", "sharpening"];

export class FinishPanel {
  /** `exposure(stops)` sets the plate's; `picture()` is the digest on it, `pass()` the shown pass. */
  constructor(slug, plate, { exposure, picture, pass }) {
    this.slug = slug; this.plate = plate; this.exposure = exposure; this.picture = picture; this.pass = pass;
    this.holder = document.getElementById("finish");
    this.holder.addEventListener("input", (event) => event.target.type === "range" && this.moved());
    this.holder.addEventListener("click", (event) => this[event.target.closest("[data-finish]")?.dataset.finish]?.());
    this.moved(false);
  }

  field(name) {
    return this.holder.querySelector(`[name=${name}]`);
  }

  /** Whether a slider is where it changes nothing, which may lie between two of its steps. */
  isPlain(name) {
    const field = this.field(name);
    return Math.abs(Number(field.value) - Number(field.dataset.plain)) < Number(field.step) / 2;
  }

  /** The current values. */
  values() {
    return Object.fromEntries(SLIDERS.map((name) => [name, this.isPlain(name) ? Number(this.field(name).dataset.plain) : Number(this.field(name).value)]));
  }

  async moved(byHand = true) {
    const values = this.values();
    for (const name of SLIDERS) {
      const field = this.field(name), changed = !this.isPlain(name);
      field.parentElement.querySelector("output").textContent = String(values[name]);
      field.parentElement.classList.toggle("changed", changed);
    }
    this.plate.finish = { ...values, white: this.plate.finish.white };
    this.plate.draw();
    if (byHand) {
      clearTimeout(this.keeping);
      this.keeping = setTimeout(() => this.keep(), KEPT_AFTER);
    }
    const mine = (this.asking = {});
    const { temperature, tint } = values;
    if (temperature === PLAIN.temperature && tint === 0) this.plate.finish.white = PLAIN.white;
    else {
      const answer = await fetch(`/white.json?${new URLSearchParams({ temperature: String(temperature), tint: String(tint) })}`);
      if (!answer.ok || mine !== this.asking) return;
      this.plate.finish.white = (await answer.json()).matrix;
    }
    this.plate.draw();
  }

  /** Downloads of a proof besides its PNG. */
  offer(proof) {
    this.proof = proof;
    for (const [kind, address] of [["exr", `/proofs/${proof?.id}/picture.exr`], ["recipe", `/proofs/${proof?.id}/recipe.json`]]) {
      const link = document.querySelector(`[data-take=${kind}]`);
      link.hidden = !proof || (kind === "exr" && !proof.picture);
      link.href = address;
    }
  }

  keep() {
    const view = document.getElementById("view").value;
    return post(`/shots/${this.slug}/finish`, { ...this.values(), view });
  }

  /** The picture's automatic exposure. */
  async measure() {
    if (!this.picture()) return;
    const answer = await fetch(`/pictures/${this.picture()}/exposure.json`);
    if (answer.ok) this.exposure((await answer.json()).exposure);
  }

  plain() {
    for (const name of SLIDERS) this.field(name).value = this.field(name).dataset.plain;
    this.moved();
  }

  /** Save the EXR with passes that are also filtered. */
  async saveFiltered() {
    const proof = this.proof;
    if (!proof?.picture) return;
    const note = document.getElementById("filter-note");
    note.textContent = "Filtering the passes…";
    try {
      await ask(`/proofs/${proof.id}/filter`, { exr: "yes" });
      note.textContent = "";
      Object.assign(document.createElement("a"), { href: `/proofs/${proof.id}/picture.exr?filtered`, download: "" }).click();
    } catch (problem) {
      note.textContent = problem.message;
    }
  }

  /** Make and save mattes for compositing. */
  async mattes() {
    const proof = this.proof, note = document.getElementById("filter-note"), by = document.getElementById("mattes-by").value;
    if (!proof?.picture) return;
    note.textContent = "Tracing mattes…";
    try {
      await watch(`/proofs/${proof.id}/mattes`, { by }).done((part) => (note.textContent = `Tracing mattes, ${Math.round(100 * part.share)} %`));
      note.textContent = "";
      Object.assign(document.createElement("a"), { href: `/proofs/${proof.id}/mattes-${by}.exr`, download: "" }).click();
    } catch (problem) {
      note.textContent = problem.message;
    }
  }

  /** Save what is on the plate, finished, under the names of its shot and proof. */
  save() {
    if (!this.picture() || !this.proof) return;
    const filtered = this.pass() === "filtered" ? { pass: "filtered" } : {};
    const view = document.getElementById("view").value;
    const query = new URLSearchParams({ ...this.values(), exposure: this.plate.exposure, view, ...filtered });
    const kind = document.getElementById("save-kind").value;
    Object.assign(document.createElement("a"), { href: `/proofs/${this.proof.id}/picture.${kind}?${query}`, download: "" }).click();
  }
}
