// What is added is put where the picture is clicked.

import { $ } from "./dom.js";
import { ask } from "./post.js";
import { say } from "./say.js";

export class Placing {
  /** `fields()` are the request's fields besides the point. */
  constructor(plate, slug, fields) {
    this.plate = plate; this.slug = slug; this.fields = fields; this.kind = ""; this.put = null;
  }

  get on() {
    return this.kind !== "";
  }

  /** The next click puts a lamp, card or portal of `kind`: `put(values)` gets its position and aim. */
  start(kind, put) {
    this.kind = kind;
    this.put = put;
    $("stage").classList.add("placing");
    $("placing").hidden = false;
  }

  stop() {
    this.kind = "";
    $("stage").classList.remove("placing");
    $("placing").hidden = true;
  }

  async click(event) {
    const [x, y] = this.plate.toFrame(...this.plate.at(event)), [width, height] = this.plate.frame;
    if (x < 0 || y < 0 || x >= width || y >= height) return;
    const { kind, put } = this;
    try {
      const { object, values } = await ask(`/shots/${this.slug}/place`, { ...this.fields(), kind, x, y, width, height });
      if (kind !== this.kind) return;
      if (!object) return say(`Nothing is seen there: click on a surface${kind === "portal" ? ", such as the window's pane or its frame" : ""}.`);
      this.stop();
      put(values);
    } catch (problem) {
      say(problem.message);
    }
  }
}
