// Plan and elevation: the shot from above and from the side, with its lights drawn to scale, to move, aim and size.

import { short } from "./format.js";
import { ask } from "./post.js";

const SVG = "http://www.w3.org/2000/svg";
const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const add = (a, b, s = 1) => a.map((v, k) => v + s * b[k]);
const sub = (a, b) => a.map((v, k) => v - b[k]);
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const unit = (a) => add([0, 0, 0], a, 1 / (Math.hypot(...a) || 1));
const round = (v) => Number(v.toPrecision(4));
const figures = (v) => v.map((x) => x.toFixed(2)).join(", ");

export const make = (tag, attributes = {}, parent = null) => {
  const element = document.createElementNS(SVG, tag);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  parent?.append(element);
  return element;
};

/** One drawing: world points to its pixels and back. */
export class View {
  constructor(drawing, title) {
    this.title = title;
    this.picture = drawing.picture; this.right = drawing.right; this.up = drawing.up; this.centre = drawing.centre; this.half = drawing.half;
    this.lines = drawing.lines;
    this.svg = this.layer = null; // when it is drawn
    this.pixel = 1;
    this.size = [this.half[0] * 2, this.half[1] * 2];
  }

  /** Metres from the drawing's top left. */
  flat(p) {
    const v = sub(p, this.centre);
    return [dot(v, this.right) + this.half[0], this.half[1] - dot(v, this.up)];
  }

  /** A vector of the drawing as a vector in the world. */
  step(dx, dy) {
    return add(add([0, 0, 0], this.right, dx), this.up, -dy);
  }
}

export class Plan {
  constructor(holder, slug, recipe, onEdit, onOpen, marks = () => [], paths = () => []) {
    this.holder = holder; this.slug = slug; this.recipe = recipe; this.onEdit = onEdit; this.onOpen = onOpen; this.marks = marks;
    this.paths = paths;
    this.chosen = "";
    holder.addEventListener("pointerdown", (event) => this.grab(event));
    // The plate below does not move while a light does.
    for (const kind of ["pointerdown", "wheel", "dblclick"]) holder.addEventListener(kind, (event) => event.stopPropagation());
  }

  get shown() {
    return !this.holder.hidden;
  }

  async show(on, fields) {
    this.holder.hidden = !on;
    if (!on) return;
    this.fields = fields;
    if (!this.drawing) this.holder.textContent = "Drawing the plan…";
    try {
      this.drawing = await ask(`/shots/${this.slug}/plan`, fields());
    } catch (problem) {
      this.holder.textContent = problem.message;
      return;
    }
    this.draw();
  }

  /** The lights have changed in another panel. */
  async renew() {
    if (this.shown) await this.show(true, this.fields);
  }

  draw() {
    this.holder.replaceChildren();
    // Side by side or one above the other, whichever draws larger.
    const [a, b] = [this.drawing.plan.half, this.drawing.elevation.half], box = this.holder.getBoundingClientRect(), rows = box.height - 70;
    const beside = Math.min(box.width / 4 / Math.max(a[0], b[0]), rows / 2 / Math.max(a[1], b[1]));
    const stacked = Math.min(box.width / 2 / Math.max(a[0], b[0]), rows / 2 / (a[1] + b[1]));
    this.holder.classList.toggle("stacked", stacked > beside);
    this.holder.style.setProperty("--rows", `${a[1]}fr ${b[1]}fr auto`);
    this.views = [new View(this.drawing.plan, "plan"), new View(this.drawing.elevation, "elevation")];
    for (const [number, view] of this.views.entries()) {
      const figure = document.createElement("figure");
      const [w, h] = view.size;
      const svg = make("svg", { viewBox: `0 0 ${w} ${h}`, preserveAspectRatio: "xMidYMid meet", role: "img", "aria-label": `${view.title} of the shot with its lights` });
      svg.dataset.view = number;
      const picture = make("image", { x: 0, y: 0, width: w, height: h, preserveAspectRatio: "none" }, svg);
      picture.setAttribute("href", view.picture);
      view.svg = svg;
      view.layer = make("g", {}, svg);
      const caption = document.createElement("figcaption");
      caption.textContent = `${view.title} · ${w.toFixed(1)} × ${h.toFixed(1)} m`;
      figure.append(svg, caption);
      this.holder.append(figure);
    }
    const hint = document.createElement("p");
    hint.className = "hint";
    hint.textContent = "Drag a light to move it, its cross to aim it, its square to size it. Ctrl Z undoes.";
    this.holder.append(hint);
    this.mark();
  }

  mark() {
    for (const view of this.views) {
      // The same size on the screen whatever the scene's: a pixel in metres.
      const box = view.svg.getBoundingClientRect();
      view.pixel = Math.max(view.size[0] / (box.width || 400), view.size[1] / (box.height || 300));
      view.layer.replaceChildren();
      this.drawMarks(view);
      this.drawCamera(view);
      for (const light of this.drawing.lights) if (!light.mesh && light.kind !== "dome") this.drawLight(view, light);
    }
  }

