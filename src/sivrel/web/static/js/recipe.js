// The recipe in sentences: what was changed stands in red until it is proven; what is not in use is not shown.

const CHECKED = "input:not([type=hidden]), select";

export class RecipeForm {
  constructor() {
    this.holder = document.getElementById("recipe");
    this.onChange = () => {};
    this.holder.addEventListener("input", () => this.say());
    this.holder.addEventListener("reset", () => setTimeout(() => this.say()));
    this.holder.addEventListener("keydown", (event) => {
      if (event.key === "ArrowUp" || event.key === "ArrowDown") this.nudge(event);
    });
    this.say();
  }

  get form() {
    return document.getElementById("recipe-form");
  }

  field(name) {
    return this.form.elements[name];
  }

  /** Show the recipe of `proof`; what was typed and not yet proven is kept, unless `forget`. */
  async load(slug, proof, forget = false) {
    const unproven = forget ? [] : this.changed().map((field) => [field.name, field.value]);
    const answer = await fetch(`/shots/${slug}/recipe?proof=${proof}`);
    if (!answer.ok) return;
    this.holder.innerHTML = await answer.text();
    window.htmx?.process(this.holder);
    for (const [name, value] of unproven) this.field(name).value = value;
    this.say();
  }

  changed() {
    return [...this.form.querySelectorAll(CHECKED)].filter((field) => field.value !== field.dataset.was);
  }

  /** Whether a number field holds what its setting takes. */
  isRight(field) {
    if (field.dataset.min === undefined) return true;
    const value = Number(field.value);
    const whole = field.dataset.whole === undefined || Number.isInteger(value);
    return field.value.trim() !== "" && whole && value >= Number(field.dataset.min) && value <= Number(field.dataset.max);
  }

  say() {
    const changed = this.changed();
    for (const field of this.form.querySelectorAll(CHECKED)) {
      field.classList.toggle("changed", changed.includes(field));
      field.classList.toggle("wrong", !this.isRight(field));
      field.setAttribute("aria-invalid", String(!this.isRight(field)));
    }
    for (const phrase of this.form.querySelectorAll(".phrase")) {
      const needs = Object.entries(JSON.parse(phrase.dataset.needs));
      phrase.hidden = !needs.every(([key, values]) => values.includes(this.field(key).value));
    }
    document.getElementById("undo").hidden = changed.length === 0;
    const parent = this.field("parent").value;
    document.getElementById("changes").textContent = !parent
      ? "the first proof of this shot"
      : changed.length === 0
        ? "no change: proves the same again"
        : changed.length === 1
          ? "1 change against its parent"
          : `${changed.length} changes against its parent; one at a time tells more`;
    this.onChange();
  }

  nudge(event) {
    const field = event.target;
    if (field.dataset.whole === undefined) return;
    event.preventDefault();
    const by = (event.key === "ArrowUp" ? 1 : -1) * (event.shiftKey ? 10 : 1);
    field.value = Math.min(Number(field.dataset.max), Math.max(Number(field.dataset.min), Number(field.value) + by));
    this.say();
  }

  prove() {
    this.form.requestSubmit();
  }

  size() {
    return [Number(this.field("width").value), Number(this.field("height").value)];
  }

  region() {
    const parts = this.field("region").value.split(",").map(Number);
    return parts.length === 4 && parts.every(Number.isFinite) ? parts : null;
  }

  /** Set the region from a box in pixels of a frame of `frame` pixels, or clear it. */
  setRegion(box, frame) {
    let text = "";
    if (box) {
      const [w, h] = this.size();
      const x = (v) => Math.min(w, Math.max(0, Math.round((v / frame[0]) * w)));
      const y = (v) => Math.min(h, Math.max(0, Math.round((v / frame[1]) * h)));
      const [x0, y0, x1, y1] = [x(box[0]), y(box[1]), x(box[2]), y(box[3])];
      if (x1 - x0 > 1 && y1 - y0 > 1) text = [x0, y0, x1, y1].join(",");
    }
    this.field("region").value = text;
    this.say();
  }
}
