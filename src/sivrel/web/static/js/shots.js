// Files dropped anywhere on the page open as a scene.

const form = document.querySelector(".open:not(.judge) form"), files = document.getElementById("files"), path = document.getElementById("path");
const over = (on) => document.body.classList.toggle("dropping", on);

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
document.querySelector(".judge form").addEventListener("submit", (event) => {
  const pictures = document.getElementById("pictures");
  if (pictures.files.length) return;
  event.preventDefault();
  pictures.click();
});
form.addEventListener("submit", (event) => {
  if (!files.files.length && !path?.value.trim()) {
    event.preventDefault();
    files.focus();
    files.click();
  } else form.querySelector("button").textContent = "Reading…";
});
