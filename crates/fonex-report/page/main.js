// The page comes alive: without this program it reads as it stands.

import { readBook } from "./book.js";
import { browse } from "./browser.js";
import { make } from "./make.js";

function start() {
  document.documentElement.classList.add("alive");
  themeButton();
  document.querySelectorAll("figure, .scroll").forEach(reachable);
  document.querySelectorAll("table.data").forEach(sortable);
  folds();
  // A large book takes a moment to read; the rest of the page is there before.
  requestAnimationFrame(() => setTimeout(open));
}

function open() {
  const book = readBook(document);
  const box = document.getElementById("browser");
  if (!book || !book.count || !box) return;
  browse(book, box);
  performance.mark("browser ready");
  setTimeout(() => book.prepare());
}

/** A link into a folded part opens it; paper shows every part. */
function folds() {
  const openAround = () => {
    const name = decodeURIComponent(location.hash.slice(1).split("&")[0].split("=")[0]);
    const target = name && document.getElementById(name);
    for (let box = target && target.closest("details"); box; box = box.parentElement.closest("details")) box.open = true;
    if (target) target.scrollIntoView();
  };
  addEventListener("hashchange", openAround);
  openAround();
  let opened = [];
  addEventListener("beforeprint", () => {
    opened = [...document.querySelectorAll("details.fold:not([open])")];
    opened.forEach((box) => (box.open = true));
  });
  addEventListener("afterprint", () => opened.forEach((box) => (box.open = false)));
}

/** What is wider than its place can be scrolled with the keyboard. */
function reachable(box) {
  const caption = box.querySelector("figcaption");
  if (caption) box.setAttribute("aria-label", caption.textContent);
  const tell = () => {
    if (box.scrollWidth > box.clientWidth) box.tabIndex = 0;
    else box.removeAttribute("tabindex");
  };
  new ResizeObserver(tell).observe(box);
}

/** Light, dark, or as the system has it. */
function themeButton() {
  const themes = ["auto", "light", "dark"];
  let at = 0;
  const button = make("button", { type: "button", class: "theme" }, "Theme: auto");
  button.addEventListener("click", () => {
    at = (at + 1) % themes.length;
    document.documentElement.dataset.theme = themes[at];
    button.textContent = `Theme: ${themes[at]}`;
  });
  document.querySelector("nav > div").append(button);
}

/** A click on a column's head sorts by it: numbers by value, texts by letters; a third click restores the order. */
function sortable(table) {
  const body = table.tBodies[0];
  const rows = [...body.rows];
  if (rows.length < 3) return;
  const heads = [...table.tHead.rows[0].cells];
  heads.forEach((head, column) => {
    const button = make("button", { type: "button" }, head.textContent);
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const next = { none: "descending", descending: "ascending", ascending: "none" }[head.getAttribute("aria-sort") || "none"];
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      if (next !== "none") head.setAttribute("aria-sort", next);
      const sign = next === "ascending" ? 1 : -1;
      const sorted = next === "none" ? rows : [...rows].sort((a, b) => sign * compare(a.cells[column], b.cells[column]));
      body.append(...sorted);
    });
  });
}

function compare(a, b) {
  const [x, y] = [a, b].map((cell) => Number.parseFloat(cell.textContent.replace(/,/g, "").replace("−", "-")));
  if (Number.isNaN(x) || Number.isNaN(y)) {
    if (!Number.isNaN(x)) return 1;
    if (!Number.isNaN(y)) return -1;
    return a.textContent.localeCompare(b.textContent);
  }
  return x - y;
}

start();
