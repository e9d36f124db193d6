// A long list of which only the rows in sight exist. One row is the active one; arrow keys move it.

import { make } from "./make.js";

const ROW = 46;
const SPARE = 8;
// A taller element than this browsers do not scroll to its end.
const TALLEST = 15_000_000;

export class LongList {
  /** `row(item)` gives the children of a row; `open(item)` is called when another row becomes active. */
  constructor(box, name, row, open) {
    this.box = box;
    this.row = row;
    this.open = open;
    this.items = [];
    this.active = -1;
    this.filler = make("div", { class: "filler", role: "presentation" });
    box.setAttribute("role", "listbox");
    box.setAttribute("aria-label", name);
    box.tabIndex = 0;
    box.append(this.filler);
    box.addEventListener("scroll", () => this.paint(), { passive: true });
    box.addEventListener("keydown", (event) => this.key(event));
    box.addEventListener("click", (event) => {
      const row = event.target.closest("[data-at]");
      if (row) this.move(Number(row.dataset.at));
    });
    new ResizeObserver(() => this.paint()).observe(box);
  }

  /** Shows items, the one at a place active. */
  show(items, at = 0) {
    this.items = items;
    this.active = items.length ? 0 : -1;
    this.filler.style.height = `${Math.min(items.length * ROW, TALLEST)}px`;
    this.box.scrollTop = 0;
    this.paint();
    if (at > 0 && at < items.length) this.move(at);
    else this.open(items.length ? items[0] : null);
  }

  /** Moves by rows from the active one. */
  step(by) {
    if (this.items.length) this.move(Math.min(this.items.length - 1, Math.max(0, this.active + by)));
  }

  /** Rows of a very long list lie closer than they are tall: what is in sight follows the share scrolled. */
  first() {
    const room = this.filler.offsetHeight - this.box.clientHeight;
    const all = this.items.length * ROW - this.box.clientHeight;
    if (room <= 0 || all <= 0) return 0;
    return Math.max(0, (this.box.scrollTop / room) * all) / ROW;
  }

  paint() {
    const inSight = Math.ceil(this.box.clientHeight / ROW);
    const first = this.first();
    const from = Math.max(0, Math.floor(first) - SPARE);
    const to = Math.min(this.items.length, Math.floor(first) + inSight + SPARE);
    const rows = [];
    for (let at = from; at < to; at += 1) {
      const row = make(
        "div",
        {
          class: "row",
          role: "option",
          id: `row-${at}`,
          "data-at": at,
          "aria-selected": at === this.active ? "true" : "false",
          "aria-setsize": this.items.length,
          "aria-posinset": at + 1,
        },
        ...this.row(this.items[at]),
      );
      row.style.top = `${this.box.scrollTop + (at - first) * ROW}px`;
      rows.push(row);
    }
    this.filler.replaceChildren(...rows);
    if (this.active >= from && this.active < to) this.box.setAttribute("aria-activedescendant", `row-${this.active}`);
    else this.box.removeAttribute("aria-activedescendant");
  }

  key(event) {
    const page = Math.max(1, Math.floor(this.box.clientHeight / ROW) - 1);
    const steps = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page, Home: -this.items.length, End: this.items.length };
    const step = steps[event.key];
    if (step === undefined || !this.items.length) return;
    event.preventDefault();
    this.step(step);
  }

  move(at) {
    this.active = at;
    const first = this.first();
    const inSight = this.box.clientHeight / ROW;
    const room = this.filler.offsetHeight - this.box.clientHeight;
    const all = this.items.length * ROW - this.box.clientHeight;
    const scroll = (row) => (all > 0 ? (row * ROW * room) / all : 0);
    if (at < first) this.box.scrollTop = scroll(at);
    else if (at + 1 > first + inSight) this.box.scrollTop = scroll(at + 1 - inSight);
    this.paint();
    this.open(this.items[at]);
  }
}
