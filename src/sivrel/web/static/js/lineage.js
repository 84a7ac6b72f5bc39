// The lineage: finding, folding, starring, naming, thinning and deleting proofs.

import { $ } from "./dom.js";
import { post } from "./post.js";


export class Lineage {
  /** `chosen()` is the number of the proof on the plate; `renew()` fetches the cards again; `choose(id)` puts a proof on the plate. */
  constructor(slug, chosen, choose) {
    this.onRenewed = () => {};
    this.slug = slug; this.chosen = chosen; this.choose = choose;
    this.looked = " ";
    this.selected = new Set(); // numbers of proofs, for what is done to several
    this.folded = new Set(JSON.parse(localStorage.getItem(this.key) ?? "[]"));
    $("find").addEventListener("input", () => {
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.renew(), 150);
    });
    $("find").addEventListener("keydown", (event) => {
      if (event.key !== "Escape") return;
      $("find").value = "";
      $("find").blur();
      this.renew();
    });
    $("thin").addEventListener("click", () => this.thin());
    $("flaw").addEventListener("change", () => this.renew());
    $("lineage").addEventListener("click", (event) => this.click(event));
    $("naming").addEventListener("submit", (event) => this.named(event));
    $("naming").addEventListener("keydown", (event) => event.key === "Escape" && this.closeName());
    $("lineage").addEventListener("dblclick", (event) => event.target.closest(".choose") && this.openName(event.target.closest(".card").dataset.proof));
    $("caption-a").addEventListener("dblclick", () => this.chosen() && this.openName(this.chosen()));
  }

  get key() {
    return `sivrel.folded.${this.slug}`;
  }

  card(id) {
    return document.querySelector(`.card[data-proof="${id}"]`);
  }

  /** Fetch the cards again: the shown ones, or another range, which includes the selected proof unless the user scrolled away. */
  async renew(window = null) {
    const query = new URLSearchParams({ find: $("find").value, flaw: $("flaw").value });
    const shown = window ?? { ...this.window(), around: this.chosen() ?? 0 };
    for (const [name, value] of Object.entries(shown)) query.set(name, value);
    const answer = await fetch(`/shots/${this.slug}/lineage?${query}`);
    if (!answer.ok) return;
    const text = await answer.text(), had = this.focused();
    $("lineage").innerHTML = text;
    if (had) this.card(had.card)?.querySelector(had.button)?.focus({ preventScroll: true });
    this.fold();
    this.saySelected();
    this.onRenewed();
  }

  // ---- several at once -------------------------------------------------------------------------------------------

  /** Select a proof, or no more. */
  select(id) {
    if (!this.selected.delete(id)) this.selected.add(id);
    this.saySelected();
  }

  saySelected() {
    for (const card of document.querySelectorAll(".card")) card.toggleAttribute("data-selected", this.selected.has(Number(card.dataset.proof)));
    const line = $("selected");
    line.hidden = this.selected.size === 0;
    line.querySelector("b").textContent = `${this.selected.size} selected:`;
    line.querySelector("[data-lineage=compare]").hidden = this.selected.size < 2 || this.selected.size > 4;
  }

  clear() {
    this.selected.clear();
    this.saySelected();
  }

  compare() {
    if (this.selected.size > 1 && this.selected.size < 5) location.href = `/shots/${this.slug}/compare?proofs=${[...this.selected].join(",")}`;
  }

  sheet() {
    location.href = `/shots/${this.slug}/sheet.pdf?proofs=${[...this.selected].join(",")}`;
  }

  /** Do something with every selected proof, or with `id` if none is. */
  async each(id, act) {
    for (const one of this.selected.size ? [...this.selected] : [id]) await act(one);
  }

  starAll() {
    return this.each(0, (id) => this.card(id)?.hasAttribute("data-starred") || this.star(id));
  }

  async removeAll() {
    const removed = [];
    await this.each(0, async (id) => removed.push(await post(`/proofs/${id}/delete`)));
    const gone = this.selected.has(this.chosen());
    this.clear();
    await this.renew();
    const first = document.querySelector(".card");
    if (gone && first) await this.choose(Number(first.dataset.proof));
    this.sayPutAside({ count: removed.length, moment: removed.map((one) => one.moment) });
  }

  /** The cards that are shown: number of the first, and how many; unknown while a search is running. */
  window() {
    const list = document.querySelector("#lineage ol"), looked = `${$("find").value} ${$("flaw").value}`;
    const same = looked === this.looked;
    this.looked = looked;
    return same && list ? { first: list.dataset.first, count: Math.max(list.dataset.count, list.dataset.step) } : {};
  }

  /** More cards above, or below, those that are shown. */
  earlier() {
    const { first, count, step } = document.querySelector("#lineage ol").dataset, more = Math.min(first, step);
    return this.renew({ first: first - more, count: Number(count) + more });
  }

  later() {
    const { first, count, step } = document.querySelector("#lineage ol").dataset;
    return this.renew({ first, count: Number(count) + Number(step) });
  }

  /** The card and button that have the focus, if any: they keep it when the cards are new. */
  focused() {
    const at = document.activeElement, card = at?.closest?.(".card");
    return card ? { card: card.dataset.proof, button: `.${at.classList[0]}` } : null;
  }

  // ---- folding -------------------------------------------------------------------------------------------------

  /** Hide descendants of folded cards. During a search nothing is folded. */
  fold() {
    const looking = $("find").value.trim() || $("flaw").value, hidden = new Set();
    let before = "";
    for (const card of document.querySelectorAll(".card")) {
      const id = card.dataset.proof, parent = card.dataset.parent;
      card.toggleAttribute("data-branch", Boolean(parent && before && parent !== before)); // along the foot, the line does not go on here
      before = id;
      const away = !looking && (hidden.has(parent) || (this.folded.has(parent) && this.card(parent) !== null));
      card.hidden = away;
      if (away) hidden.add(id);
      const button = card.querySelector(".fold"), folded = this.folded.has(id);
      if (!button) continue;
      button.textContent = folded ? "▸" : "▾";
      button.setAttribute("aria-expanded", String(!folded));
    }
  }

  toggleFold(id, on = !this.folded.has(String(id))) {
    if (on && this.card(id)?.querySelector(".fold")) this.folded.add(String(id));
    else this.folded.delete(String(id));
    localStorage.setItem(this.key, JSON.stringify([...this.folded]));
    this.fold();
  }

  // ---- stars, names ----------------------------------------------------------------------------------------------

  async star(id) {
    const { starred } = await post(`/proofs/${id}/star`);
    const card = this.card(id), button = card.querySelector(".star");
    card.toggleAttribute("data-starred", starred);
    button.textContent = starred ? "★" : "☆";
    button.setAttribute("aria-pressed", String(starred));
  }

  /** Give a proof a name and a note, in the line under the plate. */
  openName(id) {
    const card = this.card(id), form = $("naming");
    if (!card) return;
    form.dataset.proof = id;
    form.elements.name.value = card.dataset.name ?? "";
    form.elements.note.value = card.dataset.note ?? "";
    this.closeName(false);
    form.elements.name.select();
  }

  closeName(hidden = true) {
    $("naming").hidden = hidden;
    $("caption-a").hidden = !hidden;
  }

  async named(event) {
    event.preventDefault();
    const { dataset, elements } = $("naming");
    this.closeName();
    $("stage").focus({ preventScroll: true });
    await post(`/proofs/${dataset.proof}/name`, { name: elements.name.value, note: elements.note.value });
    await this.renew();
  }

  // ---- deleting ----------------------------------------------------------------------------------------------------

  async remove(id) {
    const next = this.card(id)?.nextElementSibling ?? this.card(id)?.previousElementSibling;
    const removed = await post(`/proofs/${id}/delete`);
    if (next?.dataset.proof) await this.choose(Number(next.dataset.proof));
    await this.renew();
    this.sayPutAside(removed);
  }

  async thin() {
    const answer = await fetch(`/shots/${this.slug}/thin.json`), { count, of } = await answer.json();
    const sheet = $("thin-sheet");
    sheet.querySelector("p").textContent = count
      ? `${count} of ${of} proofs would be deleted: those without star, name or note that are only steps between others. Branch points and the first and last of each line stay.`
      : "Every proof is a branch point, an end, starred or named: there is nothing to thin.";
    sheet.querySelector(".ink").hidden = !count;
    sheet.returnValue = "";
    sheet.showModal();
    sheet.onclose = async () => {
      if (sheet.returnValue !== "thin") return;
      const removed = await post(`/shots/${this.slug}/thin`);
      await this.renew();
      this.sayPutAside(removed);
    };
  }

  sayPutAside({ count, moment }) {
    const slip = $("slip");
    slip.replaceChildren(`${count} ${count === 1 ? "proof" : "proofs"} deleted. `);
    const back = Object.assign(document.createElement("button"), { type: "button", className: "link", textContent: "Restore" });
    back.addEventListener("click", () => this.restore(moment));
    slip.append(back);
    slip.hidden = false;
    clearTimeout(this.slipping);
    this.slipping = setTimeout(() => (slip.hidden = true), 12000);
  }

  async restore(moment = "") {
    for (const one of [moment].flat()) await post(`/shots/${this.slug}/restore`, { moment: one });
    $("slip").hidden = true;
    await this.renew();
  }

  async empty() {
    await post(`/shots/${this.slug}/empty`);
    await this.renew();
  }

  click(event) {
    const act = event.target.closest("[data-lineage]")?.dataset.lineage;
    if (act) return this[act]();
    const card = event.target.closest(".card"), id = Number(card?.dataset.proof);
    if (!card) return;
    if (event.target.closest(".fold")) return this.toggleFold(id);
    if (event.target.closest(".star")) return this.star(id);
    if (event.ctrlKey || event.metaKey) return this.select(id);
    this.choose(id, event.target.closest(".with") || event.shiftKey);
  }

  /** The card so many places further that is not folded away. */
  step(by) {
    const cards = [...document.querySelectorAll(".card:not([hidden])")];
    const at = cards.findIndex((card) => card.dataset.proof === String(this.chosen()));
    const card = cards[Math.min(cards.length - 1, Math.max(0, at + by))];
    if (card && at + by >= 0 && at + by < cards.length) this.choose(Number(card.dataset.proof));
    else document.querySelector(`#lineage [data-lineage=${by < 0 ? "earlier" : "later"}]`)?.click();
  }
}
