// What the palette of the bench finds: commands, settings with their values, lights, findings, proofs, pages.

import { openLeaf } from "./common.js";
import { actOf, commands } from "./keys.js";

const SETTINGS = "[name*='.'], [name=camera], [name=width], [name=height], [name=seed], [name=time]";

/** Entries as palette.js shows them. `lights` are names; `openLight(name)` and `choose(proof)` go there. */
export function foundOnBench({ recipe, findings, lights, openLight, choose }) {
  const actions = commands.filter((one) => one.name !== "palette" && !one.held).map((one) => ({
    kind: "Actions", title: one.says[0].toUpperCase() + one.says.slice(1), keys: one.shown, words: one.words,
    act: one.name === "undo" ? () => recipe.undo() : actOf(one.name),
  }));
  const settings = [...recipe.holder.querySelectorAll(SETTINGS)].filter((field) => !field.closest("[hidden]")).map((field) => ({
    kind: "Settings", title: field.ariaLabel, note: `now ${field.selectedOptions?.[0]?.textContent || field.value || "empty"}`, words: `${field.name} ${field.title}`,
    act: () => (openLeaf("recipe"), field.focus(), field.select?.()),
  }));
  const lamps = lights.map((name) => ({ kind: "Lights", title: name, note: "open its settings", words: "light lamp", act: () => openLight(name) }));
  const flaws = findings.list.map((one, k) => ({
    kind: "Findings", title: one.title ?? one.kind, note: one.says ?? "", act: () => (openLeaf("findings"), findings.turn(k - findings.at)),
  }));
  const cards = [...document.querySelectorAll(".card[data-proof]")].map((card) => ({
    kind: "Proofs", title: `Proof ${card.dataset.proof}${card.dataset.name ? `: ${card.dataset.name}` : ""}`, note: card.querySelector(".said")?.textContent.trim() ?? "",
    act: () => choose(Number(card.dataset.proof)),
  }));
  const links = [...document.querySelectorAll(".head nav a:not([hidden])")].map((link) => ({
    kind: "Pages", title: link.textContent, note: link.title, act: () => (location.href = link.href),
  }));
  return [...actions, ...settings, ...lamps, ...flaws, ...cards, ...links];
}
