// Keys: handles keys outside of form fields.

import { isTyping } from "./common.js";

/** Let a button be held down, like the key F. */
export function holdButton(button, hold) {
  button.addEventListener("pointerdown", () => hold(true));
  for (const end of ["pointerup", "pointerleave", "blur"]) button.addEventListener(end, () => hold(false));
}

/** `keys` maps a key to its function; F is held down to flip: `hold(on)`. */
export function followKeys(keys, { hold, undo, redo }) {
  addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !(isTyping(event) && event.target.matches("input[type=password]"))) {
      event.preventDefault();
      return event.shiftKey ? redo() : undo();
    }
    if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return;
    if (event.key === "Escape" && isTyping(event)) return event.target.blur();
    // A pressed button or a link keeps its own Enter, and a button its space.
    if (isTyping(event) || (event.key === "Enter" && event.target.closest("button, a")) || (event.key === " " && event.target.closest("button, summary"))) return;
    if (event.key.toLowerCase() === "f") {
      if (!event.repeat) hold(true);
      return;
    }
    // An arrow moves a slider that has the focus.
    if (event.target.matches("input[type=range]") && event.key.startsWith("Arrow")) return;
    const act = keys[event.key.length === 1 ? event.key.toLowerCase() : event.key];
    if (!act) return;
    event.preventDefault();
    act();
  });
  addEventListener("keyup", (event) => event.key.toLowerCase() === "f" && hold(false));
}
