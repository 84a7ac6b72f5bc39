// Elements of the page: found by id, and made.

/** The element with an id. */
export const $ = (id) => document.getElementById(id);

/** A new element with some properties (`dataset` and `style` by key), and what is inside it. */
export function make(tag, properties = {}, ...inside) {
  const { dataset, style, ...plain } = properties;
  const element = Object.assign(document.createElement(tag), plain);
  Object.assign(element.dataset, dataset);
  Object.assign(element.style, style);
  element.append(...inside.filter((one) => one != null));
  return element;
}
