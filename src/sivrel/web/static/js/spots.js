// Light reach: click a point to see which lights reach it and what blocks the others.

import { $ } from "./dom.js";
import { sayReach } from "./lights.js";
import { ask } from "./post.js";


export class Spots {
  /** `fields()` are the request's fields besides the point; `open(name)` opens a light, or an object as “object:NAME”. */
  constructor(plate, slug, fields, open) {
    this.plate = plate; this.slug = slug; this.fields = fields; this.open = open; this.on = false;
  }

  show(on) {
    this.on = on;
    $("stage").classList.toggle("spotting", on);
    if (!on) for (const id of ["reach", "spot-mark"]) $(id).hidden = true;
    this.plate.draw();
  }

  async ask(event) {
    const [x, y] = this.plate.toFrame(...this.plate.at(event)), [width, height] = this.plate.frame;
    if (x < 0 || y < 0 || x >= width || y >= height) return;
    const slip = $("reach"), box = $("stage").getBoundingClientRect(), mark = $("spot-mark");
    const left = event.clientX - box.left, top = event.clientY - box.top;
    mark.hidden = slip.hidden = false;
    Object.assign(mark.style, { left: `${left}px`, top: `${top}px` });
    Object.assign(slip.style, { left: left > box.width / 2 ? "12px" : "auto", right: left > box.width / 2 ? "auto" : "12px" });
    slip.textContent = "Looking…";
    const mine = (this.last = {});
    try {
      const reach = await ask(`/shots/${this.slug}/reach`, { ...this.fields(), x, y, width, height });
      if (mine === this.last) sayReach(slip, reach, (name) => this.open(name), (name) => this.open(`object:${name}`));
    } catch (problem) {
      if (mine === this.last) slip.textContent = problem.message;
    }
  }
}
