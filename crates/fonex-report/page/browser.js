// The clip browser: what is asked for above, the clips that fit on the left, one of them on the right.

import { Chooser, ORDERS, RESULTS } from "./choose.js";
import { showClip } from "./detail.js";
import { LongList } from "./list.js";
import { make, plural } from "./make.js";

// Variants with a column in the list, the two that are compared first; the clip itself shows all.
const COLUMNS = 4;

/** Puts the browser into `box`. */
export function browse(book, box) {
  const chooser = new Chooser(book);
  const asked = { search: "", slice: null, kind: -1, result: "", order: "harm", first: 0, second: Math.min(1, book.variants.length - 1) };
  const count = make("p", { class: "quiet count", role: "status" });
  const detail = make("div", { class: "detail", role: "region", "aria-label": "The clip", tabindex: "0" });
  const rows = make("div", { class: "list" });
  const columns = make("div", { class: "heads quiet", "aria-hidden": "true" });
  let shown = [];
  const list = new LongList(rows, "Clips", (clip) => row(book, shown, clip), (clip) => showClip(book, clip, detail));
  const choose = () => {
    shown = inColumns(book, asked);
    const heads = shown.map((variant) => make("span", { title: book.variants[variant].name }, book.variants[variant].name));
    columns.replaceChildren(make("span", {}, "wrong words of"), ...heads);
    const chosen = chooser.chosen(asked);
    count.textContent = `${plural(chosen.length, "clip")} of ${book.count.toLocaleString("en")}${left(book)}`;
    list.show(chosen);
  };
  box.append(tools(book, asked, choose), count, make("div", { class: "panes" }, make("div", { class: "pane" }, columns, rows), detail));
  choose();
}

/** The variants that have a column, in their order where all have one. */
function inColumns(book, asked) {
  const all = book.variants.map((_, variant) => variant);
  return all.length <= COLUMNS ? all : [...new Set([asked.first, asked.second, ...all])].slice(0, COLUMNS);
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
  if (pairs) {
    for (const side of ["first", "second"]) {
      const variants = select(book.variants.map(({ name }, at) => [String(at), name]));
      variants.value = String(asked[side]);
      on(variants, (value) => {
        asked[side] = Number(value);
        choose();
      });
      parts.push(field(side === "first" ? "First" : "Second", variants));
    }
  }
  return make("form", { class: "asked", onsubmit: (event) => event.preventDefault() }, ...parts);
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
