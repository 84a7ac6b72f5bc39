// Plan and section drawn from the real cut of the scene, to scale, with the findings. Dashed lines show where the other one is cut.

import { View, make } from "./plan.js";

const NICE = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 500, 1000];

export class Sections {
  /** `ask(cut, mended)` draws; `choose(number)` selects a finding; `stand(place)` is called for a click on the plan. */
  constructor(holder, { ask, choose, stand }) {
    this.holder = holder; this.askFor = ask; this.onChoose = choose; this.onStand = stand; this.cut = {}; this.findings = [];
    this.chosen = 0; this.stood = null; this.flipped = false;
    holder.addEventListener("pointerdown", (event) => this.grab(event));
    holder.addEventListener("keydown", (event) => this.nudge(event));
    new ResizeObserver(() => this.drawing && this.draw()).observe(holder);
  }

  /** Request the drawing again, with and without the fixes; the latest wins. */
  async renew() {
    const mine = (this.last = {});
    try {
      const drawing = await this.askFor(this.cut, true);
      if (mine !== this.last) return;
      this.drawing = this.flipped ? this.drawing : drawing;
      this.mended = drawing;
      this.was = null;
      this.draw();
    } catch (problem) {
      if (mine === this.last) this.holder.textContent = problem.message;
    }
  }

  async flip(on) {
    this.flipped = on;
    if (!this.mended) return;
    if (on && !this.was) this.was = await this.askFor(this.cut, false).catch(() => this.mended);
    this.drawing = this.flipped ? this.was : this.mended;
    this.draw();
  }

  /** Cut plan and section through a place. */
  cutThrough([x, y, z]) {
    if (!this.drawing) return;
    const ahead = this.drawing.plan.up;
    this.cut = { height: y, behind: x * ahead[0] + y * ahead[1] + z * ahead[2] - 0.01 };
    this.renew();
  }

  raise(by) {
    if (!this.drawing) return;
    this.cut = { ...this.cut, height: this.drawing.plan.centre[1] + by };
    this.renew();
  }

  draw() {
    const box = this.holder.getBoundingClientRect(), [a, b] = [this.drawing.plan.half, this.drawing.elevation.half], high = box.height - 56;
    // One above the other or side by side, whichever draws larger.
    const stacked = Math.min(box.width / 2 / Math.max(a[0], b[0]), high / 2 / (a[1] + b[1]));
    const beside = Math.min((box.width - 14) / 2 / (a[0] + b[0]), high / 2 / Math.max(a[1], b[1]));
    this.holder.classList.toggle("stacked", stacked >= beside);
    this.holder.style.setProperty("--rows", `${a[1]}fr ${b[1]}fr`);
    this.holder.style.setProperty("--columns", `${a[0]}fr ${b[0]}fr`);
    this.holder.replaceChildren();
    const level = this.drawing.plan.centre[1], ahead = this.drawing.plan.up, depth = this.drawing.elevation.centre.reduce((sum, v, k) => sum + v * ahead[k], 0);
    const titles = [`plan, cut ${level.toFixed(2)} m high`, `section, cut ${depth.toFixed(2)} m along ${Math.abs(ahead[0]) > 0.5 ? "x" : "z"}`];
    this.views = [this.drawing.plan, this.drawing.elevation].map((drawing, k) => {
      const view = new View(drawing, titles[k]);
      const figure = document.createElement("figure"), caption = document.createElement("figcaption");
      const [w, h] = view.size;
      view.svg = make("svg", { viewBox: `0 0 ${w} ${h}`, preserveAspectRatio: "xMidYMid meet", role: "group", "aria-label": `${titles[k]}, ${w.toFixed(1)} by ${h.toFixed(1)} metres` });
      view.svg.dataset.view = k;
      view.svg.style.aspectRatio = `${w} / ${h}`;
      const picture = make("image", { x: 0, y: 0, width: w, height: h, preserveAspectRatio: "none", class: "tones" }, view.svg);
      picture.setAttribute("href", view.picture);
      const clip = make("svg", { x: 0, y: 0, width: w, height: h, viewBox: `0 0 ${w} ${h}` }, view.svg);
      view.lines = make("path", { d: view.lines, class: "cut" }, clip);
      view.layer = make("g", {}, view.svg);
      caption.textContent = `${titles[k]} · ${w.toFixed(1)} × ${h.toFixed(1)} m${this.flipped ? " · before the fixes" : ""}`;
      figure.append(view.svg, caption);
      this.holder.append(figure);
      return view;
    });
    this.mark();
  }

