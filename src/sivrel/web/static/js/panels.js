// The panels about the plate: where they stand, how large they are, and what is put away. The browser remembers it.

import { $ } from "./dom.js";

const KEPT = "sivrel.panels";
const PLAIN = { arrange: "foot", lineage: 240, foot: 89, recipe: 264, away: [], ledger: false };
const LIMITS = { lineage: [150, 520], foot: [70, 420], recipe: [220, 620] };

export class Panels {
  /** `places` is the grid of lineage, plate and recipe; the plate watches its own size. */
  constructor(places) {
    this.places = places; this.bare = false;
    try {
      this.state = { ...PLAIN, ...JSON.parse(localStorage.getItem(KEPT) ?? "{}") };
    } catch {
      this.state = { ...PLAIN };
    }
    for (const [panel, split] of [["lineage", $("split-lineage")], ["recipe", $("split-recipe")]]) this.follow(panel, split);
    this.apply();
  }

  /** The size that a divider changes: the lineage has one along the foot and one at the side. */
  sizeOf(panel) {
    return panel === "lineage" && this.state.arrange === "foot" ? "foot" : panel;
  }

  apply() {
    const { arrange, away, ledger } = this.state, { places } = this;
    places.dataset.arrange = arrange;
    document.body.classList.toggle("only-picture", this.bare);
    places.classList.toggle("open-ledger", ledger);
    for (const panel of ["lineage", "recipe"]) {
      const gone = away.includes(panel), size = this.sizeOf(panel), split = $(`split-${panel}`);
      places.classList.toggle(`no-${panel}`, gone);
      document.querySelector(`[data-do=${panel}Panel]`)?.setAttribute("aria-pressed", String(!gone));
      places.style.setProperty(`--${size}`, `${this.state[size]}px`);
      split.setAttribute("aria-orientation", size === "foot" ? "horizontal" : "vertical");
      for (const [name, value] of Object.entries({ valuenow: this.state[size], valuemin: LIMITS[size][0], valuemax: LIMITS[size][1] })) split.setAttribute(`aria-${name}`, String(value));
    }
    const opener = document.querySelector("[data-do=ledger]");
    opener.setAttribute("aria-pressed", String(ledger));
    opener.textContent = ledger ? "▾" : "▴";
    if (!this.bare) localStorage.setItem(KEPT, JSON.stringify(this.state));
  }

  resize(panel, size) {
    const name = this.sizeOf(panel), [least, most] = LIMITS[name];
    this.state[name] = Math.round(Math.min(most, Math.max(least, size)));
    this.apply();
  }

  /** A divider is dragged, moved by arrows, and reset by a double click. */
  follow(panel, split) {
    const sign = () => (panel === "lineage" && this.state.arrange === "side" ? 1 : -1); // the lineage at the side is left of its divider
    const along = (event) => (this.sizeOf(panel) === "foot" ? event.clientY : event.clientX);
    let start = null;
    split.addEventListener("pointerdown", (event) => {
      split.setPointerCapture(event.pointerId);
      start = { at: along(event), size: this.state[this.sizeOf(panel)] };
    });
    split.addEventListener("pointermove", (event) => start && this.resize(panel, start.size + sign() * (along(event) - start.at)));
    for (const end of ["pointerup", "pointercancel"]) split.addEventListener(end, () => (start = null));
    split.addEventListener("dblclick", () => this.resize(panel, PLAIN[this.sizeOf(panel)]));
    split.addEventListener("keydown", (event) => {
      const by = { ArrowLeft: -16, ArrowUp: -16, ArrowRight: 16, ArrowDown: 16 }[event.key];
      if (!by) return;
      event.preventDefault();
      this.resize(panel, this.state[this.sizeOf(panel)] + sign() * by);
    });
  }

  /** Put a panel away, or bring it back. */
  toggle(panel) {
    if (this.bare) return this.only();
    const { away } = this.state;
    this.state.away = away.includes(panel) ? away.filter((one) => one !== panel) : [...away, panel];
    this.apply();
  }

  /** Bring a panel back, if it is away. */
  show(panel) {
    this.bare = false;
    this.state.away = this.state.away.filter((one) => one !== panel);
    this.apply();
  }

  arrange() {
    this.state.arrange = this.state.arrange === "foot" ? "side" : "foot";
    this.show("lineage");
  }

  ledger() {
    this.state.ledger = !this.state.ledger;
    this.apply();
  }

  /** Only the picture, or everything as it was. */
  only() {
    this.bare = !this.bare;
    this.apply();
  }
}

/** The whole text of a card beside it, while the pointer or the focus is on it. */
export function followCards(holder, more) {
  let shown = null;
  const leave = () => {
    shown = null;
    more.hidden = true;
  };
  const enter = (event) => {
    const card = event.target.closest?.(".card");
    if (!card || card === shown) return;
    shown = card;
    const parts = [".said", ".more"].map((part) => card.querySelector(part).cloneNode(true));
    more.replaceChildren(...parts);
    more.hidden = false;
    const box = card.getBoundingClientRect(), own = more.getBoundingClientRect();
    const beside = card.closest(".places").dataset.arrange === "side";
    more.style.left = `${Math.max(4, Math.min(innerWidth - own.width - 4, beside ? box.right + 6 : box.left))}px`;
    more.style.top = `${Math.max(4, Math.min(innerHeight - own.height - 4, beside ? box.top : box.top - own.height - 6))}px`;
  };
  for (const name of ["pointerover", "focusin"]) holder.addEventListener(name, enter);
  for (const name of ["pointerleave", "focusout"]) holder.addEventListener(name, leave);
  holder.addEventListener("scroll", leave, true);
  addEventListener("blur", leave);
}
