// Keys of a page: single keys, and two letters pressed one after the other. The page's table (web/keys/pages.py, with the user's own
// bindings) says which key is which command; scripts say what the commands do.

import { $, make } from "./dom.js";

/** Whether a key was meant for a field and not for the page. */
export function isTyping(event) {
  return event.target.closest("input:not([type=range]), select, textarea, dialog") !== null;
}

/** Let a button be held down, like the key F. */
export function holdButton(button, hold) {
  button.addEventListener("pointerdown", () => hold(true));
  for (const end of ["pointerup", "pointerleave", "blur"]) button.addEventListener(end, () => hold(false));
}

/** The key of an event as the table writes it. Letters are those the layout types, or those in their place where it types others
 * (Greek, Cyrillic); digits are the keys of the digit row, which type signs on some layouts. */
export function keyOf(event) {
  const place = /^(?:Digit(\d)|Key([A-Z]))$/.exec(event.code ?? "");
  if (/^[a-z0-9]$/i.test(event.key)) return event.key.toLowerCase();
  if (place?.[1]) return event.shiftKey ? "" : place[1];
  if (place?.[2] && event.key.length === 1 && !/[\u0000-\u024f]/.test(event.key)) return place[2].toLowerCase();
  return event.key === " " ? "Space" : event.key.length > 1 ? event.key : "";
}

/** The commands of this page, as listed by web/keys/own.py. */
export const commands = JSON.parse($("keys").dataset.keys);
export const named = Object.fromEntries(commands.map((one) => [one.name, one]));
const byKey = Object.fromEntries(commands.flatMap((one) => one.keys.map((key) => [key, one])));
const acts = {};
const others = { hold: (on) => {}, undo: () => {}, redo: () => {} };
let begun = ""; // the first of two letters

/** Say what commands do, by name; F is held down to flip: `hold(on)`. */
export function followKeys(more, rest = {}) {
  Object.assign(acts, more);
  Object.assign(others, rest);
}

/** What a command does, if anything said so. */
export const actOf = (name) => acts[name];

/** The keys that may follow a first letter. */
const after = (first) => commands.filter((one) => acts[one.name]).flatMap((one) => one.keys.filter((key) => key.startsWith(`${first} `)).map((key) => [key.slice(2), one]));

function begin(first) {
  begun = first;
  $("chord").hidden = !first;
  if (!first) return;
  $("chord").replaceChildren(make("b", { textContent: `${first.toUpperCase()}, then` }), ...after(first).map(([key, one]) =>
    make("span", {}, make("kbd", { textContent: key.toUpperCase() }), ` ${one.says.split(/[:;]/)[0]}`)));
}

function pressed(event) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !(isTyping(event) && event.target.matches("input[type=password]"))) {
    event.preventDefault();
    return event.shiftKey ? others.redo() : others.undo();
  }
  if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return;
  if (event.key === "Escape" && isTyping(event)) return event.target.blur();
  // A pressed button or a link keeps its own Enter, and a button its space.
  if (isTyping(event) || (event.key === "Enter" && event.target.closest("button, a")) || (event.key === " " && event.target.closest("button, summary"))) return;
  // An arrow moves a slider, a divider or a tab that has the focus.
  if (event.target.matches("input[type=range], [role=separator]") && event.key.startsWith("Arrow")) return;
  const key = keyOf(event);
  if (!key || ["Shift", "Control", "Alt", "Meta", "AltGraph"].includes(key)) return;
  if (begun) {
    const command = byKey[`${begun} ${key}`];
    begin("");
    event.preventDefault();
    if (command) acts[command.name]?.();
    return;
  }
  const command = byKey[key];
  if (command?.held) return void (event.repeat || others.hold(true));
  if (command && acts[command.name]) {
    event.preventDefault();
    return acts[command.name]();
  }
  if (key.length === 1 && after(key).length) {
    event.preventDefault();
    begin(key);
  }
}

addEventListener("keydown", pressed);
addEventListener("keyup", (event) => byKey[keyOf(event)]?.held && others.hold(false));
addEventListener("blur", () => begin(""));
addEventListener("pointerdown", () => begun && begin(""));

// ---- the sheet of keys ---------------------------------------------------------------------------------------------

/** Open the sheet of keys, with all of them. */
export function showKeys() {
  $("keys-find").value = "";
  searchKeys();
  $("keys").showModal();
}

/** Leave the lines of the sheet that hold every word that was typed. */
function searchKeys() {
  const typed = $("keys-find").value.toLowerCase().split(/\s+/).filter(Boolean);
  for (const line of document.querySelectorAll("#keys dl > div")) line.hidden = !typed.every((word) => line.dataset.find.includes(word));
  for (const group of document.querySelectorAll("#keys section")) group.hidden = !group.querySelector("dl > div:not([hidden])");
}
$("keys-find").addEventListener("input", searchKeys);
