// The lights panel: a line a light, its settings as sentences, solo and switch; and light reach.

import { openLeaf } from "./common.js";
import { $ } from "./dom.js";


export class LightsPanel {
  /** `proof()` is the number of the proof on the plate. */
  constructor(slug, recipe, proof) {
    this.slug = slug; this.recipe = recipe; this.proof = proof;
    this.holder = $("lights");
    this.opened = ""; this.group = ""; this.find = ""; this.order = "file";
    this.onEdit = () => {};
    this.place = (kind, put) => {};
    this.holder.addEventListener("click", (event) => this.clicked(event));
    this.holder.addEventListener("input", (event) => {
      if (event.target.dataset.edit) this.typed(event.target, true);
      if (event.target.id === "find-light") this.search(event.target);
    });
    this.holder.addEventListener("change", (event) => {
      if (event.target.dataset.edit) this.typed(event.target, false);
      if ("groupStops" in event.target.dataset) this.brighten(event.target);
      if (event.target.id === "order-lights") {
        this.order = event.target.value;
        this.load();
      }
    });
    document.addEventListener("sivrel:leaf", (event) => event.detail === "lights" && this.load());
  }

  get shown() {
    return !this.holder.hidden;
  }

  show(lights) {
    openLeaf(lights ? "lights" : "recipe");
  }

  async load() {
    if (!this.shown) return;
    const mine = (this.loading = {});
    const fields = { proof: this.proof() ?? "", edits: this.recipe.field("edits").value, open: this.opened, way: this.recipe.field("shadows.way").value, find: this.find, order: this.order, group: this.group };
    const headers = { "X-CSRFToken": document.querySelector("meta[name=csrf]").content, "HX-Request": "true" };
    const answer = await fetch(`/shots/${this.slug}/lights`, { method: "POST", headers, body: new URLSearchParams(fields) });
    const text = await answer.text();
    if (mine !== this.loading) return;
    if (!answer.ok) return void ($("problem").innerHTML = text);
    $("problem").replaceChildren();
    const typing = document.activeElement?.id === "find-light";
    this.holder.innerHTML = text;
    if (typing) {
      const field = /** @type {HTMLInputElement} */ ($("find-light"));
      field.focus();
      field.setSelectionRange(field.value.length, field.value.length);
    }
    this.mark();
  }

