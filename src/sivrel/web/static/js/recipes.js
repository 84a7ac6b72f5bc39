// Named recipes on the bench: start from one, or save the one in the form.

import { $ } from "./dom.js";
import { post } from "./post.js";
import { json } from "./watcher.js";


/** `proof()` is the number of the proof on the plate, whose picture a kept recipe takes. */
export function followRecipes(recipe, proof) {
  recipe.holder.addEventListener("change", async (event) => {
    if (event.target.id !== "start-from" || !event.target.value) return;
    const { values } = await json(`/recipes/${event.target.value}.json`);
    event.target.value = "";
    recipe.setValues(values);
  });
  recipe.holder.addEventListener("click", (event) => {
    if (event.target.id === "keep-recipe") open();
  });
  $("recipe-sheet").addEventListener("close", keep);

  function open() {
    $("recipe-sheet").returnValue = "";
    $("recipe-sheet").showModal();
  }

  async function keep() {
    const sheet = $("recipe-sheet"), message = sheet.querySelector(".message");
    if (sheet.returnValue !== "keep") return;
    const fields = new FormData(recipe.form);
    for (const name of ["recipe_name", "reason"]) fields.set(name, sheet.querySelector(`[name=${name}]`).value);
    fields.set("proof", proof() ?? "");
    try {
      const { id, name } = await post("/recipes", fields);
      message.replaceChildren();
      for (const field of sheet.querySelectorAll("input, textarea")) field.value = "";
      $("start-from").add(new Option(name, `own:${id}`), 1);
    } catch (problem) {
      message.innerHTML = '<p class="problem" role="alert"></p>';
      message.firstChild.textContent = problem.message;
      open();
    }
  }
}
