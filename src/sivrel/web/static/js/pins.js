// Pins: points and boxes on the plate that are watched through all proofs.

import { $, make } from "./dom.js";
import { percentToTenth } from "./format.js";
import { post } from "./post.js";
import { json } from "./watcher.js";

const SVG = "http://www.w3.org/2000/svg";

export class Pins {
  /** `chosen()` is the proof on the plate, `choose(id)` puts another there. */
  constructor(plate, slug, chosen, choose) {
    this.plate = plate; this.slug = slug; this.chosen = chosen; this.choose = choose; this.on = false; this.pins = [];
    $("pins").addEventListener("click", (event) => this.click(event));
    $("pins").addEventListener("change", (event) => event.target.matches("input") && this.rename(event.target));
  }

  show(on) {
    this.on = on;
    $("stage").classList.toggle("pinning", on);
  }

  /** Add a pin from a press and release of the pointer, in pixels of the frame. */
  async add(box) {
    const [w, h] = this.plate.frame, clip = (v) => Math.min(1, Math.max(0, v));
    const shares = [clip(box[0] / w), clip(box[1] / h), clip(box[2] / w), clip(box[3] / h)];
    const small = (box[2] - box[0]) * this.plate.zoom < 4 && (box[3] - box[1]) * this.plate.zoom < 4;
    if (small) [shares[2], shares[3]] = [shares[0], shares[1]];
    await post(`/shots/${this.slug}/pins`, { box: shares.join(","), proof: this.chosen()?.id ?? "" });
    await this.load();
  }

  async load() {
    const { pins } = await json(`/shots/${this.slug}/pins.json?proof=${this.chosen()?.id ?? 0}`);
    this.pins = pins;
    this.list();
    this.draw();
    clearTimeout(this.waiting);
    // Missing readings are being made.
    const unread = Math.max(0, ...pins.map((pin) => pin.unread));
    if (unread) this.waiting = setTimeout(() => this.load(), unread < 50 ? 700 : 3000);
  }

  /** Marks on the plate: where each pin is, with its number. */
  draw() {
    const holder = $("pin-marks"), scale = devicePixelRatio || 1;
    const [left, top, width, height] = this.plate.place().map((v) => v / scale);
    if (holder.children.length !== this.pins.length) holder.replaceChildren(...this.pins.map(() => make("div", { className: "pin-mark" })));
    for (const [k, pin] of this.pins.entries()) {
      const mark = holder.children[k], [x0, y0, x1, y1] = pin.box;
      const spot = x0 === x1 && y0 === y1;
      mark.classList.toggle("spot", spot);
      mark.dataset.number = k + 1;
      mark.hidden = this.chosen()?.view !== pin.view;
      Object.assign(mark.style, {
        left: `${left + x0 * width}px`, top: `${top + y0 * height}px`,
        width: spot ? "" : `${(x1 - x0) * width}px`, height: spot ? "" : `${(y1 - y0) * height}px`,
      });
    }
  }

  list() {
    const holder = $("pins");
    if (!this.pins.length) {
      holder.replaceChildren(make("p", { className: "note", textContent: "No pins yet. Press I and click a point, or drag a box, on the plate: its light, colour and noise are read on every proof, old and new." }));
      return;
    }
    holder.replaceChildren(...this.pins.map((pin, k) => this.line(pin, k + 1)));
  }

  line(pin, number) {
    const now = pin.readings.find((reading) => reading.proof === this.chosen()?.id);
    const swatch = make("i", { className: "swatch", title: now ? `linear ${now.colour.map((c) => c.toPrecision(3)).join(" ")}` : "" });
    if (now) {
      const most = Math.max(...now.colour, 1e-9);
      swatch.style.background = `rgb(${now.colour.map((c) => Math.round(255 * Math.max(0, c / most) ** (1 / 2.2))).join(" ")})`;
    }
    const visible = now?.visible == null ? "" : `, ${now.visible.toFixed(3)} visible against its parent`;
    const figures = now ? `${now.luminance.toPrecision(4)}${now.noise == null ? "" : ` ± ${percentToTenth(now.noise)}`}${visible}` : pin.unread ? "being read…" : "not in this proof";
    return make(
      "div", { className: "pin" },
      make("p", {},
        make("b", { textContent: number }), swatch,
        Object.assign(make("input", { value: pin.name, ariaLabel: `name of pin ${number}` }), { autocomplete: "off" }),
        make("button", { type: "button", className: "remove", textContent: "×", ariaLabel: `take pin ${number} out` })),
      make("p", { className: "figures", textContent: figures }),
      this.chart(pin),
    );
  }

  /** Luminance through the proofs, oldest left, with its noise; a click goes to the proof. */
  chart(pin) {
    const width = 236, height = 44, readings = pin.readings, now = this.chosen()?.id;
    const svg = document.createElementNS(SVG, "svg");
    svg.setAttribute("viewBox", `0 0 ${width} ${height}`);
    svg.setAttribute("role", "img");
    if (!readings.length) return svg;
    const high = Math.max(...readings.map((r) => r.luminance * (1 + (r.noise ?? 0))), 1e-12);
    const low = Math.min(...readings.map((r) => r.luminance * (1 - Math.min(1, r.noise ?? 0))));
    const x = (k) => 5 + (readings.length > 1 ? (k / (readings.length - 1)) * (width - 10) : width / 2 - 5);
    const y = (v) => height - 5 - ((v - low) / (high - low || 1)) * (height - 10);
    svg.setAttribute("aria-label", `luminance of ${pin.name} from ${low.toPrecision(3)} to ${high.toPrecision(3)} over ${readings.length} proofs`);
    const part = (tag, fields) => {
      const element = document.createElementNS(SVG, tag);
      for (const [key, value] of Object.entries(fields)) element.setAttribute(key, value);
      svg.append(element);
      return element;
    };
    part("polyline", { class: "line", points: readings.map((r, k) => `${x(k).toFixed(1)},${y(r.luminance).toFixed(1)}`).join(" ") });
    for (const [k, r] of readings.entries()) {
      const off = r.luminance * Math.min(1, r.noise ?? 0);
      part("line", { class: "spread", x1: x(k), x2: x(k), y1: y(r.luminance - off), y2: y(r.luminance + off) });
      const dot = part("circle", { cx: x(k), cy: y(r.luminance), r: r.proof === now ? 4 : 2.4, class: r.proof === now ? "now" : "" });
      dot.dataset.proof = r.proof;
      dot.append(document.createElementNS(SVG, "title"));
      dot.firstChild.textContent = `proof ${r.proof}: ${r.luminance.toPrecision(4)}`;
    }
    return svg;
  }

  async click(event) {
    const dot = event.target.closest("circle[data-proof]");
    if (dot) return this.choose(Number(dot.dataset.proof));
    const pin = this.of(event.target);
    if (!pin || !event.target.closest(".remove")) return;
    await post(`/pins/${pin.id}/remove`);
    await this.load();
  }

  of(element) {
    const line = element.closest(".pin");
    return line ? this.pins[[...$("pins").children].indexOf(line)] : null;
  }

  async rename(field) {
    const pin = this.of(field);
    if (pin) await post(`/pins/${pin.id}`, { name: field.value });
  }
}
