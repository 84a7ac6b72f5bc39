// Contents of a proof's caches, drawn over the plate and the plan. Shapes: rings are records with their radius,
// dots photons, squares cells, outlines the elements of a bake. The tone shows their light, from dark to white.

import { $ } from "./dom.js";
import { ask } from "./post.js";

const NAMES = { discs: "records", dots: "photons", boxes: "cells", triangles: "elements" };

export class Marks {
  constructor(plate) {
    this.plate = plate; this.on = false; this.previews = []; this.of = null;
    this.canvas = $("marks");
  }

  /** Show or hide the marks of a proof's caches; says what they are in `note`. */
  async show(on, proof) {
    this.on = on;
    this.canvas.hidden = !on;
    $("marks-note")?.remove();
    if (!on) return void this.draw();
    const note = Object.assign(document.createElement("span"), { id: "marks-note" });
    $("caption-a").append(note);
    if (this.of !== proof?.id) this.previews = [];
    this.of = proof?.id;
    if (!proof?.caches?.length) note.textContent = " · this proof used no cache of bounced light";
    else if (!this.previews.length) {
      note.textContent = " · looking into the caches…";
      try {
        for (const cache of proof.caches) this.previews.push(await ask(`/proofs/${proof.id}/preview`, { digest: cache.digest }));
      } catch (problem) {
        note.textContent = ` · ${problem.message}`;
        return;
      }
      if (this.of !== proof.id) return;
    }
    if (this.previews.length) note.textContent = ` · ${this.previews.map((preview) => `${preview.marks.length} of ${preview.of} ${NAMES[preview.shape]}`).join(", ")} in sight`;
    this.draw();
  }

  draw() {
    const { canvas, plate } = this, stage = canvas.parentElement, ratio = devicePixelRatio || 1;
    if (canvas.hidden) return;
    const size = [Math.round(stage.clientWidth * ratio), Math.round(stage.clientHeight * ratio)];
    if (canvas.width !== size[0] || canvas.height !== size[1]) [canvas.width, canvas.height] = size;
    const ink = canvas.getContext("2d"), [left, top, width, height] = plate.place();
    ink.clearRect(0, 0, ...size);
    const scale = width / plate.frame[0], at = /** @returns {[number, number]} */ (x, y) => [left + x * scale, top + (y * height) / plate.frame[1]];
    for (const preview of this.previews) {
      for (const [k, [x, y, radius, tone]] of preview.marks.entries()) {
        const [px, py] = at(x, y), grey = Math.round(tone * 255);
        const path = new Path2D();
        if (preview.shape === "discs") path.arc(px, py, Math.max(2 * ratio, radius * scale * 0.25), 0, 7);
        else if (preview.shape === "dots") path.arc(px, py, 1.6 * ratio, 0, 7);
        else if (preview.shape === "boxes") {
          const half = Math.max(2 * ratio, radius * scale * 0.5);
          path.rect(px - half, py - half, 2 * half, 2 * half);
        } else {
          const c = preview.corners[k];
          path.moveTo(...at(c[0], c[1]));
          path.lineTo(...at(c[2], c[3]));
          path.lineTo(...at(c[4], c[5]));
          path.closePath();
        }
        if (preview.shape === "dots") {
          ink.fillStyle = `rgb(${grey} ${grey} ${grey})`;
          ink.fill(path);
          continue;
        }
        // A dark line under a light one shows on any picture.
        ink.lineWidth = 2.4 * ratio;
        ink.strokeStyle = `rgb(0 0 0 / 45%)`;
        if (preview.shape !== "triangles") ink.stroke(path);
        ink.lineWidth = 1.1 * ratio;
        ink.strokeStyle = `rgb(${grey} ${grey} ${grey})`;
        ink.stroke(path);
      }
    }
  }

  /** Marks in space for the plan: [x, y, z, radius, tone, shape] each. */
  inSpace() {
    if (!this.on) return [];
    return this.previews.flatMap((preview) => preview.marks.filter((_, k) => k % Math.ceil(preview.marks.length / 800) === 0).map((mark) => [...mark.slice(4, 8), mark[3], preview.shape]));
  }
}
