// The clip browser: what is asked for above, the clips that fit on the left, one of them on the right.

import { Chooser, ORDERS, RESULTS } from "./choose.js";
import { showClip } from "./detail.js";
import { LongList } from "./list.js";
import { make, plural } from "./make.js";

// Variants with a column in the list at first; others can be chosen.
const COLUMNS = 4;
// Letters of a column's head.
const LETTERS = 11;

/** Puts the browser into `box`. */
export function browse(book, box) {
  const chooser = new Chooser(book);
  const all = book.variants.map((_, variant) => variant);
  const asked = { search: "", slice: null, kind: -1, result: "", order: "harm", first: 0, second: Math.min(1, all.length - 1), columns: new Set(all.slice(0, COLUMNS)) };
  const count = make("p", { class: "quiet count", role: "status" });
  const detail = make("div", { class: "detail", role: "region", "aria-label": "The clip", tabindex: "0" });
  const rows = make("div", { class: "list" });
  const columns = make("div", { class: "heads quiet", "aria-hidden": "true" });
  let shown = [];
  let open = null;
  let ready = false;
  const list = new LongList(rows, "Clips", (clip) => row(book, shown, clip), (clip) => {
    open = clip;
    showClip(book, clip, detail);
    // What the page shows by itself needs no address.
    if (ready) remember(book, asked, clip);
  });
  const choose = (clip = null) => {
    shown = all.filter((variant) => asked.columns.has(variant));
    const names = apart(shown.map((variant) => book.variants[variant].name), LETTERS);
    const heads = shown.map((variant, at) => make("span", { title: book.variants[variant].name }, names[at]));
    columns.replaceChildren(make("span", {}, "wrong words of"), ...heads);
    for (const element of [columns, rows]) element.style.minWidth = `${200 + 82 * shown.length}px`;
    const chosen = chooser.chosen(asked);
    count.textContent = `${plural(chosen.length, "clip")} of ${book.count.toLocaleString("en")}${left(book)}`;
    list.show(chosen, clip === null ? 0 : Math.max(0, chosen.indexOf(clip)));
  };
  const form = tools(book, asked, () => choose());
  box.append(form.element, count, make("div", { class: "panes" }, make("div", { class: "pane" }, columns, rows), detail));
  document.querySelectorAll(".keys").forEach((line) => (line.hidden = false));
  const follow = () => {
    const told = recall(book, asked);
    if (!told) return false;
    form.show();
    choose(told.clip);
    return true;
  };
  if (follow()) box.scrollIntoView();
  else choose();
  ready = true;
  addEventListener("hashchange", () => {
    if (follow()) box.scrollIntoView();
  });
  addEventListener("keydown", (event) => byKey(event, { list, rows, detail, search: form.search, box, isOpen: () => open !== null }));
}

/** Keys that work from anywhere on the page, but for fields that take letters. */
function byKey(event, { list, rows, detail, search, box, isOpen }) {
  const field = event.target.closest("input, select, textarea, [contenteditable]");
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (field) {
    if (event.key === "Escape") {
      field.blur();
      rows.focus();
    }
    return;
  }
  const to = (element) => {
    box.scrollIntoView({ block: "start" });
    element.focus({ preventScroll: true });
  };
  const plays = () => {
    const audio = detail.querySelector("audio");
    if (!audio || event.target.closest("button, summary, a, audio")) return false;
    if (audio.paused) audio.play();
    else audio.pause();
    return true;
  };
  const does = {
    "/": () => to(search),
    c: () => to(rows),
    j: () => list.step(1),
    k: () => list.step(-1),
    " ": () => isOpen() && (box.contains(event.target) || event.target === document.body) && plays(),
  }[event.key];
  if (does && does() !== false) event.preventDefault();
}

/** Names of at most `most` letters that stay apart: what all begin or end with is left out, and what is cut keeps its end. */
export function apart(names, most) {
  if (names.every((name) => name.length <= most)) return names;
  const words = names.map((name) => name.split(/(?<=[/ ])|(?=[/ ])/));
  const same = (at) => words.every((parts) => parts.length > 1 && parts.at(at) === words[0].at(at));
  if (names.length > 1) {
    while (same(0)) words.forEach((parts) => parts.shift());
    while (same(-1)) words.forEach((parts) => parts.pop());
  }
  const short = (parts) => {
    const rest = parts.join("").trim();
    const half = Math.floor((most - 1) / 2);
    return rest.length > most ? `${rest.slice(0, most - 1 - half)}…${rest.slice(-half)}` : rest;
  };
  const shorter = words.map(short);
  return new Set(shorter).size === new Set(names).size ? shorter : shorter.map((name, at) => `${at + 1} ${name}`);
}

/** Keeps what is shown in the address, so that it can be sent. */
function remember(book, asked, clip) {
  const parts = [clip === null ? "clips" : `clip=${encodeURIComponent(book.id(clip))}`];
  const add = (name, value) => value && parts.push(`${name}=${encodeURIComponent(value)}`);
  if (asked.slice) add("slice", `${book.data.keys[asked.slice[0]].by}=${book.data.keys[asked.slice[0]].values[asked.slice[1] - 1]}`);
  if (asked.kind >= 0) add("kind", book.data.kinds[asked.kind]);
  add("result", asked.result);
  if (asked.order !== "harm") add("order", asked.order);
  add("search", asked.search);
  if (asked.first !== 0 || asked.second !== 1) {
    add("first", book.variants[asked.first]?.name);
    add("second", book.variants[asked.second]?.name);
  }
  history.replaceState(null, "", `#${parts.join("&")}`);
}

