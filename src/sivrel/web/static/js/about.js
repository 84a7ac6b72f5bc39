// A setting that has the focus explains itself at the foot of its panel: what it trades, a drawing, and what was measured on this shot.

import { $, make } from "./dom.js";
import { drawingOf } from "./drawings.js";

const REST = 180; // milliseconds

export class About {
  /** `proof()` is the number of the proof on the plate. */
  constructor(proof) {
    this.proof = proof; this.key = ""; this.known = {};
    for (const holder of [$("recipe"), $("lights")]) {
      holder.addEventListener("focusin", (event) => this.on(event.target));
      holder.addEventListener("input", (event) => this.key && (event.target.name === this.key || event.target.dataset.edit === this.key) && this.draw(event.target));
    }
    document.addEventListener("focusin", (event) => event.target.closest("#recipe, #lights, #about") || this.off());
    document.addEventListener("sivrel:leaf", () => this.off());
    $("about").addEventListener("click", (event) => event.target.closest("[data-close]") && this.off());
  }

  off() {
    this.key = "";
    $("about").hidden = true;
  }

  on(field) {
    const key = field.dataset.edit ?? (field.name?.includes(".") ? field.name : "");
    if (!key) return this.off();
    this.key = key;
    clearTimeout(this.waiting);
    this.waiting = setTimeout(() => this.show(field), REST);
  }

  async show(field) {
    const key = this.key;
    if (!key) return;
    let info = { name: field.ariaLabel, trades: field.title, measured: [] };
    if (!field.dataset.edit) {
      const address = `/explain.json?${new URLSearchParams({ key, proof: String(this.proof() ?? "") })}`;
      this.known[address] ??= fetch(address).then((answer) => (answer.ok ? answer.json() : info)).catch(() => info);
      info = await this.known[address];
      if (this.key !== key) return;
    }
    const close = make("button", { type: "button", textContent: "×", ariaLabel: "close" });
    close.dataset.close = "";
    $("about").replaceChildren(
      make("p", {}, make("b", { textContent: info.name }), info.range ? ` ${info.range}${info.default ? `; ${info.default} as shipped` : ""}` : ""), close,
      make("div", { className: "drawing" }), make("p", { textContent: info.trades }),
      ...(info.measured.length ? [make("ul", {}, ...info.measured.map((words) => make("li", { textContent: words })))] : []));
    this.draw(field);
    $("about").hidden = false;
    // It covers the foot of the panel, and must not cover what it is about.
    if (field.getBoundingClientRect().bottom > $("about").getBoundingClientRect().top) field.scrollIntoView({ block: "center" });
  }

  draw(field) {
    const drawing = document.querySelector("#about .drawing");
    if (drawing) drawing.innerHTML = drawingOf(this.key, field.value);
  }
}