  /** Contents of the caches, with the same shapes as on the plate. */
  drawMarks(view) {
    const group = make("g", { class: "cache-marks" }, view.layer);
    for (const [x, y, z, radius, tone, shape] of this.marks()) {
      const [cx, cy] = view.flat([x, y, z]), grey = Math.round(tone * 255), tint = `rgb(${grey} ${grey} ${grey})`;
      const half = Math.max(2 * view.pixel, radius / 2);
      if (shape === "boxes") make("rect", { x: cx - half, y: cy - half, width: 2 * half, height: 2 * half, fill: "none", stroke: tint, "stroke-width": view.pixel }, group);
      else if (shape === "discs") make("circle", { cx, cy, r: Math.max(2 * view.pixel, radius / 4), fill: "none", stroke: tint, "stroke-width": view.pixel }, group);
      else make("circle", { cx, cy, r: 1.5 * view.pixel, fill: tint }, group);
    }
    // The path of light to the selected finding.
    for (const path of this.paths()) {
      const points = path.map((p) => view.flat(p).join()).join(" "), [x, y] = view.flat(path.at(-1));
      make("polyline", { points, class: "light-path", "stroke-width": 2 * view.pixel, "stroke-dasharray": `${6 * view.pixel} ${3 * view.pixel}` }, group);
      make("circle", { cx: x, cy: y, r: 4 * view.pixel, class: "light-path", "stroke-width": 2 * view.pixel }, group);
    }
  }

  drawCamera(view) {
    const { at, forward, right, half } = this.drawing.camera, reach = 46 * view.pixel;
    const corners = [at, add(add(at, forward, reach), right, -half * reach), add(add(at, forward, reach), right, half * reach)];
    make("polygon", { points: corners.map((p) => view.flat(p).join()).join(" "), class: "camera", "stroke-width": 1.3 * view.pixel }, view.layer);
  }

  frame(light) {
    const z = unit(sub(light.at, light.towards));
    const x = unit(cross(Math.abs(z[1]) < 0.999 ? [0, 1, 0] : [0, 0, -1], z));
    return [x, cross(z, x), z];
  }

  /** Outline of a light in the world, and its size for the size handle. */
  outline(light) {
    const [x, y] = this.frame(light), at = light.at;
    if (light.kind === "rect" || light.kind === "portal")
      return [[-1, -1], [1, -1], [1, 1], [-1, 1]].map(([a, b]) => add(add(at, x, (a * light.width) / 2), y, (b * light.height) / 2));
    if (light.kind === "disk")
      return Array.from({ length: 24 }, (_, k) => add(add(at, x, (Math.cos((k * Math.PI) / 12) * light.width) / 2), y, (Math.sin((k * Math.PI) / 12) * light.height) / 2));
    if (light.kind === "cylinder") return [add(at, x, -light.length / 2), add(at, x, light.length / 2)];
    return null;
  }

  drawLight(view, light) {
    const group = make("g", { class: `lamp${light.name === this.chosen ? " chosen" : ""}`, "data-light": light.name }, view.layer);
    const px = view.pixel, [w, h] = view.size;
    let at = view.flat(light.at), to = view.flat(light.towards);
    const line = { "stroke-width": 1.6 * px };
    if (light.kind === "sun") {
      // A sun has no position: its arrow is at the edge of the drawing and points in its direction.
      const way = sub(light.towards, light.at), flat = [dot(way, view.right), -dot(way, view.up)], length = Math.hypot(...flat) || 1e-9;
      const reach = 0.16 * Math.min(w, h);
      at = [w / 2 - (flat[0] / length) * 0.44 * w, h / 2 - (flat[1] / length) * 0.42 * h];
      to = [at[0] + (flat[0] / length) * reach, at[1] + (flat[1] / length) * reach];
    }
    const aimed = !["point", "sphere", "cylinder"].includes(light.kind) || light.cone_angle < 90 || light.profile;
    if (aimed) {
      if (light.kind !== "sun") {
        const length = Math.hypot(to[0] - at[0], to[1] - at[1]), least = 30 * px;
        if (length < least && length > 1e-9) to = [at[0] + ((to[0] - at[0]) / length) * least, at[1] + ((to[1] - at[1]) / length) * least];
      }
      make("line", { x1: at[0], y1: at[1], x2: to[0], y2: to[1], ...line, "stroke-dasharray": `${4 * px} ${3 * px}` }, group);
      make("path", { d: `M${to[0] - 6 * px} ${to[1]}H${to[0] + 6 * px}M${to[0]} ${to[1] - 6 * px}V${to[1] + 6 * px}`, ...line, class: "handle", "data-part": "aim" }, group);
      make("circle", { cx: to[0], cy: to[1], r: 9 * px, class: "grip", "data-part": "aim" }, group);
    }
    const outline = this.outline(light);
    let edge = null;
    if (outline) {
      const points = outline.map((p) => view.flat(p));
      make("polygon", { points: points.map((p) => p.join()).join(" "), ...line, class: "body" }, group);
      if (light.kind === "cylinder") make("line", { x1: points[0][0], y1: points[0][1], x2: points[1][0], y2: points[1][1], "stroke-width": Math.max(2 * light.radius, 2 * px), class: "tube" }, group);
      edge = points.reduce((far, p) => (Math.hypot(p[0] - at[0], p[1] - at[1]) > Math.hypot(far[0] - at[0], far[1] - at[1]) ? p : far), points[0]);
    } else if (light.kind === "sphere") {
      make("circle", { cx: at[0], cy: at[1], r: light.radius, ...line, class: "body" }, group);
      const reach = Math.max(light.radius, 11 * px);
      edge = [at[0] + reach * 0.7071, at[1] + reach * 0.7071];
    }
    if (light.kind === "sun") {
      for (let k = 0; k < 8; k++) {
        const a = (k * Math.PI) / 4;
        make("line", { x1: at[0] + 6 * px * Math.cos(a), y1: at[1] + 6 * px * Math.sin(a), x2: at[0] + 10 * px * Math.cos(a), y2: at[1] + 10 * px * Math.sin(a), ...line }, group);
      }
    }
    make("circle", { cx: at[0], cy: at[1], r: 4.5 * px, ...line, class: "core" }, group);
    make("circle", { cx: at[0], cy: at[1], r: 9 * px, class: "grip", "data-part": "body" }, group);
    if (edge) make("rect", { x: edge[0] - 4 * px, y: edge[1] - 4 * px, width: 8 * px, height: 8 * px, ...line, class: "handle", "data-part": "size" }, group);
    const label = make("text", { x: at[0] + 11 * px, y: at[1] - 8 * px, "font-size": 12 * px, "stroke-width": 3 * px }, group);
    label.textContent = short(light.name);
    if (light.name === this.chosen) {
      const size = { rect: () => `${round(light.width)} × ${round(light.height)} m`, portal: () => `${round(light.width)} × ${round(light.height)} m`, disk: () => `${round(light.width)} m across`, sphere: () => `r ${round(light.radius)} m`, cylinder: () => `r ${round(light.radius)}, ${round(light.length)} m long`, sun: () => `${round(light.angle)}° across` }[light.kind];
      const numbers = make("text", { x: at[0] + 11 * px, y: at[1] + 6 * px, "font-size": 11 * px, "stroke-width": 3 * px, class: "numbers" }, group);
      numbers.textContent = [light.kind === "sun" ? "" : `${figures(light.at)} m`, size?.() ?? ""].filter(Boolean).join(" · ");
    }
  }

