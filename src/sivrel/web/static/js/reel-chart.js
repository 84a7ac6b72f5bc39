// The chart along the foot of a sequence: its flicker by frame, against what is just seen; drag over it to scrub.

const SPACE = "http://www.w3.org/2000/svg", HEIGHT = 74, FOOT = 14, LEAST = 0.1;

function shape(name, attributes, text = "") {
  const element = document.createElementNS(SPACE, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, String(value));
  element.textContent = text;
  return element;
}

export class ReelChart {
  /** `clock` is the page's; `onRange(first, last)` is called when a range is dragged with Shift. */
  constructor(svg, clock, onRange) {
    this.svg = svg; this.clock = clock;
    this.lines = []; // [{ name, levels: by index or null, dashed }]
    this.states = [];
    let from = null;
    const at = (event) => {
      const box = svg.getBoundingClientRect(), count = Math.max(1, clock.times.length);
      return Math.min(count - 1, Math.max(0, Math.floor(((event.clientX - box.left) / box.width) * count)));
    };
    svg.addEventListener("pointerdown", (event) => {
      svg.setPointerCapture(event.pointerId);
      from = { index: at(event), shift: event.shiftKey };
      clock.pause();
      clock.go(from.index);
    });
    svg.addEventListener("pointermove", (event) => {
      if (!from) return;
      const to = at(event);
      if (from.shift) onRange(Math.min(from.index, to), Math.max(from.index, to));
      clock.go(to);
    });
    for (const end of ["pointerup", "pointercancel"]) svg.addEventListener(end, () => (from = null));
    new ResizeObserver(() => this.draw()).observe(svg);
  }

  show(lines, states) {
    this.lines = lines;
    this.states = states;
    this.draw();
  }

  draw() {
    const { svg, clock } = this, width = Math.max(120, svg.clientWidth), count = Math.max(1, clock.times.length), step = width / count;
    svg.setAttribute("viewBox", `0 0 ${width} ${HEIGHT}`);
    const known = this.lines.flatMap((line) => line.levels).filter((level) => level != null);
    // Logarithmic: from a tenth of what is just seen, so that a cure shows as well as the disease.
    const most = Math.max(2, ...known) * 1.15, least = Math.max(0.02, Math.min(LEAST, ...known.filter((level) => level > 0)));
    const y = (level) => HEIGHT - FOOT - ((Math.log(Math.max(level, least)) - Math.log(least)) / (Math.log(most) - Math.log(least))) * (HEIGHT - FOOT - 4);
    const x = (index) => (index + 0.5) * step;
    const parts = [];
    this.states.forEach((state, index) => {
      if (state !== "done") parts.push(shape("rect", { x: index * step, y: 0, width: Math.max(1, step - 0.5), height: HEIGHT - FOOT, class: `missing ${state}` }));
    });
    if (clock.range) parts.push(shape("rect", { x: clock.range[0] * step, y: HEIGHT - FOOT + 1, width: (clock.range[1] - clock.range[0] + 1) * step, height: 4, class: "range" }));
    if (known.length) {
      parts.push(shape("path", { d: `M0 ${y(1)}H${width}`, class: "threshold" }), shape("text", { x: 3, y: y(1) - 3, class: "label" }, "flicker just seen"));
      parts.push(shape("text", { x: width - 3, y: 11, class: "label", "text-anchor": "end" }, `${Number(most.toPrecision(2))} times`));
    }
    for (const line of this.lines) {
      let d = "", pen = false;
      line.levels.forEach((level, index) => {
        if (level == null) return (pen = false);
        d += `${pen ? "L" : "M"}${x(index).toFixed(1)} ${y(level).toFixed(1)}`;
        pen = true;
      });
      if (d) parts.push(shape("path", { d, class: `level${line.dashed ? " dashed" : ""}` }));
      const last = line.levels.findLastIndex((level) => level != null);
      if (last >= 0 && line.name) parts.push(shape("text", { x: Math.min(width - 12, x(last) + 3), y: Math.max(10, y(line.levels[last]) - 3), class: "label named" }, line.name));
    }
    const every = [1, 2, 4, 5, 8, 10, 12, 20, 24, 48, 96, 240, 480, 1000].find((n) => n * step > 44) ?? 2000;
    clock.times.forEach((time, index) => {
      if (index % every === 0) parts.push(shape("text", { x: x(index), y: HEIGHT - 2, class: "tick", "text-anchor": "middle" }, `${time}`));
    });
    parts.push(shape("path", { d: `M${x(clock.index).toFixed(1)} 0V${HEIGHT - FOOT}`, class: "now" }));
    svg.replaceChildren(...parts);
    svg.setAttribute("aria-valuemax", String(count - 1));
    svg.setAttribute("aria-valuenow", String(clock.index));
    svg.setAttribute("aria-valuetext", `frame ${clock.time}`);
  }
}
