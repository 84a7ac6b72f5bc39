// Live previews: while a value is dragged, the plate shows the latest request; earlier ones are dropped.

import { $ } from "./dom.js";
import { wantsFiltered } from "./filtering.js";
import { post } from "./post.js";
import { Picture } from "./plate.js";

const MOST = 2_100_000; // pixels of a preview that fills the plate: those of 1920 x 1080
const HEAD = 36; // bytes: number, width, height, window as int32, samples as a float, whether it is filtered as int32

export class Moments {
  /** `ended()` restores the plate. */
  constructor(plate, slug, recipe, ended) {
    this.plate = plate; this.slug = slug; this.recipe = recipe; this.ended = ended; this.on = false; this.shown = false;
    this.client = [...crypto.getRandomValues(new Uint8Array(8))].map((byte) => byte.toString(16).padStart(2, "0")).join("");
    this.number = 0;
    this.samples = -1;
    addEventListener("pagehide", () => this.shown && navigator.sendBeacon(this.address("/forget"), this.token()));
  }

  address(rest = "") {
    return `/moments/${this.client}${rest}`;
  }

  token() {
    const form = new FormData();
    form.set("csrf_token", document.querySelector("meta[name=csrf]").content);
    return form;
  }

  /** Turn live rendering of every recipe change on or off. */
  toggle() {
    this.on = !this.on;
    if (this.on) this.wish();
    else this.stop();
    return this.on;
  }

  /** Render the current form. While a request is being sent, only the latest one after it is sent next. */
  async wish(draft = false) {
    this.wanted = { draft };
    if (this.sending) return;
    this.sending = true;
    while (this.wanted) {
      const { draft: rough } = this.wanted;
      this.wanted = null;
      try {
        const fields = new FormData(this.recipe.form);
        if (wantsFiltered()) fields.set("filtered", "1");
        if (!fields.get("region") || rough) this.fill(fields);
        if (rough) {
          fields.set("draft", "1");
          fields.set("region", "");
        }
        const { number } = await post(`/shots/${this.slug}/moment?client=${this.client}`, fields);
        this.number = number;
        this.samples = -1;
        if (!this.shown) this.begin();
      } catch (problem) {
        this.say(problem.message);
        this.shown ||= true;
      }
    }
    this.sending = false;
  }

  /** Let the whole frame have the pixels of the plate: the first pictures are coarse whatever its size, so that this costs no waiting. */
  fill(fields) {
    const { plate } = this, [width, height] = this.recipe.size();
    if (!plate.fitted) return;
    const scale = Math.min(plate.canvas.width / width, plate.canvas.height / height, Math.sqrt(MOST / (width * height)));
    if (scale <= 1) return;
    fields.set("width", String(Math.floor(width * scale)));
    fields.set("height", String(Math.floor(height * scale)));
  }

  async begin() {
    this.shown = true;
    const mine = (this.following = {});
    while (this.following === mine) {
      try {
        await this.fetch(mine);
      } catch {
        this.say("Sivrel does not answer; nothing is lost.");
      }
      await new Promise((done) => setTimeout(done, this.samples > 0 && this.samples >= this.most() ? 200 : 30));
    }
  }

  most() {
    return Number(this.recipe.field("sampling.max").value);
  }

  async fetch(mine) {
    const answer = await fetch(`${this.address()}?number=${this.number}&samples=${this.samples}`);
    if (this.following !== mine) return;
    const says = decodeURIComponent(answer.headers.get("X-Sivrel-Says") ?? "");
    if (answer.status !== 200) {
      if (says && says !== "rendering") this.say(says);
      return;
    }
    const bytes = await answer.arrayBuffer();
    const [number, width, height, ...window] = new Int32Array(bytes, 0, 7);
    if (this.following !== mine || number !== this.number) return;
    const [filtered] = new Int32Array(bytes, 32, 1);
    this.samples = new Float32Array(bytes, 28, 1)[0];
    const picture = new Picture({ width, height, window, halves: new Uint16Array(bytes, HEAD) });
    this.plate.setPicture(0, picture);
    const fine = this.samples < 1 ? `one sample for ${Math.round(1 / this.samples)} pixels` : `${this.samples} of ${this.most()} samples`;
    this.say(`Live at ${width} × ${height}, ${fine}${filtered ? ", filtered" : ""}; not kept: ⏎ proves it.`);
  }

  say(text) {
    $("moment").hidden = !text;
    $("moment").textContent = text;
  }

  /** End the live preview and restore the plate. */
  async stop(back = true) {
    this.following = null;
    this.wanted = null;
    this.say("");
    if (!this.shown) return;
    this.shown = false;
    post(this.address("/forget")).catch(() => {});
    if (back) await this.ended();
  }
}