  grab(event) {
    const group = event.target.closest?.(".lamp");
    if (!group) return;
    const part = event.target.dataset.part || "body";
    const view = this.views[Number(event.target.closest("svg").dataset.view)];
    const light = this.drawing.lights.find((one) => one.name === group.dataset.light);
    const start = this.point(view, event), before = structuredClone(light);
    this.chosen = light.name;
    this.mark();
    event.preventDefault();
    const move = (now) => {
      const at = this.point(view, now);
      this.drag(light, before, part, view, start, at);
      this.mark();
    };
    const end = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", end);
      this.settle(light, before, part);
      this.onOpen(light.name);
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end);
  }

  point(view, event) {
    const p = new DOMPoint(event.clientX, event.clientY).matrixTransform(view.svg.getScreenCTM().inverse());
    return [p.x, p.y];
  }

  drag(light, before, part, view, start, at) {
    const step = view.step(at[0] - start[0], at[1] - start[1]);
    if (part === "size") {
      const centre = view.flat(before.at), span = (p) => Math.hypot(p[0] - centre[0], p[1] - centre[1]);
      const factor = Math.max(0.02, span(at) / Math.max(span(start), 1e-6));
      for (const key of ["width", "height", "radius", "length"]) if (before[key]) light[key] = round(before[key] * factor);
    } else if (light.kind === "sun") {
      // Rotate its direction within the drawing, keeping the component along the view.
      const way = sub(before.towards, before.at), turned = add(way, step, (part === "aim" ? 1 : -1) * (Math.hypot(...way) / (0.36 * Math.min(...view.size))));
      light.towards = add(light.at, unit(turned), Math.hypot(...way));
    } else if (part === "aim") light.towards = add(before.towards, step);
    else {
      light.at = add(before.at, step);
      // A light with an aim keeps it; others keep their direction.
      if (!this.recipe.edits[`light.${light.name}.towards`]) light.towards = add(before.towards, step);
    }
  }

  settle(light, before, part) {
    const text = (v) => v.map(round).join(",");
    const values = {};
    const put = (key, value) => (values[`light.${light.name}.${key}`] = value);
    if (text(light.at) !== text(before.at)) put("at", text(light.at));
    if ((part === "aim" || light.kind === "sun") && text(light.towards) !== text(before.towards)) put("towards", text(light.towards));
    if (part === "size")
      for (const key of { rect: ["width", "height"], portal: ["width", "height"], disk: ["width", "height"], sphere: ["radius"], cylinder: ["radius", "length"] }[light.kind] ?? [])
        if (light[key] !== before[key]) put(key, String(light[key]));
    if (light.kind === "sun" && values[`light.${light.name}.towards`]) put("at", text(light.at));
    if (Object.keys(values).length) {
      this.recipe.setEdits(values);
      this.onEdit();
    }
  }
}