  /** Search once the typing rests. */
  search(field) {
    this.find = field.value;
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.load(), 200);
  }

  /** The lights of a group's line: name and exposure in the file of each. */
  lightsOf(element) {
    return JSON.parse(element.closest("[data-lights]").dataset.lights);
  }

  switchGroup(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    this.recipe.setEdits(Object.fromEntries(this.lightsOf(button).map(([name]) => [`light.${name}.on`, on ? "" : "off"])));
    this.onEdit();
    return this.load();
  }

  brighten(field) {
    const stops = Number(field.value.replace(",", "."));
    field.classList.toggle("wrong", !Number.isFinite(stops));
    if (!Number.isFinite(stops)) return;
    const edits = this.lightsOf(field).map(([name, exposure]) => [`light.${name}.exposure`, stops ? String(Number((exposure + stops).toFixed(4))) : ""]);
    this.recipe.setEdits(Object.fromEntries(edits));
    this.mark();
    this.onEdit();
  }

  /** Changes from the parent are red. */
  mark() {
    const changed = new Set(this.recipe.changedEdits());
    for (const field of this.holder.querySelectorAll("[data-edit]")) {
      field.classList.toggle("changed", changed.has(field.dataset.edit));
      field.classList.toggle("wrong", !this.isRight(field));
    }
    for (const button of this.holder.querySelectorAll("[data-toggle]")) button.classList.toggle("changed", changed.has(button.dataset.toggle));
    for (const line of this.holder.querySelectorAll(".light[data-name]"))
      line.classList.toggle("edited", [...changed].some((key) => key.startsWith(`light.${line.dataset.name}.`)));
  }

  isRight(field) {
    if (field.dataset.min === undefined || field.value === "") return true;
    const value = Number(field.value);
    return Number.isFinite(value) && (field.dataset.whole === undefined || Number.isInteger(value)) && value >= Number(field.dataset.min) && value <= Number(field.dataset.max);
  }

  typed(field, still) {
    if (this.isRight(field)) {
      const back = field.value === field.dataset.file || field.value === "";
      this.recipe.setEdits({ [field.dataset.edit]: back ? "" : field.value }, still);
    }
    this.mark();
    if (!still) this.onEdit();
    // Some settings decide which others are shown.
    if (!still && /\.(aimed|shadows\.way|cone_angle|focus|profile)$/.test(field.dataset.edit)) this.load();
  }

  open(name) {
    if (name.startsWith("lights in ")) return (this.group = name.slice(10)), this.load();
    this.opened = this.opened === name ? "" : name;
    return this.load();
  }

  toggle(key) {
    const on = key.endsWith(".on");
    const is = this.recipe.edits[key] ?? on;
    const now = !(is === true || is === "on");
    this.recipe.setEdits({ [key]: now === on ? "" : now ? "on" : "off" });
    this.onEdit();
    return this.load();
  }

  /** Solo or switch the light under the pointer, or the open one. */
  press(what) {
    const find = (which) => this.holder.querySelector(`.light${which} [data-toggle$=".${what}"]`);
    const button = find(":hover") ?? find("[data-open]");
    if (button) this.toggle(button.dataset.toggle);
  }

  clicked(event) {
    const at = (selector) => event.target.closest(selector);
    if (at("[data-toggle]")) return this.toggle(at("[data-toggle]").dataset.toggle);
    if (at("[data-group-on]")) return this.switchGroup(at("[data-group-on]"));
    if (at("[data-open-group]")) {
      const { openGroup } = at("[data-open-group]").dataset;
      this.group = this.group === openGroup ? "" : openGroup;
      this.opened = "";
      return this.load();
    }
    if (at("[data-open-light]")) {
      const button = at("[data-open-light]");
      return this.open(button.dataset.as + button.dataset.openLight);
    }
    if (at("[data-remove]")) {
      this.recipe.dropEdits(`${at("[data-remove]").dataset.remove}.`);
      this.onEdit();
      return this.load();
    }
    if (at("[data-map]")) {
      const sheet = $("map-sheet");
      sheet.querySelector("img").src = at("[data-map]").dataset.map;
      return sheet.showModal();
    }
    if (at("#add")) return this.add();
    if (at("#layer")) return this.layer();
  }

  add() {
    const [group, kind] = $("add-kind").value.split(":");
    const names = [...this.holder.querySelectorAll(".light[data-name]")].map((line) => line.dataset.name);
    let name = $("add-name").value.trim().replaceAll(".", " "), number = 1;
    if (!name) while (names.includes((name = `${kind[0].toUpperCase()}${kind.slice(1)}${number > 1 ? ` ${number}` : ""}`))) number++;
    if (names.includes(name)) return void ($("problem").innerHTML = '<p class="problem" role="alert">There is one of this name already; give it another.</p>');
    const put = (values = {}) => {
      const edits = { ...values, [group === "card" ? "pattern" : "kind"]: kind };
      this.recipe.setEdits(Object.fromEntries(Object.entries(edits).map(([field, value]) => [`${group}.${name}.${field}`, value])));
      this.opened = name;
      this.onEdit();
      this.load();
    };
    if (["sun", "dome", "daylight"].includes(kind)) put();
    else this.place(kind, put);
  }

  async layer() {
    const headers = { "X-CSRFToken": document.querySelector("meta[name=csrf]").content, "HX-Request": "true" };
    const body = new URLSearchParams({ edits: this.recipe.field("edits").value });
    const answer = await fetch(`/shots/${this.slug}/layer`, { method: "POST", headers, body });
    if (!answer.ok) return void ($("problem").innerHTML = await answer.text());
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await answer.blob());
    link.download = `${this.slug}-edits.usda`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  }
}

/** Show which lights reach a point in the note beside it. */
export function sayReach(slip, reach, openLight, openObject) {
  slip.replaceChildren();
  const element = (tag, text, more = {}) => Object.assign(document.createElement(tag), { textContent: text, ...more });
  if (!reach.object) return void slip.append(element("p", "Nothing is seen here: the ray leaves the scene."));
  const head = element("p", "");
  const short = (name) => name.replace(/\/+$/, "").split("/").slice(-2).join("/").replace(/^\//, "");
  const thing = element("button", short(reach.object), { type: "button", className: "link", title: reach.object, onclick: () => openObject(reach.object) });
  head.append(element("b", "Reaching "), thing);
  slip.append(head);
  const sum = reach.lights.reduce((total, light) => total + light.brings, 0);
  const list = element("ul", "");
  for (const light of reach.lights) {
    const item = element("li", "");
    item.append(element("button", short(light.name), { type: "button", className: "link", onclick: () => openLight(light.name) }));
    const stopped = light.unhindered > 0 ? 1 - light.brings / light.unhindered : 0;
    const blockers = light.blockers.map(([name, share]) => `${short(name)} ${Math.round(share * 100)} %`).join(", ");
    let text;
    if (light.why) text = ` ${light.why}`;
    else if (light.unhindered === 0) text = " does not reach this side";
    else {
      text = ` brings ${light.brings.toPrecision(3)}`;
      if (sum > 0 && light.brings > 0) text += `, ${Math.round((light.brings / sum) * 100)} % of the direct light`;
      if (stopped > 0.005) text += `; ${Math.round(stopped * 100)} % is stopped${blockers ? ` by ${blockers}` : ""}`;
    }
    item.append(text);
    if (light.brings === 0) item.className = "none";
    list.append(item);
  }
  slip.append(list.children.length ? list : element("p", "No light is on."));
}