  mark() {
    if (!this.views) return;
    for (const [k, view] of this.views.entries()) {
      const box = view.svg.getBoundingClientRect();
      view.pixel = Math.max(view.size[0] / (box.width || 400), view.size[1] / (box.height || 300));
      view.lines.setAttribute("stroke-width", 1.1 * view.pixel);
      view.layer.replaceChildren();
      this.drawScale(view);
      this.drawCut(view, k);
      this.drawCamera(view);
      for (const light of this.drawing.lights) if (!light.mesh && !["dome", "sun"].includes(light.kind)) this.drawLight(view, light);
      if (this.stood) this.drawStood(view, k);
      for (const [number, one] of this.findings.entries()) if (number !== this.chosen) this.drawFinding(view, one, number);
      if (this.findings[this.chosen]) this.drawFinding(view, this.findings[this.chosen], this.chosen);
    }
  }

  /** A scale in metres along the bottom. */
  drawScale(view) {
    const px = view.pixel, [w, h] = view.size, long = NICE.find((v) => v / px > 60) ?? 1000;
    if (long > w) return;
    const y = h - 10 * px, x = 10 * px, group = make("g", { class: "scale" }, view.layer);
    make("path", { d: `M${x} ${y - 4 * px}V${y}H${x + long}V${y - 4 * px}`, fill: "none", "stroke-width": 1.5 * px }, group);
    make("text", { x: x + long + 5 * px, y, "font-size": 12 * px, "stroke-width": 3 * px }, group).textContent = `${long} m`;
  }

  /** Where the other drawing is cut: a line to drag. */
  drawCut(view, k) {
    const other = this.drawing[k ? "plan" : "elevation"], px = view.pixel, [, y] = view.flat(other.centre), [w] = view.size;
    const value = this.value(other, view), name = k ? "height" : "behind";
    const group = make("g", { class: "cut-line", "data-cut": name, role: "slider", tabindex: 0, "aria-label": k ? "height of the plan's cut" : "place of the section's cut" }, view.layer);
    for (const [key, v] of [["now", value], ["min", value - 100], ["max", value + 100]]) group.setAttribute(`aria-value${key}`, v.toFixed(2));
    group.setAttribute("aria-valuetext", `${value.toFixed(2)} m`);
    make("line", { x1: 0, x2: w, y1: y, y2: y, "stroke-width": 1.4 * px, "stroke-dasharray": `${7 * px} ${5 * px}` }, group);
    make("line", { x1: 0, x2: w, y1: y, y2: y, "stroke-width": 14 * px, class: "grip" }, group);
  }

  /** Where the other drawing is cut, along this one's upward axis. */
  value(other, view) {
    return other.centre.reduce((sum, v, n) => sum + v * view.up[n], 0);
  }

  drawCamera(view) {
    const { at, forward, right, half } = this.drawing.camera, reach = 34 * view.pixel, corner = (s) => at.map((v, n) => v + reach * (forward[n] + s * half * right[n]));
    make("polygon", { points: [at, corner(-1), corner(1)].map((p) => view.flat(p).join()).join(" "), class: "camera", "stroke-width": 1.3 * view.pixel }, view.layer);
  }

  drawLight(view, light) {
    const [cx, cy] = view.flat(light.at), px = view.pixel;
    make("circle", { cx, cy, r: 3.5 * px, class: "lamp-dot", "stroke-width": 1.2 * px }, view.layer).append(Object.assign(make("title"), { textContent: light.name }));
  }

