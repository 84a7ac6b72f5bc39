// The state of the recipe's caches for this shot, shown beside their settings.

import { inSeconds } from "./format.js";
import { ask } from "./post.js";

const REST = 350; // milliseconds without a change before it is asked

/** One way's state as a sentence. */
export function wayInWords(row) {
  const name = `The ${row.kind}`, held = row.count == null ? "" : ` (${row.count.toLocaleString("en").replaceAll(",", " ")} ${row.unit})`;
  if (row.locked) return `${name}${held} is locked: it is used whatever changes.${row.because ? ` Since it was made, ${row.because} changed.` : ""}`;
  if (row.added) return `${name}${held} exists, and will be extended for this camera.`;
  if (row.ready) return `${name}${held} is ready (saves ${inSeconds(row.seconds)}).`;
  if (row.seconds == null) return `${name} must be made before the first pixel; there is none for this shot yet.`;
  const why = row.because && row.because !== "settings" ? `, since ${row.because} changed` : "";
  return `${name} must be remade before the first pixel${why}: the last one took ${inSeconds(row.seconds)}.`;
}

export class WaysState {
  constructor(slug, recipe) {
    this.slug = slug; this.recipe = recipe; this.timer = 0; this.asked = ""; this.rows = [];
  }

  /** Why a cache of this recipe is stale, as a sentence; empty if none is. */
  stale() {
    const row = this.rows.find((one) => !one.ready && !one.locked && one.seconds != null && one.because && one.because !== "settings");
    return row ? wayInWords(row) : "";
  }

  /** The recipe may have changed. */
  renew() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.ask(), REST);
  }

  /** A render ended: a cache may have been made. */
  renewWhole() {
    this.asked = "";
    this.renew();
  }

  async ask() {
    const holder = this.recipe.holder.querySelector(".ways-state");
    if (!holder) return;
    const value = (name) => this.recipe.field(name)?.value, beyond = this.recipe.field("gi.beyond")?.closest(".phrase");
    const preparing = JSON.parse(holder.dataset.preparing);
    const used = preparing.includes(value("gi.seen")) || (preparing.includes(value("gi.beyond")) && !beyond.hidden) || value("caustics.on") === "yes";
    if (!used) {
      this.asked = "";
      this.rows = [];
      return holder.replaceChildren();
    }
    const fields = new URLSearchParams([...new FormData(this.recipe.form)].filter(([name]) => name !== "csrf_token").map(([name, value]) => [name, String(value)]));
    if (this.asked === fields.toString() && holder.children.length) return;
    this.asked = fields.toString();
    try {
      const { ways } = await ask(`/shots/${this.slug}/ways`, fields);
      if (this.asked !== fields.toString()) return;
      this.rows = ways;
      holder.replaceChildren(...ways.map((row) => Object.assign(document.createElement("p"), { className: "note", textContent: wayInWords(row) })));
    } catch {
      holder.replaceChildren(); // a number is wrong, and its field says so
    }
  }
}
