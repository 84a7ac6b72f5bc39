// The shots page: files dropped anywhere on it are opened, and the list is searched.

import { opening } from "./opening.js";

const form = document.querySelector(".open form"), files = document.getElementById("files"), path = document.getElementById("path");
const over = (on) => document.body.classList.toggle("dropping", on);
const PICTURES = /\.(exr|png|hdr|jpe?g|tiff?)$/i;

/** Ask what is known of pictures only where pictures were chosen, without a scene. */
const arePictures = () => files.files.length > 0 && [...files.files].every((file) => PICTURES.test(file.name));
const chosen = () => (document.getElementById("of-pictures").hidden = !arePictures());

addEventListener("dragover", (event) => {
  event.preventDefault();
  over(true);
});
addEventListener("dragleave", (event) => event.relatedTarget || over(false));
addEventListener("drop", (event) => {
  event.preventDefault();
  over(false);
  if (!event.dataTransfer.files.length) return;
  files.files = event.dataTransfer.files;
  if (path) path.value = "";
  form.requestSubmit();
});
files.addEventListener("change", chosen);
form.addEventListener("submit", (event) => {
  if (!files.files.length && !path?.value.trim()) {
    event.preventDefault();
    files.focus();
    files.click();
    return;
  }
  if (arePictures()) {
    form.querySelector("button.ink").textContent = "Reading…";
    return;
  }
  event.preventDefault();
  opening(form);
});

const find = document.getElementById("find-shot");
find?.addEventListener("input", () => {
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
  const cards = [...document.querySelectorAll(".shots > li[data-find]")];
  for (const card of cards) card.hidden = !words.every((word) => card.dataset.find.includes(word));
  document.getElementById("no-shot").hidden = cards.some((card) => !card.hidden);
});
