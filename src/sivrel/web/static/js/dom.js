// Elements of the page: found by id, and made.

/** The element with an id. */
export const $ = (id) => document.getElementById(id);

/** Write words into an element, unless they stand there: the browser draws what is written again. */
export function write(element, words) {
  if (element.textContent !== words) element.textContent = words;
}

/** A new element with some properties, and what is inside it, without what is null. */
export function make(tag, properties = {}, ...inside) {
  const element = Object.assign(document.createElement(tag), properties);
  element.append(...inside.filter((one) => one !== null));
  return element;
}

/** Scroll `holder`, and nothing about it, until one of its elements is seen. */
export function scrollWithin(holder, element) {
  const outer = holder.getBoundingClientRect(), inner = element.getBoundingClientRect();
  holder.scrollTop += Math.max(0, inner.bottom - outer.bottom) - Math.max(0, outer.top - inner.top);
  holder.scrollLeft += Math.max(0, inner.right - outer.right) - Math.max(0, outer.left - inner.left);
}
