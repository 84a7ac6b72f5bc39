// Captions under the plate: its two proofs, and their difference.

import { inSeconds } from "./format.js";

/** An exposure within the allowed range, to a tenth of a stop. */
export const roundedStops = (stops) => Math.min(8, Math.max(-8, Math.round(stops * 10) / 10));

/** The caption of `proof` with its letter; empty without one. */
export function sayCaption(caption, letter, proof, filtered) {
  caption.replaceChildren();
  if (!proof) return;
  const card = document.querySelector(`.card[data-proof="${proof.id}"]`);
  const bold = document.createElement("b");
  bold.textContent = letter;
  const said = card ? card.querySelector(".said").textContent.trim().replace(/\s+/g, " ") : `proof ${proof.id}`;
  const time = proof.seconds == null || !proof.picture ? proof.state : inSeconds(proof.seconds);
  const noise = proof.picture && proof.noise_said !== "–" ? ` · noise ${proof.noise_said}` : "";
  const kind = proof.unfiltered ? "unfiltered · " : filtered ? "filtered · " : proof.stand_ins ? "with stand-ins · " : "";
  caption.append(bold, `${kind}${time}${noise} · ${said}`);
  caption.title = said;
}

let about = "";

/** How A differs from B, in numbers. */
export async function sayVerdict(holder, { a, b }, exposure) {
  const key = a?.picture && b?.picture && !b.unfiltered ? `${b.picture}/${a.picture}` : "";
  if (key === about) return;
  about = key;
  holder.textContent = "";
  if (!key) return;
  const answer = await fetch(`/pictures/${key}/difference.json?exposure=${exposure.toFixed(1)}`);
  const difference = await answer.json().catch(() => null);
  if (about !== key) return;
  if (!answer.ok || difference.visible == null) return void (holder.textContent = "A and B cover different pixels");
  const light = difference.mean_light == null ? "" : `${difference.mean_light >= 1 ? "+" : "−"}${Math.abs((difference.mean_light - 1) * 100).toFixed(1)} % light, `;
  holder.textContent = `${difference.verdict} A against B: ${light}visible difference ${difference.visible.toFixed(3)}.`;
  holder.title = holder.textContent;
}
