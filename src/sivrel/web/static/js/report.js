// The report: to read, and to print.

import { followKeys } from "./keys.js";

document.getElementById("print").addEventListener("click", () => print());
followKeys({ print: () => print(), back: () => (location.href = document.querySelector(".head nav a:nth-child(2)").href) });
