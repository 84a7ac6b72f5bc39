// The recipe in sentences: unproven changes are red; settings that are not in use are hidden.
// Edits of lights and objects travel with it, in one hidden field.

import { post } from "./post.js";

const CHECKED = "input:not([type=hidden]):not([type=checkbox]), select:not(#start-from)";
const MOST_STEPS = 200;
const COPIED = "sivrel.copied";
const TYPING_REST = 250; // milliseconds

export class RecipeForm {
  constructor() {
    this.holder = document.getElementById("recipe");
    this.onChange = () => {};
    this.onEdits = () => {};
    this.past = [];
    this.future = [];
    this.holder.addEventListener("input", (event) => event.target.matches(CHECKED) && this.say());
    this.holder.addEventListener("change", (event) => event.target.matches(CHECKED) && this.step());
    this.holder.addEventListener("click", (event) => {
      const act = { undo: () => this.takeAllBack(), back: () => this.undo(), forth: () => this.redo() }[event.target.id];
      act?.();
    });
    this.now = this.snapshot();
    this.say();
  }

  get form() {
    return document.getElementById("recipe-form");
  }

  field(name) {
    return this.form.elements[name];
  }

  /** Edits by key, current and of the parent. */
  get edits() {
    return JSON.parse(this.field("edits").value || "{}");
  }

  get editsBefore() {
    return JSON.parse(this.field("edits").dataset.was || "{}");
  }

  /** Keys of the edits that differ from the parent's. */
  changedEdits() {
    const now = this.edits, was = this.editsBefore;
    return [...new Set([...Object.keys(now), ...Object.keys(was)])].filter((key) => String(now[key] ?? "") !== String(was[key] ?? ""));
  }

  /** Set some edits; an empty value removes an edit. One step of undo, unless `silent`. */
  setEdits(values, silent = false) {
    const edits = this.edits;
    for (const [key, value] of Object.entries(values)) {
      if (value === "" || value == null) delete edits[key];
      else edits[key] = value;
    }
    this.field("edits").value = JSON.stringify(edits);
    this.say();
    if (!silent) this.step();
  }

  /** Remove all edits whose key begins with `start`. */
  dropEdits(start) {
    this.setEdits(Object.fromEntries(Object.keys(this.edits).filter((key) => key.startsWith(start)).map((key) => [key, ""])));
  }

  snapshot() {
    return JSON.stringify([...this.form.querySelectorAll(`${CHECKED}, [name=edits]`)].map((field) => [field.name, field.value]));
  }

  restore(state) {
    for (const [name, value] of JSON.parse(state)) if (this.field(name)) this.field(name).value = value;
    this.now = state;
    this.say();
    this.onEdits();
    this.form.dispatchEvent(new Event("input", { bubbles: true }));
  }

  /** The form has a new state: remember the previous one. */
  step() {
    const state = this.snapshot();
    if (state === this.now) return;
    this.past.push(this.now);
    if (this.past.length > MOST_STEPS) this.past.shift();
    this.future = [];
    this.now = state;
    this.say();
  }

  undo() {
    if (this.past.length) this.goTo(this.past.length - 1);
  }

  redo() {
    if (this.future.length) this.goTo(this.past.length + 1);
  }

  /** Go to a state of the form by its number: those that were undone follow the present one. */
  goTo(number) {
    const states = [...this.past, this.now, ...[...this.future].reverse()];
    this.past = states.slice(0, number);
    this.future = states.slice(number + 1).reverse();
    this.restore(states[number]);
  }

  /** What each step of the history changed, as words, and the number of the present state: {steps, at}; state k is the one after step k. */
  history() {
    const states = [...this.past, this.now, ...[...this.future].reverse()].map((state) => new Map(JSON.parse(state)));
    const steps = states.slice(1).map((state, k) => [...state].filter(([name, value]) => states[k].get(name) !== value)
      .map(([name, value]) => (name === "edits" ? "lights and objects" : `${this.field(name)?.ariaLabel ?? name} ${states[k].get(name) || "none"} → ${value || "none"}`)).join(", "));
    return { steps, at: this.past.length };
  }

  /** Show the steps that can be undone and redone; a click goes to the state after one. */
  sayHistory() {
    const holder = document.getElementById("history");
    if (!holder) return;
    const { steps, at } = this.history();
    holder.hidden = steps.length === 0;
    const line = (words, number) => {
      const button = Object.assign(document.createElement("button"), { type: "button", textContent: words, className: number > at ? "undone" : "" });
      if (number === at) button.setAttribute("aria-current", "step");
      button.addEventListener("click", () => this.goTo(number));
      const item = document.createElement("li");
      item.append(button);
      return item;
    };
    holder.querySelector("ol").replaceChildren(line("as proven", 0), ...steps.map((words, k) => line(words, k + 1)));
  }

