// Elements from plain values. Texts are only ever set as text: nothing that an engine wrote can become markup.

/** An element of `name` with attributes, and children that are elements or texts. */
export function make(name, attributes = {}, ...children) {
  return dressed(document.createElement(name), attributes, children);
}

/** The same in a drawing. */
export function draw(name, attributes = {}, ...children) {
  return dressed(document.createElementNS("http://www.w3.org/2000/svg", name), attributes, children);
}

function dressed(element, attributes, children) {
  for (const [name, value] of Object.entries(attributes)) {
    if (value === undefined || value === null || value === false) continue;
    if (name.startsWith("on")) element.addEventListener(name.slice(2), value);
    else element.setAttribute(name, value === true ? "" : value);
  }
  element.append(...children.filter((child) => child !== null && child !== undefined));
  return element;
}

/** "1 clip", "2 clips". */
export function plural(count, noun) {
  return `${count.toLocaleString("en")} ${noun}${count === 1 ? "" : "s"}`;
}

/** Seconds with two places. */
export function seconds(ms) {
  return `${(ms / 1000).toFixed(2)} s`;
}
