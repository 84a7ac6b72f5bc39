// Status around the plate: active tools, zoom, the wipe's bar, the region, colours under the pointer.

import { $ } from "./dom.js";
import { DIFFERENCE, WIPE } from "./plate.js";

const tool = (name) => document.querySelector(`[data-do=${name}]`);

/** `on`: the tools that use the pointer. */
export function sayPlate(plate, recipe, on) {
  const both = Boolean(plate.pictures[0] && plate.pictures[1]);
  for (const [name, mode] of [["wipe", WIPE], ["difference", DIFFERENCE]]) {
    tool(name).setAttribute("aria-pressed", String(both && plate.mode === mode));
    tool(name).disabled = !both;
  }
  for (const name of ["flip", "compare"]) tool(name).disabled = !both;
  tool("region")?.setAttribute("aria-pressed", String(on.boxing && !on.pin));
  for (const name of ["reach", "pin", "walk", "live"]) tool(name)?.setAttribute("aria-pressed", String(on[name]));
  const scale = devicePixelRatio || 1;
  $("zoom").textContent = `${Math.round((plate.zoom / scale) * 100)} %`;
  const [left, top, width, height] = plate.place().map((v) => v / scale);
  $("wipe-bar").hidden = !both || plate.mode !== WIPE || plate.held;
  $("wipe-bar").style.left = `${left + plate.wipe * width}px`;
  const region = recipe.region();
  $("region-box").hidden = !region;
  if (region) {
    const [x0, y0, x1, y1] = region, [w, h] = recipe.size();
    Object.assign($("region-box").style, {
      left: `${left + (x0 / w) * width}px`, top: `${top + (y0 / h) * height}px`,
      width: `${((x1 - x0) / w) * width}px`, height: `${((y1 - y0) / h) * height}px`,
    });
  }
  const values = plate.read();
  const words = (v) => v.map((c) => c.toPrecision(3)).join(" ");
  if (!values || !values[0]) $("probe").textContent = "";
  else {
    const [x, y] = plate.probe.map(Math.floor);
    const lum = 0.2126 * values[0][0] + 0.7152 * values[0][1] + 0.0722 * values[0][2];
    $("probe").textContent = `${x},${y}  A ${words(values[0])}  lum ${lum.toPrecision(3)}${values[1] ? `  B ${words(values[1])}` : ""}`;
  }
}
