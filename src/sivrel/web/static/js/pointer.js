// Pointer on the plate: drag to move, wheel or two fingers to zoom, drag a box or the wipe; or another tool.

/** `on.box(box, last, event)` is called for boxes while `state.boxing`, `on.click` of clicks that do not drag, `on.grab(dx, dy, event)` and `on.wheel`
 * claim a drag or the wheel by returning true, `on.rest` is called at the end of a drag. */
export function followPointer(plate, stage, bar, on) {
  const state = { boxing: false };
  const down = new Map();
  let start = null;

  const frameX = (event) => plate.toFrame(...plate.at(event))[0] / plate.frame[0];

  stage.addEventListener("pointerdown", (event) => {
    if (event.target.closest("button, #plan, .slip")) return;
    stage.focus({ preventScroll: true });
    stage.setPointerCapture(event.pointerId);
    down.set(event.pointerId, plate.at(event));
    start = { at: plate.at(event), wipe: event.target === bar };
    stage.classList.toggle("dragging", !state.boxing && !start.wipe);
  });

  stage.addEventListener("pointermove", (event) => {
    const at = plate.at(event), before = down.get(event.pointerId);
    plate.probe = plate.toFrame(...at);
    if (!before) return plate.draw();
    if (start.wipe) {
      plate.wipe = Math.min(1, Math.max(0, frameX(event)));
      plate.draw();
    } else if (state.boxing) {
      on.box(box(start.at, at), false);
    } else if (down.size === 1 && on.grab?.(at[0] - before[0], at[1] - before[1], event)) {
      // taken
    } else if (down.size === 2) {
      const [other] = [...down].find(([id]) => id !== event.pointerId).slice(1);
      const distance = (p) => Math.hypot(p[0] - other[0], p[1] - other[1]);
      plate.zoomTo((plate.zoom * distance(at)) / Math.max(1, distance(before)), (at[0] + other[0]) / 2, (at[1] + other[1]) / 2);
    } else plate.move(at[0] - before[0], at[1] - before[1]);
    down.set(event.pointerId, at);
  });

  function box(a, b) {
    const p = plate.toFrame(...a), q = plate.toFrame(...b);
    return [Math.min(p[0], q[0]), Math.min(p[1], q[1]), Math.max(p[0], q[0]), Math.max(p[1], q[1])];
  }

  for (const end of ["pointerup", "pointercancel"])
    stage.addEventListener(end, (event) => {
      if (!down.delete(event.pointerId)) return;
      const at = plate.at(event);
      if (state.boxing && start && !start.wipe && end === "pointerup") on.box(box(start.at, at), true);
      else on.rest?.();
      if (end === "pointerup" && start && !start.wipe && Math.hypot(at[0] - start.at[0], at[1] - start.at[1]) < 4) on.click(event);
      stage.classList.remove("dragging");
    });

  stage.addEventListener("pointerleave", () => {
    if (down.size) return;
    plate.probe = null;
    plate.draw();
  });

  stage.addEventListener(
    "wheel",
    (event) => {
      event.preventDefault();
      if (on.wheel?.(event)) return;
      plate.zoomTo(plate.zoom * 2 ** (-event.deltaY / 240), ...plate.at(event));
    },
    { passive: false },
  );
  return state;
}
