// The ledger along the foot of the plate: the time and the noise of a proof by source. A click shows the source.

const TIME_WORDS = { "bounced light": "bounced light", "camera rays": "camera rays" };
const LEAST = 0.004;

const short = (name) => name.replace(/\/+$/, "").split("/").pop();
const percent = (share) => `${(share * 100).toFixed(share < 0.095 ? 1 : 0)} %`;

function bar(kind, total, measures, onSource) {
  const row = document.createElement("div");
  row.className = "bar";
  const name = document.createElement("span");
  name.append(kind, Object.assign(document.createElement("b"), { className: "figures", textContent: total }));
  const track = document.createElement("div");
  const shares = measures.map((m) => [m.name, m[kind.toLowerCase()] ?? 0]).filter(([, share]) => share > LEAST).sort((a, b) => b[1] - a[1]);
  for (const [number, [source, share]] of shares.entries()) {
    const part = document.createElement("button");
    part.type = "button";
    part.className = number === 0 ? "most" : number % 2 ? "plain" : "striped";
    part.style.flexGrow = share;
    const label = TIME_WORDS[source] ?? short(source);
    part.textContent = label;
    part.title = `${label}: ${percent(share)} of the ${kind.toLowerCase()}; click to see it`;
    part.setAttribute("aria-label", part.title);
    part.addEventListener("click", () => onSource(source));
    track.append(part);
  }
  row.append(name, track);
  return shares.length ? row : null;
}

/** Show the ledger of `proof`, or nothing when it has none. `onSource(name)` is called for a click on a source. */
export function showLedger(holder, proof, onSource) {
  const measures = proof?.picture ? (proof.ledger ?? []) : [];
  const seconds = proof?.seconds == null ? "" : `${proof.seconds < 10 ? proof.seconds.toFixed(1) : Math.round(proof.seconds)} s`;
  const noise = proof?.noise == null ? "" : `${(proof.noise * 100).toFixed(1)} %`;
  const bars = [bar("Time", seconds, measures, onSource), bar("Noise", noise, measures, onSource)].filter(Boolean);
  holder.replaceChildren(...bars);
  holder.hidden = bars.length === 0;
}
