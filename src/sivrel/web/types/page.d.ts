// What the type check takes on trust: elements that are looked up have the properties of their tag, which no selector says; and what pages
// exchange by events and globals.

interface ParentNode {
  querySelector(selectors: string): any;
  querySelectorAll(selectors: string): NodeListOf<any>;
}
interface Document {
  getElementById(id: string): any;
}
interface Element {
  closest(selectors: string): any;
}
interface Event {
  detail?: any;
}
interface EventTarget {
  [property: string]: any;
}
interface Window {
  sivrel: Record<string, any>;
  htmx: any;
}
declare const htmx: any;
