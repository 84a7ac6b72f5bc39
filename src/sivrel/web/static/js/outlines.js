// Findings drawn over the plate like a proof-reader's marks: an outline and a letter each, the selected one in red, and the path
// of light to it.

const LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
export const letterOf = (k) => LETTERS[k % 26];

/** The edges of a run-length encoded mask, as a path in its cells. */
function edgesOf({ rows, columns, edges }) {
  const inside = new Uint8Array(rows * columns);
  for (let k = 0; k + 1 < edges.length; k += 2) inside.fill(1, edges[k], edges[k + 1]);
  const path = new Path2D(), at = (x, y) => x >= 0 && y >= 0 && x < columns && y < rows && inside[y * columns + x];
  const line = (x0, y0, x1, y1) => (path.moveTo(x0, y0), path.lineTo(x1, y1));
  for (let y = 0; y < rows; y++)
    for (let x = 0; x < columns; x++) {
      if (!at(x, y)) continue;
      if (!at(x, y - 1)) line(x, y, x + 1, y);
      if (!at(x, y + 1)) line(x, y + 1, x + 1, y + 1);
      if (!at(x - 1, y)) line(x, y, x, y + 1);
      if (!at(x + 1, y)) line(x + 1, y, x + 1, y + 1);
    }
  return path;
}

export class Outlines {
  constructor(plate, canvas) {
    this.plate = plate; this.canvas = canvas; this.findings = []; this.chosen = -1; this.on = false;
  }

  show(findings, chosen, on) {
    Object.assign(this, { findings, chosen, on });
    for (const one of findings) if (one.mask && !one.edges) one.edges = edgesOf(one.mask);
    this.draw();
  }

  draw() {
    const { canvas, plate } = this, stage = canvas.parentElement, ratio = devicePixelRatio || 1;
    canvas.hidden = !this.on || !this.findings.length;
    if (canvas.hidden) return;
    const size = [Math.round(stage.clientWidth * ratio), Math.round(stage.clientHeight * ratio)];
    if (canvas.width !== size[0] || canvas.height !== size[1]) [canvas.width, canvas.height] = size;
    const ink = canvas.getContext("2d"), [left, top, width, height] = plate.place();
    ink.setTransform(1, 0, 0, 1, 0, 0);
    ink.clearRect(0, 0, ...size);
    this.letters = [];
    for (const [k, one] of this.findings.entries()) {
      if (one.dismissed || (this.chosen >= 0 && k !== this.chosen && one.share > 0.5)) continue;
      const is = k === this.chosen, colour = is ? "#b3261e" : "#ffffff";
      // A finding over most of the picture shows only its letter until it is selected.
      if (one.edges && (is || one.share < 0.5)) {
        ink.setTransform(width / one.mask.columns, 0, 0, height / one.mask.rows, left, top);
        const cell = width / one.mask.columns;
        for (const [tint, thick] of /** @type {[string, number][]} */ ([["rgb(0 0 0 / 55%)", 3.2], [colour, is ? 1.8 : 1.2]])) {
          ink.strokeStyle = tint;
          ink.lineWidth = (thick * ratio) / cell;
          ink.stroke(one.edges);
        }
        ink.setTransform(1, 0, 0, 1, 0, 0);
      }
      const scale = width / plate.frame[0];
      if (is && one.drawn?.length > 1) {
        ink.beginPath();
        for (const [n, [x, y]] of one.drawn.entries()) ink[n ? "lineTo" : "moveTo"](left + x * scale, top + y * scale);
        for (const [tint, thick] of /** @type {[string, number][]} */ ([["#000", 4], ["#fff", 1.6]])) {
          ink.strokeStyle = tint;
          ink.lineWidth = thick * ratio;
          ink.setLineDash([7 * ratio, 4 * ratio]);
          ink.stroke();
        }
        ink.setLineDash([]);
      }
      this.letter(ink, letterOf(k), left + one.box[0] * scale, top + one.box[1] * scale, is, ratio);
    }
  }

  letter(ink, text, x, y, is, ratio) {
    const r = 9 * ratio, cy = Math.max(r, y);
    let cx = Math.max(r, x);
    while (this.letters.some(([a, b]) => Math.hypot(a - cx, b - cy) < 1.8 * r)) cx += 2.2 * r; // beside one that is there
    this.letters.push([cx, cy]);
    ink.beginPath();
    ink.arc(cx, cy, r, 0, 7);
    ink.fillStyle = is ? "#b3261e" : "#fff";
    ink.strokeStyle = "#b3261e";
    ink.lineWidth = 1.6 * ratio;
    ink.fill();
    ink.stroke();
    ink.fillStyle = is ? "#fff" : "#b3261e";
    ink.font = `700 ${12 * ratio}px "Source Sans 3", sans-serif`;
    ink.textAlign = "center";
    ink.textBaseline = "middle";
    ink.fillText(text, cx, cy + ratio);
  }
}
