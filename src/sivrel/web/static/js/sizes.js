// Sizes: the whole picture coarser or finer, and enlarging a region to the frame's pixels.

const MOST = 32768;
let enlarged = null; // widths before and after the last enlarging

/** Set width, height and region times a factor; false if the size is invalid. */
export function rescale(recipe, factor) {
  const [width, height] = recipe.size(), region = recipe.region();
  const w = Math.round(width * factor), h = Math.round(height * factor);
  if (w < 8 || h < 8 || w > MOST || h > MOST) return false;
  recipe.field("width").value = w;
  recipe.field("height").value = h;
  if (region) {
    const [x0, y0, x1, y1] = [region[0] * w / width, region[1] * h / height, region[2] * w / width, region[3] * h / height];
    const box = [Math.floor(x0), Math.floor(y0), Math.min(w, Math.ceil(x1)), Math.min(h, Math.ceil(y1))];
    recipe.field("region").value = box.join(",");
  }
  recipe.say();
  recipe.step();
  return true;
}

/** Set width and height to the pixels that the picture has on the plate, so that one is one of the screen. */
export function fitToPlate(recipe, plate) {
  const [width, height] = recipe.size(), scale = Math.min(plate.canvas.width / width, plate.canvas.height / height);
  return rescale(recipe, Math.floor(width * scale) / width);
}

/** Enlarge the region until it is as many pixels across as the whole frame, or undo that. Returns a message if there is no region. */
export function enlarge(recipe) {
  const region = recipe.region(), [width] = recipe.size();
  if (enlarged?.after === width) {
    rescale(recipe, enlarged.before / width);
    enlarged = null;
    return "";
  }
  if (!region) return "Drag a region first (R): it is then enlarged to the whole frame's pixels.";
  const factor = Math.min(width / (region[2] - region[0]), MOST / width, 16);
  if (!rescale(recipe, factor)) return "This region is too small to enlarge.";
  enlarged = { before: width, after: recipe.size()[0] };
  return "";
}
