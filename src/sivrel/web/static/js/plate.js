// The plate: pictures on the canvas, to pan, zoom and read by pixel.

import { PlateGL } from "./plate-gl.js";
import { PlatePng } from "./plate-png.js";

export const SINGLE = 0, OTHER = 1, WIPE = 2, DIFFERENCE = 3;

/** Number of an IEEE half float. */
export function fromHalf(h) {
  const exponent = (h >> 10) & 31, fraction = h & 1023, sign = h & 0x8000 ? -1 : 1;
  if (exponent === 0) return sign * fraction * 2 ** -24;
  if (exponent === 31) return fraction ? NaN : sign * Infinity;
  return sign * (1 + fraction / 1024) * 2 ** (exponent - 15);
}

/** A picture of part of a frame: `window` is left, top, right, bottom in pixels of the `width` x `height` frame. */
export class Picture {
  constructor({ width, height, window, halves, digest = null, finished = true, pass = "beauty" }) {
    const [x0, y0, x1, y1] = window;
    this.width = width; this.height = height; this.window = window; this.digest = digest; this.pass = pass;
    this.halves = halves ?? new Uint16Array((x1 - x0) * (y1 - y0) * 4);
    this.finished = finished;
    this.known = finished ? null : new Uint8Array((x1 - x0) * (y1 - y0));
  }

  setTile([x0, y0, x1, y1], halves) {
    const [left, top, right] = this.window, columns = right - left, n = x1 - x0;
    for (let y = y0; y < y1; y++) {
      const to = (y - top) * columns + x0 - left;
      this.halves.set(halves.subarray((y - y0) * n * 4, (y - y0 + 1) * n * 4), to * 4);
      if (this.known) this.known.fill(1, to, to + n);
    }
  }

  /** Fill pixels that are not known yet. */
  setUnder(halves) {
    if (halves.length !== this.halves.length) return;
    for (let at = 0; at < this.known.length; at++) if (!this.known[at]) this.halves.set(halves.subarray(at * 4, at * 4 + 4), at * 4);
  }

  /** Linear red, green, blue at a pixel of the frame, or null outside the window or where nothing is rendered yet. */
  read(x, y) {
    const [x0, y0, x1, y1] = this.window;
    if (x < x0 || y < y0 || x >= x1 || y >= y1) return null;
    const at = (y - y0) * (x1 - x0) + x - x0;
    if (this.known && !this.known[at]) return null;
    return [0, 1, 2].map((c) => fromHalf(this.halves[at * 4 + c]));
  }
}

/** Neutral finishing. */
export const PLAIN = { white: [1, 0, 0, 0, 1, 0, 0, 0, 1], temperature: 6504, tint: 0, highlights: 0, shadows: 0, contrast: 1, saturation: 1, sharpening: 0 };

export class Plate {
  constructor(stage, canvas, lut, onChange) {
    this.stage = stage; this.canvas = canvas; this.onChange = onChange;
    this.pictures = [null, null];
    this.frame = [480, 270];
    this.mode = SINGLE;
    this.held = false;
    this.wipe = 0.5;
    this.gain = 2;
    this.exposure = 0;
    this.finish = PLAIN;
    this.isLight = true; // light is finished; what else a pass shows is not
    this.zoom = 1;
    this.centre = [0.5, 0.5];
    this.fitted = true;
    this.cropped = false;
    this.probe = null;
    try {
      this.painter = new PlateGL(canvas, lut);
    } catch (reason) {
      console.info(`The plate is drawn without WebGL 2 (${reason.message}).`);
      const fresh = canvas.cloneNode();
      canvas.replaceWith(fresh);
      this.canvas = fresh;
      this.painter = new PlatePng(fresh, () => this.draw());
    }
    // The observer also calls once at the start, when the page is ready for painting.
    new ResizeObserver(() => this.resize()).observe(stage);
    addEventListener("sivrel:paper", () => this.draw());
  }

  setPicture(slot, picture) {
    this.pictures[slot] = picture;
    this.painter.setPicture(slot, picture);
    if (slot === 0 && picture) {
      const before = this.frame;
      this.frame = [picture.width, picture.height];
      if (this.fitted) return this.fit();
      // The same part of the picture stays visible, whatever its pixel count.
      this.zoom *= before[0] / picture.width;
    }
    this.draw();
  }

