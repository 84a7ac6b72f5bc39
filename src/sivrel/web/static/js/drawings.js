// Small drawings of what a setting does, where a drawing says more than words. Each is made for the setting's present value.

const W = 220, H = 84;
const clamp = (value, low, high) => Math.min(high, Math.max(low, value));
const line = (x1, y1, x2, y2, kind = "") => `<line x1="${x1}" y1="${y1}" x2="${x2}" y2="${y2}" class="${kind}"/>`;
const circle = (x, y, r, kind = "") => `<circle cx="${x}" cy="${y}" r="${r}" class="${kind}"/>`;
const text = (x, y, words, anchor = "middle") => `<text x="${x}" y="${y}" text-anchor="${anchor}">${words}</text>`;
const frame = (inside, says) => `<svg viewBox="0 0 ${W} ${H}" role="img" aria-label="${says}">${inside}</svg>`;

/** A light of some size over an edge: the penumbra is as wide as the light, by the ratio of the distances. */
function lightSize(size) {
  const half = clamp(size * 30, 2, 40), edge = 110, top = 10, middle = 40, floor = 72, ratio = (floor - middle) / (middle - top);
  const left = edge - half * ratio, right = edge + half * ratio;
  return frame(line(edge - half, top, edge + half, top, "bright") + line(20, middle, edge, middle, "thick") + line(10, floor, 210, floor)
    + line(edge - half, top, right, floor, "ray") + line(edge + half, top, left, floor, "ray")
    + `<rect x="10" y="${floor}" width="${left - 10}" height="7" class="dark"/><rect x="${left}" y="${floor}" width="${right - left}" height="7" class="half"/>`
    + text(right + 4, floor - 4, "penumbra", "start"), "The larger the light and the farther the edge from the surface, the softer the shadow");
}

/** A depth map's texels against a slope: without bias a surface shadows itself, with too much the contact shadow detaches. */
function bias(value) {
  const lift = clamp(value * 5, 0, 26), steps = [0, 1, 2, 3, 4, 5].map((k) => `M${20 + k * 30} ${66 - k * 7}h30`).join("");
  return frame(line(20, 70, 200, 30, "thick") + `<path d="${steps}" transform="translate(0 ${lift})" class="ray"/>`
    + text(110, 14, value < 1 ? "stripes: the map's steps stand above the surface" : value > 4 ? "contact shadows come loose" : "the map lies just below the surface"),
  "The steps of a depth map, lowered by the bias");
}

/** Photons about a point: too few in a small radius blotch, a large one reaches round the corner. */
function radius() {
  let dots = "";
  for (let k = 0; k < 70; k++) dots += circle(12 + ((k * 61) % 196), 8 + ((k * 37) % 50), 1.3, "dot");
  return frame(dots + line(10, 66, 210, 66, "thick") + line(190, 10, 190, 66, "thick") + circle(60, 40, 12, "ray") + circle(160, 36, 33, "ray")
    + text(60, 80, "grain, blotches") + text(160, 80, "blur, leaks"), "A small radius holds few photons; a large one blurs and reaches through walls");
}

/** Records along a floor towards a corner: the error places them closer where light changes faster. */
function spacing(value) {
  const step = clamp(value * 90, 5, 40);
  let dots = "";
  for (let x = 200, k = 0; x > 12 && k < 60; k++) {
    dots += circle(x, 62, 2.2, "dot");
    x -= Math.max(2.5, Math.min(step, (204 - x) * clamp(value, 0.08, 1) + 2.5));
  }
  return frame(line(10, 66, 206, 66, "thick") + line(206, 6, 206, 66, "thick") + dots + text(150, 52, "corner: close together", "end"), "Records are closer together where light changes faster");
}

/** Glass of some crossings: a path that may cross fewer surfaces than the glass has ends in black. */
function glass(value) {
  const n = Math.max(0, Math.round(value));
  let panes = "", at = 34;
  for (let k = 0; k < 6; k++) panes += `<rect x="${at + k * 26}" y="12" width="9" height="52" class="pane"/>`;
  const end = n >= 12 ? 206 : clamp(34 + (n / 2) * 26, 12, 206);
  return frame(panes + line(8, 38, end, 38, "ray thick") + (end < 200 ? circle(end, 38, 3.5, "dark") : "") + text(W / 2, 80, `${n} crossings: ${n >= 12 ? "light comes through" : `black behind ${Math.floor(n / 2)} solid ${n > 1 && n < 4 ? "pane" : "panes"}`}`),
    "Each solid pane takes two crossings");
}

/** Samples against grain: four times the samples halve it. */
function samples(value) {
  let bars = "";
  [1, 4, 16, 64, 256].forEach((n, k) => {
    const height = 54 / Math.sqrt(n);
    bars += `<rect x="${24 + k * 38}" y="${62 - height}" width="22" height="${height}" class="${n <= value ? "dark" : "half"}"/>${text(35 + k * 38, 76, n)}`;
  });
  return frame(bars + text(196, 14, "grain", "end"), "Four times the samples halve the grain");
}

/** @type {[RegExp, (value: number, field: string) => string][]} */
const OF = [
  [/^light\..*\.(radius|width|height|angle|length)$/, (value, field) => lightSize(/angle$/.test(field) ? value / 8 : value)],
  [/shadows\.bias$/, bias], [/(photon_map|caustics)\.(radius|gather|min_radius)$/, radius],
  [/^irradiance_cache\.(error|min_spacing|max_spacing)$/, spacing], [/^limits\.refractions$/, glass], [/^sampling\.(max|min)$/, samples],
];

/** The drawing of a setting at a value as SVG; empty where there is none. */
export function drawingOf(key, value) {
  const found = OF.find(([pattern]) => pattern.test(key));
  return found ? found[1](Number(value) || 0, key) : "";
}
