// The passes of a proof: their names, which contain light, and the list to choose from.

const WORDS = {
  direct: "direct light", indirect: "bounced light", emission: "emitted light", texels: "texels per pixel", clamped: "removed by the clamp",
  beyond: "beyond the limits", ended_in_glass: "paths that end in glass", self_hits: "self-hits", object: "objects", surface: "surfaces", fireflies: "brightest finds", filter_error: "error of the filter",
};
const LIGHT = /^(beauty|direct|indirect|emission|diffuse|gloss|glass|filtered|light\..*)$/;
const UNSEEN = ["variance", "half", "guide_albedo", "guide_normal"];
const USUAL = ["beauty", "direct", "indirect", "albedo", "normal"];

/** The noise filter's passes. */
export const BY_FILTER = ["filtered", "smeared", "filter_error"];

/** Whether a pass contains light, and so is finished. */
export const isLight = (pass) => LIGHT.test(pass);

/** Whether a proof has a pass, as far as is known. */
export const hasPass = (proof, pass) => !proof.passes?.length || proof.passes.includes(pass) || BY_FILTER.includes(pass);

/** Offer the passes of a proof, which differ from proof to proof; keeps the current one if possible. */
export function offerPasses(select, passes, filtered) {
  const before = select.value;
  const words = (name) => WORDS[name] ?? name.replace(/^noise\.(light\.)?/, "noise: ").replace(/^light\./, "light: ").replace(/^shadow\./, "unshadowed: ");
  const names = (passes?.length ? passes : USUAL).filter((name) => !UNSEEN.includes(name));
  const from = { smeared: "variance", filter_error: "half" };
  if (filtered) names.splice(1, 0, ...BY_FILTER.filter((name) => !from[name] || passes?.includes(from[name])));
  select.replaceChildren(...names.map((name) => new Option(words(name), name)));
  select.value = names.includes(before) ? before : "beauty";
}