  setTile(slot, box, halves) {
    this.pictures[slot].setTile(box, halves);
    this.painter.setTile(slot, box, halves);
  }

  setUnder(slot, halves) {
    const picture = this.pictures[slot];
    if (!picture?.known) return;
    picture.setUnder(halves);
    this.painter.setPicture(slot, picture);
    this.draw();
  }

  resize() {
    const scale = devicePixelRatio || 1, box = this.stage.getBoundingClientRect();
    this.canvas.width = Math.max(1, Math.round(box.width * scale));
    this.canvas.height = Math.max(1, Math.round(box.height * scale));
    if (this.fitted) this.fit();
    // A resized canvas is blank: it is painted before the browser shows it.
    this.paint();
  }

  /** Zoom so that the whole frame is seen, or with `crop` the region that was rendered. */
  fit(crop = this.cropped) {
    const [w, h] = this.frame, [x0, y0, x1, y1] = (crop && this.pictures[0]?.window) || [0, 0, w, h];
    this.zoom = Math.min(this.canvas.width / (x1 - x0), this.canvas.height / (y1 - y0));
    this.centre = [(x0 + x1) / 2 / w, (y0 + y1) / 2 / h];
    this.cropped = crop;
    this.fitted = true;
    this.draw();
  }

  /** Zoom to `zoom` canvas pixels for a pixel of the frame, the point (x, y) of the canvas staying where it is. */
  zoomTo(zoom, x = this.canvas.width / 2, y = this.canvas.height / 2) {
    const before = this.toFrame(x, y);
    this.zoom = Math.min(64, Math.max(0.05, zoom));
    const after = this.toFrame(x, y);
    this.centre = [0, 1].map((k) => this.centre[k] + (before[k] - after[k]) / this.frame[k]);
    this.fitted = false;
    this.draw();
  }

  move(dx, dy) {
    this.centre = [this.centre[0] - dx / (this.zoom * this.frame[0]), this.centre[1] - dy / (this.zoom * this.frame[1])];
    this.fitted = false;
    this.draw();
  }

  /** Left, top, width and height of the frame on the canvas. */
  place() {
    const width = this.frame[0] * this.zoom, height = this.frame[1] * this.zoom;
    // Whole pixels, so that at 100 % a pixel of the picture is a pixel of the screen.
    return [Math.round(this.canvas.width / 2 - this.centre[0] * width), Math.round(this.canvas.height / 2 - this.centre[1] * height), width, height];
  }

  /** A point of the canvas in pixels of the frame. */
  toFrame(x, y) {
    const [left, top] = this.place();
    return [(x - left) / this.zoom, (y - top) / this.zoom];
  }

  /** A pointer event in canvas pixels. */
  at(event) {
    const box = this.canvas.getBoundingClientRect();
    return [((event.clientX - box.left) * this.canvas.width) / box.width, ((event.clientY - box.top) * this.canvas.height) / box.height];
  }

  draw() {
    cancelAnimationFrame(this.asked);
    this.asked = requestAnimationFrame(() => this.paint());
  }

  paint() {
    const both = this.pictures[0] && this.pictures[1];
    const mode = this.held && both ? OTHER : both ? this.mode : SINGLE;
    const booth = getComputedStyle(document.documentElement).getPropertyValue("--booth").trim();
    const grey = booth.length === 4 ? booth.slice(1).replace(/./g, "$&$&") : booth.slice(1);
    this.painter.draw({
      place: this.place(), mode, wipe: this.wipe, gain: this.gain, exposure: this.exposure, finish: this.isLight ? this.finish : PLAIN,
      booth: [0, 2, 4].map((i) => parseInt(grey.slice(i, i + 2), 16) / 255),
    });
    this.onChange();
  }

  /** Both pictures' linear colours at the pixel of the frame under the probe. */
  read() {
    if (!this.probe) return null;
    const [x, y] = this.probe;
    const [width, height] = this.frame;
    return this.pictures.map((p) => p && p.read(Math.floor((x / width) * p.width), Math.floor((y / height) * p.height)));
  }
}
