// Common to all pages: the key sheet, light or dark theme, and the worker's state.

import { followKeys, showKeys } from "./keys.js";

document.querySelector("[data-key-sheet]").addEventListener("click", showKeys);

const PAPER = "sivrel.paper";
const system = matchMedia("(prefers-color-scheme: dark)");

/** Light or dark: as the user chose on these pages, otherwise as the system is, also while it changes. */
function showPaper() {
  document.documentElement.dataset.paper = localStorage.getItem(PAPER) ?? (system.matches ? "dark" : "light");
  dispatchEvent(new Event("sivrel:paper"));
}
system.addEventListener("change", showPaper);
showPaper();

/** The other theme; that of the system is followed from then on. */
export function turnPaper() {
  const paper = document.documentElement.dataset.paper === "dark" ? "light" : "dark";
  if (paper === (system.matches ? "dark" : "light")) localStorage.removeItem(PAPER);
  else localStorage.setItem(PAPER, paper);
  showPaper();
}

/** Follow a link of the head, if the page has it. */
const go = (name) => () => document.querySelector(`.head [data-go=${name}]:not([hidden])`)?.click();
followKeys({
  paper: turnPaper, sheet: showKeys, printPage: () => print(), goShots: go("shots"), goBench: go("bench"), goSurvey: go("survey"), goSequences: go("sequences"),
  goRecipes: go("recipes"), goCaches: go("caches"), goMachines: go("machines"),
});

const status = document.getElementById("status");

export function sayStatus({ worker, rendering, waiting, helpers }) {
  const words = [];
  if (helpers) words.push(`${helpers} helper${helpers === 1 ? "" : "s"}`);
  if (worker.phase === "compiling") {
    const share = worker.total ? ` ${worker.done} of ${worker.total} kernels` : "";
    words.push(worker.total || !worker.message ? `preparing the renderer, once after an update:${share}` : `compiling ${worker.message}`);
  } else if (worker.phase === "absent") words.push(worker.message ? `the renderer: ${worker.message}` : "the renderer is starting");
  else if (worker.phase === "reading") words.push(`reading ${worker.message}`);
  if (rendering) words.push(`${rendering} rendering`);
  if (waiting) words.push(`${waiting} waiting`);
  if (worker.held) words.push("the queue is held");
  if (worker.warming && worker.phase !== "compiling") words.push(worker.warming);
  const said = words.join(" · ");
  if (status.textContent !== said) status.textContent = status.title = said;
}

/** The server does not answer: show a notice until it does. The form keeps its values, and proofs are on disk. */
function lost(on) {
  const notice = document.getElementById("lost");
  if (notice.hidden === !on) return;
  notice.hidden = !on;
  if (on) status.textContent = "";
}

async function watchStatus() {
  try {
    const answer = await fetch("/status.json");
    if (answer.ok) {
      const now = await answer.json();
      sayStatus(now);
      document.getElementById("full").hidden = !now.full;
      document.dispatchEvent(new CustomEvent("sivrel:status", { detail: now }));
    }
    lost(false);
  } catch {
    lost(true);
  }
  setTimeout(watchStatus, 1000);
}
watchStatus();

/** Open a tab of the right-hand panel: recipe, lights or finish. The recipe's form stays on the page behind the others: its button
 * proves the changes of all tabs. */
export function openLeaf(name) {
  for (const tab of document.querySelectorAll(".leaves [role=tab]")) {
    const leaf = tab.id.replace("leaf-", ""), panel = document.getElementById(leaf);
    tab.setAttribute("aria-selected", String(leaf === name));
    if (leaf === "recipe") panel.classList.toggle("behind", name !== "recipe");
    else panel.hidden = leaf !== name;
  }
  document.dispatchEvent(new CustomEvent("sivrel:leaf", { detail: name }));
}
