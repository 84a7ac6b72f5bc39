// Numbers in sentences are dragged sideways (to the right for more), turned by the wheel or the arrows while they have the focus, and go
// back to where they were by a double click. Steps are ratios, so that 0.001 and 1000 move alike.

const LEAST = 4; // pixels before a press becomes a drag
const DOUBLES = 90; // pixels over which a number doubles
const STEPS = 8; // steps of the wheel or an arrow over which a number doubles
const REST = 400; // milliseconds after a step of the wheel until it counts as set

/** Follow the number fields of `holder`. `moved()` is called while a number is dragged, `rested()` when it is released. */
export function followScrubs(holder, { moved, rested }) {
  let drag = null, resting = 0;

  const set = (field, value) => {
    if (String(value) === field.value) return;
    field.value = value;
    field.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const done = (field) => field.dispatchEvent(new Event("change", { bubbles: true }));

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
    const before = drag.field.value;
    set(drag.field, dragged(drag.field, drag.value, by));
    if (drag.field.value !== before) moved();
  });

  for (const end of ["pointerup", "pointercancel"])
    addEventListener(end, (/** @type {PointerEvent} */ event) => {
      if (!drag || event.pointerId !== drag.pointer) return;
      const { field, on } = drag;
      drag = null;
      if (!on) return;
      field.classList.remove("scrubbed");
      field.blur();
      done(field);
      rested();
    });

  holder.addEventListener("wheel", (event) => {
    const field = event.target.closest("input[data-min]");
    if (!field || document.activeElement !== field) return; // the panel scrolls
    event.preventDefault();
    set(field, stepped(field, Number(field.value), event.deltaY < 0 ? 1 : -1, event.shiftKey));
    clearTimeout(resting);
    resting = setTimeout(() => done(field), REST);
  }, { passive: false });

  holder.addEventListener("keydown", (event) => {
    const by = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (!by || !event.target.matches("input[data-min]")) return;
    event.preventDefault();
    set(event.target, stepped(event.target, Number(event.target.value), by, event.shiftKey));
    done(event.target);
  });

  holder.addEventListener("dblclick", (event) => {
    const field = event.target.closest("input[data-min]");
    if (!field) return;
    set(field, field.dataset.was ?? field.dataset.file ?? field.value);
    done(field);
    field.select();
  });
}

/** A value within the limits of its field, as the field writes it. */
function within(field, value) {
  const kept = Math.min(Number(field.dataset.max), Math.max(Number(field.dataset.min), value));
  return field.dataset.whole !== undefined ? Math.round(kept) : Number(kept.toPrecision(3));
}

/** The value of a field after dragging it by some pixels from `start`. */
export function dragged(field, start, by) {
  const whole = field.dataset.whole !== undefined, most = Number(field.dataset.max);
  // Small numbers move step by step, and from 0; larger ones double.
  const unit = whole ? 1 : start === 0 ? Math.min(1, most) / 100 : Math.abs(start) / 16;
  const linear = start === 0 || (whole && start < 16);
  return within(field, linear ? start + unit * Math.round(by / 10) : start * 2 ** (by / DOUBLES));
}

/** The value of a field one step up (`by` 1) or down (-1): by one where numbers are small and whole, else by a ratio; large steps double
 * and halve. */
export function stepped(field, value, by, large = false) {
  const whole = field.dataset.whole !== undefined, ratio = 2 ** (large ? by : by / STEPS);
  if (!Number.isFinite(value)) return field.value;
  if (whole && Math.abs(value) < 2 * STEPS) return within(field, value + by * (large ? 10 : 1));
  if (value === 0) return within(field, (by * Math.min(1, Number(field.dataset.max))) / 100);
  const next = value < 0 ? value / ratio : value * ratio;
  return within(field, whole && Math.round(next) === value ? value + by : next);
}
