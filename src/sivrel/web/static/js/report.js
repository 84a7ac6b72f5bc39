// The report: to read, and to print.

import { followKeys } from "./keys.js";

const nothing = () => {};
document.getElementById("print").addEventListener("click", () => print());
followKeys({ p: () => print(), Escape: () => (location.href = document.querySelector(".head nav a:nth-child(2)").href) }, { hold: nothing, undo: nothing, redo: nothing });
