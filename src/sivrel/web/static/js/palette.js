// The palette: one field that finds actions, settings, lights, proofs, findings and pages by plain words. Nothing is learnt, nothing is sent.

import { $, make } from "./dom.js";

const MOST = 60;
const SPELLINGS = { colour: "color", grey: "gray", centre: "center", favourite: "favorite", metre: "meter", neighbour: "neighbor" };

/** Words of a text: lower case, without accents, in one spelling. */
export function wordsOf(text) {
  const plain = text.normalize("NFKD").replace(/[\u0300-\u036f]/g, "").toLowerCase();
  return plain.split(/[^\p{L}\p{N}]+/u).filter(Boolean).map((word) => SPELLINGS[word] ?? word);
}

/** Whether two words differ by one letter: one more, one less, another, or two that changed places. */
export function isNear(a, b) {
  if (Math.abs(a.length - b.length) > 1 || Math.min(a.length, b.length) < 4) return false;
  let k = 0;
  while (k < a.length && k < b.length && a[k] === b[k]) k += 1;
  const [x, y] = [a.slice(k), b.slice(k)];
  return x.slice(1) === y || x === y.slice(1) || x.slice(1) === y.slice(1) || (x[0] === y[1] && x[1] === y[0] && x.slice(2) === y.slice(2));
}

/** How well a word that was typed fits one of an entry, 0 if not. */
function fit(typed, word) {
  if (word === typed) return 4;
  if (word.startsWith(typed)) return 3;
  if (typed.length > 2 && word.includes(typed)) return 1.5;
  return isNear(typed, word) || (typed.length > 4 && isNear(typed, word.slice(0, typed.length))) ? 1 : 0;
}

/** How well an entry fits what was typed: every word must be found in its title, which counts twice, or in its other words. */
export function fitOf(typed, entry) {
  const title = wordsOf(entry.title), others = wordsOf(`${entry.words ?? ""} ${entry.note ?? ""} ${entry.kind}`);
  let sum = 0;
  for (const word of typed) {
    const best = Math.max(0, ...title.map((one) => 2 * fit(word, one)), ...others.map((one) => fit(word, one)));
    if (!best) return 0;
    sum += best;
  }
  return sum / typed.length + (title[0]?.startsWith(typed[0]) ? 1 : 0);
}

export class Palette {
  /** `entries()` gives what can be found now: {kind, title, note, keys, words, act}. */
  constructor(entries) {
    this.entries = entries; this.all = []; this.found = []; this.at = 0;
    this.dialog = $("palette"); this.field = $("palette-field"); this.list = $("palette-list");
    this.field.addEventListener("input", () => this.show());
    this.dialog.addEventListener("keydown", (event) => this.pressed(event));
    this.list.addEventListener("click", (event) => {
      const line = event.target.closest("[role=option]");
      if (line) this.take(this.found[Number(line.dataset.at)]);
    });
    for (const button of document.querySelectorAll("[data-palette-open]")) button.addEventListener("click", () => this.open());
  }

  open() {
    if (this.dialog.open) return;
    this.all = this.entries();
    this.field.value = "";
    this.dialog.showModal();
    this.show();
  }

  show() {
    const typed = wordsOf(this.field.value);
    const fits = this.all.map((entry) => ({ entry, fit: typed.length ? fitOf(typed, entry) : 1 })).filter((one) => one.fit > 0);
    if (typed.length) fits.sort((p, q) => q.fit - p.fit); // stable: alike ones stay in their order
    this.found = fits.slice(0, typed.length ? MOST : undefined).map((one) => one.entry);
    let kind = "";
    this.list.replaceChildren(...this.found.flatMap((entry, k) => {
      const line = make("li", { id: `palette-${k}`, role: "option" },
        make("span", { className: "title", textContent: entry.title }), make("span", { className: "note", textContent: entry.note ?? "" }),
        make("span", { className: "keys" }, ...(entry.keys ?? []).map((key) => make("kbd", { textContent: key }))));
      line.dataset.at = String(k);
      const head = !typed.length && entry.kind !== kind ? [make("li", { role: "presentation", className: "kind", textContent: (kind = entry.kind) })] : [];
      return [...head, line];
    }));
    $("palette-none").hidden = this.found.length > 0;
    this.mark(0);
  }

  /** Mark a line, which Enter takes. */
  mark(at) {
    this.at = Math.max(0, Math.min(at, this.found.length - 1));
    for (const line of this.list.querySelectorAll("[role=option]")) line.setAttribute("aria-selected", String(Number(line.dataset.at) === this.at));
    const line = $(`palette-${this.at}`);
    if (line) {
      this.field.setAttribute("aria-activedescendant", line.id);
      line.scrollIntoView({ block: "nearest" });
    } else this.field.removeAttribute("aria-activedescendant");
  }

  pressed(event) {
    const steps = { ArrowDown: 1, ArrowUp: -1, PageDown: 8, PageUp: -8 }[event.key];
    if (steps) this.mark(this.at + steps);
    else if (event.key === "Enter") this.take(this.found[this.at]);
    else return;
    event.preventDefault();
  }

  take(entry) {
    if (!entry) return;
    this.dialog.close();
    entry.act();
  }
}
