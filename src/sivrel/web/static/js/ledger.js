// The ledger along the foot of the plate: the time and the noise of a proof by source. A click shows the source.

import { inSeconds, percent, percentToTenth, short } from "./format.js";

const LEAST = 0.004;

function bar(kind, total, rows, onSource) {
  const key = kind.toLowerCase();
  const row = document.createElement("div");
  row.className = "bar";
  const name = document.createElement("span");
  name.append(kind, Object.assign(document.createElement("b"), { className: "figures", textContent: total }));
  const track = document.createElement("div");
  const shares = rows.filter((m) => (m[key] ?? 0) > LEAST).sort((a, b) => b[key] - a[key]);
  for (const [number, source] of shares.entries()) {
    const part = document.createElement("button");
    part.type = "button";
    part.className = number === 0 ? "most" : number % 2 ? "plain" : "striped";
    part.style.flexGrow = source[key];
    const label = short(source.name);
    const error = key === "noise" && source.noise_error ? ` ± ${percent(source.noise_error)}` : "";
    part.textContent = label;
    part.title = `${label}: ${percent(source[key])}${error} of the ${key}; click to see it`;
    part.setAttribute("aria-label", part.title);
    part.addEventListener("click", () => onSource(source.name));
    track.append(part);
  }
  const less = rows.find((m) => (m[key] ?? 0) < -LEAST);
  if (less) row.title = `${less.name} subtract ${percent(-less[key])}: sources that share a ray partly cancel`;
  row.append(name, track);
  return shares.length ? row : null;
}

/** The ledger of the proof on the plate, `chosen.a`; its noise is that of `region` where one is drawn. */
export async function sayLedger(holder, chosen, region, onSource) {
  const proof = chosen.a;
  showLedger(holder, proof, onSource);
  if (!region || !proof?.picture || !proof.passes?.includes("noise.within")) return;
  const answer = await fetch(`/proofs/${proof.id}/noise.json?region=${region.join(",")}`);
  const rows = answer.ok ? (await answer.json()).rows : [];
  if (rows.length && chosen.a === proof) showLedger(holder, proof, onSource, rows);
}

/** Show the ledger of `proof`, or nothing when it has none; `region` holds the noise rows of a part of it, if any. `onSource(name)` is
 * called for a click on a source. */
function showLedger(holder, proof, onSource, region = null) {
  const rows = proof?.picture ? (proof.ledger ?? []) : [];
  const seconds = proof?.seconds == null ? "" : inSeconds(proof.seconds);
  const noise = region ? "region" : proof?.noise == null ? "" : percentToTenth(proof.noise);
  const bars = [bar("Time", seconds, rows, onSource), bar("Noise", noise, region ?? rows, onSource)].filter(Boolean);
  holder.replaceChildren(...bars);
  holder.hidden = bars.length === 0;
}
