// Elements of the page: found by id, and made.

/** The element with an id. */
export const $ = (id) => document.getElementById(id);

/** A new element with some properties, and what is inside it, without what is null. */
export function make(tag, properties = {}, ...inside) {
  const element = Object.assign(document.createElement(tag), properties);
  element.append(...inside.filter((one) => one !== null));
  return element;
}
