// Numbers in the recipe's sentences are dragged sideways: to the right for more, to the left for less.

const LEAST = 4; // pixels before a press becomes a drag
const DOUBLES = 90; // pixels over which a number doubles

/** `moved()` is called while a number is dragged, `rested()` when it is released. */
export function followScrubs(holder, { moved, rested }) {
  let drag = null;

  holder.addEventListener("pointerdown", (event) => {
    const field = event.target.closest("input[data-min]");
    if (!field || event.button !== 0 || document.activeElement === field) return;
    drag = { field, from: event.clientX, value: Number(field.value), pointer: event.pointerId, on: false };
  });

  addEventListener("pointermove", (event) => {
    if (!drag || event.pointerId !== drag.pointer) return;
    const by = event.clientX - drag.from;
    if (!drag.on && Math.abs(by) < LEAST) return;
    if (!drag.on) {
      drag.on = true;
      drag.field.setPointerCapture(event.pointerId);
      drag.field.classList.add("scrubbed");
    }
    event.preventDefault();
    const value = dragged(drag.field, drag.value, by);
    if (String(value) === drag.field.value) return;
    drag.field.value = value;
    drag.field.dispatchEvent(new Event("input", { bubbles: true }));
    moved();
  });

  for (const end of ["pointerup", "pointercancel"])
    addEventListener(end, (/** @type {PointerEvent} */ event) => {
      if (!drag || event.pointerId !== drag.pointer) return;
      const { field, on } = drag;
      drag = null;
      if (!on) return;
      field.classList.remove("scrubbed");
      field.blur();
      field.dispatchEvent(new Event("change", { bubbles: true }));
      rested();
    });
}

/** The value of a field after dragging it by some pixels from `start`. */
export function dragged(field, start, by) {
  const whole = field.dataset.whole !== undefined, least = Number(field.dataset.min), most = Number(field.dataset.max);
  // Small numbers move step by step, and from 0; larger ones double.
  const unit = whole ? 1 : start === 0 ? Math.min(1, most) / 100 : Math.abs(start) / 16;
  const value = whole && Math.abs(start) >= 16 ? start * 2 ** (by / DOUBLES) : start === 0 || (whole && start < 16) ? start + unit * Math.round(by / 10) : start * 2 ** (by / DOUBLES);
  const kept = Math.min(most, Math.max(least, value));
  return whole ? Math.round(kept) : Number(kept.toPrecision(3));
}
