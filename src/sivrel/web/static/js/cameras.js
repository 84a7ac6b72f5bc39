// Moving the camera in the plate: orbit, look about, walk; the view is an edit, and can be saved as a new camera.

import { $ } from "./dom.js";
import { ask, post } from "./post.js";

const TURN = 0.003; // radians for a pixel
const add = (a, b, s = 1) => a.map((v, k) => v + s * b[k]);
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const unit = (a) => a.map((v) => v / (Math.hypot(...a) || 1));
const figures = (v) => v.map((x) => Number(x.toFixed(4))).join(",");

/** A direction rotated about the vertical axis, then up or down, but not to the poles. */
export function turned(ahead, across, up) {
  const height = Math.asin(Math.max(-1, Math.min(1, ahead[1]))), round = Math.atan2(ahead[0], ahead[2]);
  const h = Math.max(-1.5, Math.min(1.5, height + up)), r = round + across;
  return [Math.cos(h) * Math.sin(r), Math.sin(h), Math.cos(h) * Math.cos(r)];
}

export class CameraMover {
  /** `moved()` is called with each step. */
  constructor(slug, recipe, moved) {
    this.slug = slug; this.recipe = recipe; this.moved = moved; this.on = false;
    /** Metres across the scene. */
    this.size = 1;
    $("camera-sheet").addEventListener("close", () => this.keep());
  }

  get name() {
    return this.recipe.field("camera").value;
  }

  async show(on) {
    this.on = on;
    $("stage").classList.toggle("walking", on);
    $("walk").hidden = !on;
    if (!on) return;
    const fields = { edits: this.recipe.field("edits").value, camera: this.name };
    const camera = await ask(`/shots/${this.slug}/camera`, fields);
    Object.assign(this, { at: camera.at, ahead: unit(camera.ahead), distance: camera.distance, size: camera.size, started: this.recipe.snapshot() });
  }

  /** Dragged by some pixels: orbits the target, or with `look` rotates in place. */
  drag(dx, dy, look) {
    if (!this.at) return;
    if (look) this.ahead = turned(this.ahead, dx * TURN, dy * TURN);
    else {
      const middle = add(this.at, this.ahead, this.distance);
      this.ahead = turned(this.ahead, -dx * TURN, -dy * TURN);
      this.at = add(middle, this.ahead, -this.distance);
    }
    this.place();
  }

  /** Nearer to the target, or farther. */
  near(steps) {
    if (!this.at) return;
    const further = this.distance * 1.1 ** steps;
    this.at = add(this.at, this.ahead, this.distance - further);
    this.distance = further;
    this.place();
  }

  /** A step ahead, to the right, or up, as a share of the distance. */
  walk(ahead, right, up) {
    if (!this.at) return;
    const step = Math.max(0.05, Math.min(this.distance, this.size) / 25), level = unit([this.ahead[0], 0, this.ahead[2]]);
    const side = unit(cross(level, [0, 1, 0]));
    this.at = add(add(add(this.at, level, ahead * step), side, right * step), [0, 1, 0], up * step);
    this.place();
  }

  place() {
    const { name } = this;
    this.recipe.setEdits({ [`camera.${name}.at`]: figures(this.at), [`camera.${name}.towards`]: figures(add(this.at, this.ahead, this.distance)) }, true);
    this.moved();
  }

  rest() {
    this.recipe.step();
  }

  openKeep() {
    const sheet = $("camera-sheet");
    sheet.returnValue = "";
    sheet.querySelector(".problem")?.remove();
    sheet.showModal();
  }

  async keep() {
    const sheet = $("camera-sheet"), like = this.name;
    if (sheet.returnValue !== "keep") return;
    const field = sheet.querySelector("input[name=name]");
    try {
      const { name } = await post(`/shots/${this.slug}/cameras`, { name: field.value, like, edits: this.recipe.field("edits").value });
      this.recipe.dropEdits(`camera.${like}.`);
      this.recipe.field("camera").add(new Option(name, name));
      this.recipe.field("camera").value = name;
      field.value = "";
      this.recipe.say();
      this.recipe.step();
    } catch (problem) {
      this.openKeep();
      field.insertAdjacentHTML("afterend", '<p class="problem" role="alert"></p>');
      sheet.querySelector(".problem").textContent = problem.message;
    }
  }
}
