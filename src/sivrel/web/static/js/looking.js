// How the plate is looked at: exposure, view, zoom, and the two pictures against each other. The picture is not changed.

import { roundedStops } from "./captions.js";
import { $ } from "./dom.js";
import { inStops } from "./format.js";
import { DIFFERENCE, SINGLE, WIPE } from "./plate.js";

const STOP = 1 / 3; // of a key
const ZOOM = 1.5;

export class Looking {
  constructor(plate) {
    this.plate = plate;
    this.camera = 0; // exposure of the camera, in stops
    this.byHand = false; // whether the artist has set another
    this.compared = false; // whether two pictures were ever looked at together
    $("exposure").addEventListener("input", () => this.expose(Number($("exposure").value)));
    $("view").addEventListener("change", () => this.view($("view").value));
  }

  /** The exposure in stops, by hand unless it is that of a new picture's camera. */
  expose(stops, byHand = true) {
    this.plate.exposure = roundedStops(stops);
    this.byHand ||= byHand;
    $("exposure").value = this.plate.exposure;
    $("exposure-value").textContent = inStops(this.plate.exposure);
    this.plate.draw();
  }

  /** Another proof is on the plate: its camera's exposure, unless the artist has set one. */
  follow(exposure) {
    if (!this.byHand) this.expose(exposure, false);
    this.camera = exposure;
  }

  mode(mode) {
    this.plate.mode = this.plate.mode === mode ? SINGLE : mode;
    this.compared = true;
    this.plate.draw();
  }

  /** See the other picture, as long as a key or a button is held. */
  hold(on) {
    this.plate.held = on;
    this.compared ||= on;
    this.plate.draw();
  }

  async view(name) {
    $("view").value = name;
    const answer = await fetch(`/views/${name}.lut`);
    this.plate.painter.setView(new Uint16Array(await answer.arrayBuffer()), name);
    this.plate.draw();
  }

  gain(factor) {
    this.plate.gain *= factor;
    this.plate.draw();
  }

  /** What its commands do, by name. */
  commands() {
    const { plate } = this;
    return {
      wipe: () => this.mode(WIPE),
      difference: () => this.mode(DIFFERENCE),
      weaker: () => this.gain(0.5),
      stronger: () => this.gain(2),
      view: () => nextOf($("view")),
      pass: () => nextOf($("pass")),
      darker: () => this.expose(plate.exposure - STOP),
      lighter: () => this.expose(plate.exposure + STOP),
      asCamera: () => this.expose(this.camera),
      zoomIn: () => plate.zoomTo(plate.zoom * ZOOM),
      zoomOut: () => plate.zoomTo(plate.zoom / ZOOM),
      pixels: () => plate.zoomTo(devicePixelRatio || 1),
    };
  }
}

/** Choose the next option of a list. */
function nextOf(select) {
  select.selectedIndex = (select.selectedIndex + 1) % select.options.length;
  select.dispatchEvent(new Event("change"));
}