  drawStood(view, k) {
    const px = view.pixel, [cx, cy] = view.flat(this.stood.at);
    if (k === 0) make("polygon", { points: this.stood.outline.map((p) => view.flat(p).join()).join(" "), class: "sees", "stroke-width": px }, view.layer);
    make("path", { d: `M${cx - 7 * px} ${cy}H${cx + 7 * px}M${cx} ${cy - 7 * px}V${cy + 7 * px}`, class: "stands", "stroke-width": 2 * px }, view.layer);
  }

  drawFinding(view, one, number) {
    const px = view.pixel, is = number === this.chosen, group = make("g", { class: `found${is ? " chosen" : ""}`, "data-finding": number }, view.layer);
    const corners = one.box.map((p) => view.flat(p)), low = [0, 1].map((n) => Math.min(corners[0][n], corners[1][n])), high = [0, 1].map((n) => Math.max(corners[0][n], corners[1][n]));
    if (is) {
      make("rect", { x: low[0] - 3 * px, y: low[1] - 3 * px, width: high[0] - low[0] + 6 * px, height: high[1] - low[1] + 6 * px, class: "box", "stroke-width": 1.4 * px }, group);
      if (one.path.length) {
        const points = one.path.map((p) => view.flat(p));
        make("polyline", { points: points.map((p) => p.join()).join(" "), class: "light-path", "stroke-width": 2 * px }, group);
        const [a, b] = points.slice(-2), turn = Math.atan2(b[1] - a[1], b[0] - a[0]), tip = (s) => `${b[0] - 9 * px * Math.cos(turn + s)} ${b[1] - 9 * px * Math.sin(turn + s)}`;
        make("path", { d: `M${tip(0.4)}L${b.join(" ")}L${tip(-0.4)}`, class: "light-path", "stroke-width": 2 * px }, group);
      }
    }
    const [cx, cy] = view.flat(one.at), inside = [Math.min(Math.max(cx, 11 * px), view.size[0] - 11 * px), Math.min(Math.max(cy, 11 * px), view.size[1] - 11 * px)];
    make("circle", { cx: inside[0], cy: inside[1], r: 9.5 * px, "stroke-width": 1.6 * px }, group);
    make("text", { x: inside[0], y: inside[1] + 4 * px, "font-size": 12 * px, "text-anchor": "middle" }, group).textContent = one.letter;
  }

  /** A focused cut line moves with the arrow keys, a decimetre at a time. */
  nudge(event) {
    const name = event.target.dataset?.cut, by = { ArrowUp: 0.1, ArrowDown: -0.1 }[event.key];
    if (!name || !by) return;
    event.preventDefault();
    event.stopPropagation();
    this.cut = { ...this.cut, [name]: Number(event.target.getAttribute("aria-valuenow")) + by };
    this.renew().then(() => this.holder.querySelector(`[data-cut=${name}]`)?.focus());
  }

  grab(event) {
    const svg = event.target.closest("svg");
    if (!svg) return;
    const finding = event.target.closest(".found"), line = event.target.closest(".cut-line"), view = this.views[Number(svg.dataset.view)];
    const at = (now) => new DOMPoint(now.clientX, now.clientY).matrixTransform(view.svg.getScreenCTM().inverse());
    event.preventDefault();
    if (finding && !this.holder.classList.contains("standing")) return this.onChoose(Number(finding.dataset.finding));
    if (!line) {
      if (svg.dataset.view !== "0") return;
      const p = at(event);
      return this.onStand(view.centre.map((c, n) => c + view.right[n] * (p.x - view.half[0]) + view.up[n] * (view.half[1] - p.y)));
    }
    const move = (now) => {
      const along = view.half[1] - at(now).y, up = view.up, place = view.centre.map((c, n) => c + up[n] * along);
      this.cut = { ...this.cut, [line.dataset.cut]: place.reduce((sum, v, n) => sum + v * up[n], 0) };
      for (const drawn of line.isConnected ? line.children : []) for (const end of ["y1", "y2"]) drawn.setAttribute(end, at(now).y);
      if (!this.asking) this.asking = this.renew().finally(() => (this.asking = null));
    };
    const end = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", end);
      this.renew();
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end);
  }
}
