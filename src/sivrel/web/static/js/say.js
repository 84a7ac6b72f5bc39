// A message over the plate that goes by itself.

import { $ } from "./dom.js";

const LASTS = 6000; // milliseconds
let slipped = 0;

/** Show a message for a while; an empty one takes it away. */
export function say(text) {
  $("slip").textContent = text;
  $("slip").hidden = !text;
  clearTimeout(slipped);
  slipped = setTimeout(() => ($("slip").hidden = true), LASTS);
}