/** Takes from the address what is to be shown; null where it names nothing of the browser. */
function recall(book, asked) {
  const parts = location.hash.slice(1).split("&");
  if (!/^clips?(=|$)/.test(parts[0]) || (parts[0] === "clips" && parts.length === 1)) return null;
  const told = {};
  for (const part of parts) {
    const at = part.indexOf("=");
    try {
      told[at < 0 ? part : part.slice(0, at)] = at < 0 ? "" : decodeURIComponent(part.slice(at + 1));
    } catch {
      // An address that was cut in the middle of a letter names less.
    }
  }
  const slice = told.slice === undefined ? null : told.slice.split(/=(.*)/s);
  const key = slice ? book.data.keys.findIndex(({ by }) => by === slice[0]) : -1;
  const value = key >= 0 ? book.data.keys[key].values.indexOf(slice[1]) : -1;
  asked.slice = value >= 0 ? [key, value + 1] : null;
  asked.kind = told.kind === undefined ? -1 : book.data.kinds.indexOf(told.kind);
  asked.result = RESULTS.some(([id]) => id === told.result) ? told.result : "";
  asked.order = ORDERS.some(([id]) => id === told.order) ? told.order : "harm";
  asked.search = told.search || "";
  for (const side of ["first", "second"]) {
    const at = book.variants.findIndex(({ name }) => name === told[side]);
    if (at >= 0) {
      asked[side] = at;
      asked.columns.add(at);
    }
  }
  const clip = told.clip === undefined ? -1 : book.data.clips.id.indexOf(told.clip);
  return { clip: clip < 0 ? null : clip };
}

function left(book) {
  return book.data.left_out > 0 ? `; ${plural(book.data.left_out, "clip")} with the fewest mistakes not in this page` : "";
}

function tools(book, asked, choose) {
  const search = make("input", { type: "search", placeholder: "words, or an id", spellcheck: "false" });
  search.addEventListener("input", () => {
    asked.search = search.value;
    choose();
  });
  const slice = make("select", {}, make("option", { value: "" }, "all clips"));
  book.data.keys.forEach((key, at) => {
    const options = key.values.map((value, number) => make("option", { value: `${at} ${number + 1}` }, value));
    slice.append(make("optgroup", { label: key.by }, ...options));
  });
  on(slice, (value) => {
    asked.slice = value ? value.split(" ").map(Number) : null;
    choose();
  });
  const kind = make("select", {}, make("option", { value: "-1" }, "any"));
  book.data.kinds.forEach((name, at) => {
    if (book.data.trials.some((column) => column.kinds.some((bits) => bits & (1 << at)))) kind.append(make("option", { value: at }, name));
  });
  on(kind, (value) => {
    asked.kind = Number(value);
    choose();
  });
  const pairs = book.variants.length > 1;
  const results = select(RESULTS.filter(([id]) => pairs || !["lost", "won", "apart"].includes(id)));
  on(results, (value) => {
    asked.result = value;
    choose();
  });
  const order = select(ORDERS.filter(([id]) => pairs || id !== "difference"));
  on(order, (value) => {
    asked.order = value;
    choose();
  });
  const parts = [field("Search", search), field("Slice", slice), field("Kind of mistake", kind), field("Result", results), field("Order", order)];
  const sides = {};
  if (pairs) {
    for (const side of ["first", "second"]) {
      sides[side] = select(book.variants.map(({ name }, at) => [String(at), name]));
      on(sides[side], (value) => {
        asked[side] = Number(value);
        asked.columns.add(asked[side]);
        choose();
      });
      parts.push(field(side === "first" ? "First" : "Second", sides[side]));
    }
    parts.push(shownVariants(book, asked, choose));
  }
  const show = () => {
    search.value = asked.search;
    slice.value = asked.slice ? asked.slice.join(" ") : "";
    kind.value = String(asked.kind);
    results.value = asked.result;
    order.value = asked.order;
    for (const side of Object.keys(sides)) sides[side].value = String(asked[side]);
  };
  show();
  return { element: make("form", { class: "asked", onsubmit: (event) => event.preventDefault() }, ...parts), search, show };
}

/** Which variants have a column. */
function shownVariants(book, asked, choose) {
  const boxes = book.variants.map(({ name }, at) => {
    const box = make("input", { type: "checkbox" });
    box.checked = asked.columns.has(at);
    box.addEventListener("change", () => {
      if (box.checked) asked.columns.add(at);
      else asked.columns.delete(at);
      choose();
    });
    return make("label", {}, box, name);
  });
  const list = make("details", { class: "columns" }, make("summary", {}, "Variants"), make("div", {}, ...boxes));
  return make("div", {}, make("span", { class: "quiet" }, "Columns"), list);
}

function field(name, control) {
  return make("label", {}, make("span", {}, name), control);
}

function select(options) {
  return make("select", {}, ...options.map(([value, name]) => make("option", { value }, name)));
}

function on(control, then) {
  control.addEventListener("change", () => then(control.value));
}

function row(book, shown, clip) {
  const cells = shown.map((variant) => {
    const { name } = book.variants[variant];
    const result = book.result(variant, clip);
    if (!result) return make("span", {}, "–");
    const words = result.answered ? `${result.wrong}/${result.said}` : result.outcome;
    const term = result.missed > 0 ? "▲ " : "";
    const tone = !result.answered || result.wrong > 0 ? "wrong" : "";
    return make("span", { class: tone, title: `${name}: ${words}${term ? ", a must-hear term missed" : ""}` }, term + words);
  });
  const text = make("span", { class: "text", dir: "auto", lang: book.lang(clip) || undefined }, book.text(clip));
  return [make("span", { class: "name" }, make("b", {}, book.id(clip)), text), ...cells];
}