  takeAllBack() {
    for (const field of this.form.querySelectorAll(`${CHECKED}, [name=edits]`)) field.value = field.dataset.was;
    this.step();
    this.say();
    this.onEdits();
  }

  /** Show the recipe of `proof`; unproven input is kept, unless `forget`. */
  async load(slug, proof, forget = false) {
    const unproven = forget ? [] : this.changed().map((field) => [field.name, field.value]);
    const now = this.edits, moved = forget ? [] : this.changedEdits().map((key) => [key, now[key] ?? ""]);
    const answer = await fetch(`/shots/${slug}/recipe?proof=${proof}`);
    if (!answer.ok) return;
    this.holder.innerHTML = await answer.text();
    window.htmx?.process(this.holder);
    for (const [name, value] of unproven) this.field(name).value = value;
    this.setEdits(Object.fromEntries(moved), true);
    this.past = [];
    this.future = [];
    this.now = this.snapshot();
    this.say();
    this.onEdits();
  }

  changed() {
    return [...this.form.querySelectorAll(CHECKED)].filter((field) => field.value !== field.dataset.was);
  }

  /** The effects of the limits on the current proof, beside the limits. */
  sayMeters(sentences) {
    const holder = this.holder.querySelector(".meters");
    const line = (text) => Object.assign(document.createElement("p"), { className: "note", textContent: text });
    holder?.replaceChildren(...(sentences ?? []).map(line));
  }

  /** Whether a number field has a valid value. */
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
      // “!0” means any number but 0.
      const meets = (value, wanted) => (wanted === "!0" ? Number(value) !== 0 : value === wanted);
      const any = (keys, values) => keys.split("|").some((key) => values.some((wanted) => meets(this.field(key).value, wanted)));
      phrase.hidden = !needs.every(([keys, values]) => any(keys, values));
    }
    // A question without visible settings is hidden.
    for (const group of this.form.querySelectorAll("fieldset:has(.phrase)")) group.hidden = !group.querySelector(".phrase:not([hidden])");
    // A camera move is one change, however many numbers it has.
    const edits = new Set(this.changedEdits().map((key) => (key.startsWith("camera.") ? key.slice(0, key.lastIndexOf(".")) : key)));
    const cameras = [...edits].filter((key) => key.startsWith("camera.")).length, count = changed.length + edits.size;
    document.getElementById("camera-moved").hidden = !cameras;
    document.getElementById("undo").hidden = count < 2;
    document.getElementById("back").hidden = this.past.length === 0;
    document.getElementById("forth").hidden = this.future.length === 0;
    document.getElementById("edit-count").textContent = edits.size - cameras || "";
    const parent = this.field("parent").value;
    document.getElementById("changes").textContent = !parent
      ? "the first proof of this shot"
      : count === 0
        ? "no change: proves the same again"
        : count === 1
          ? "1 change against its parent"
          : `${count} changes against its parent; one at a time shows more`;
    document.getElementById("one-by-one").hidden = !parent || count < 2;
    this.sayHistory();
    clearTimeout(this.forecasting);
    this.forecasting = setTimeout(() => this.forecast(), TYPING_REST);
    this.onChange();
  }

  /** Show the forecast of the render beside the button. */
  async forecast() {
    const place = document.getElementById("forecast"), asked = new FormData(this.form);
    if (!place) return;
    const forecast = await post(place.dataset.address, asked).catch(() => ({ says: "", why: "" })); // a wrong number is red already
    if (document.getElementById("forecast") !== place) return;
    place.textContent = forecast.says;
    place.title = forecast.why;
  }

  prove() {
    this.form.requestSubmit();
  }

  /** Prove each change by itself, in turn. */
  proveOneByOne() {
    this.form.requestSubmit(document.getElementById("one-by-one"));
  }

  /** Apply values by key, as far as the form has them: one step of undo. */
  setValues(values) {
    for (const [key, value] of Object.entries(values)) if (this.field(key)) this.field(key).value = value;
    this.say();
    this.step();
    this.form.dispatchEvent(new Event("input", { bubbles: true }));
  }

  /** Keep the settings of the form, for this shot or another; how many. */
  copy() {
    const values = Object.fromEntries([...this.form.querySelectorAll("[name*='.']")].map((field) => [field.name, field.value]));
    localStorage.setItem(COPIED, JSON.stringify(values));
    navigator.clipboard?.writeText(JSON.stringify(values, null, 1)).catch(() => {}); // only for other programs
    return Object.keys(values).length;
  }

  /** Apply the settings that were copied, as one step; the words of those that differ, or null if none were copied. */
  paste() {
    const values = JSON.parse(localStorage.getItem(COPIED) ?? "null");
    if (!values) return null;
    const other = Object.entries(values).filter(([key, value]) => this.field(key) && this.field(key).value !== value);
    const words = other.map(([key, value]) => `${this.field(key).ariaLabel} ${value}`);
    this.setValues(Object.fromEntries(other));
    return words;
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
