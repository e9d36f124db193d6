// A run as it goes: asked for again and again, shown where it changed.

import { draw, make, plural } from "./make.js";

// Between two looks, in milliseconds; a run that has ended needs fewer.
const LOOK = 1000;
const REST = 5000;
const WIDTH = 360;
const HEIGHT = 60;

const place = (id) => document.getElementById(id);

async function look() {
  let wait = LOOK;
  try {
    const answer = await fetch("state", { cache: "no-store" });
    const seen = await answer.json();
    if (seen.run) show(seen);
    if (seen.state !== "going_on") wait = REST;
    place("gone").hidden = true;
  } catch {
    place("gone").hidden = false;
    wait = REST;
  }
  setTimeout(look, wait);
}

function show(seen) {
  const name = `Run ${seen.run}${seen.label ? ` (${seen.label})` : ""}, plan ${seen.plan}`;
  document.title = `${Math.floor((100 * seen.done) / Math.max(1, seen.planned))} % · ${name}`;
  tell("name", name);
  tell("state", seen.in_words);
  const bar = place("bar");
  bar.max = Math.max(1, seen.planned);
  bar.value = seen.done;
  // A column for each figure that any variant has.
  const names = [...new Set(seen.variants.flatMap((one) => one.figures.map((figure) => figure.name)))];
  const heads = ["variant", "trials", "outcomes", ...names];
  const head = (name, at) => make("th", { scope: "col", class: at === 1 || at > 2 ? "number" : "" }, name);
  place("heads").replaceChildren(...heads.map(head));
  place("variants").replaceChildren(...seen.variants.map((one) => row(one, names)));
  place("delays").replaceChildren(...seen.variants.filter((one) => one.latest_ms.length).map(strip));
  place("recent").replaceChildren(...seen.recent.map(recent));
}

/** Sets a text where it changed: a screen reader is told of changes only. */
function tell(id, words) {
  if (place(id).textContent !== words) place(id).textContent = words;
}

function row(variant, names) {
  const outcomes = variant.outcomes.map((one) => `${one.trials} ${one.outcome}`).join(", ");
  const told = new Map(variant.figures.map((one) => [one.name, one.text]));
  const figures = names.map((name) => make("td", { class: "number" }, told.get(name) || "–"));
  return make(
    "tr",
    {},
    make("th", { scope: "row" }, variant.name),
    make("td", { class: "number" }, variant.trials.toLocaleString("en")),
    make("td", { class: "wrap" }, outcomes),
    ...figures,
  );
}

/** The last latencies of a variant, oldest on the left, from zero up. */
function strip(variant) {
  const most = Math.max(...variant.latest_ms, 1);
  const svg = draw("svg", {
    viewBox: `0 0 ${WIDTH} ${HEIGHT}`,
    role: "img",
    "aria-label": `The last ${plural(variant.latest_ms.length, "latency").replace("latencys", "latencies")} of ${variant.name}, at most ${variant.longest}`,
  });
  svg.append(draw("path", { class: "tick", d: `M0 ${HEIGHT - 0.5}H${WIDTH}` }));
  variant.latest_ms.forEach((ms, at) => {
    const x = 4 + (at / Math.max(1, variant.latest_ms.length - 1)) * (WIDTH - 8);
    svg.append(draw("circle", { class: "interim", cx: x, cy: HEIGHT - 4 - (ms / most) * (HEIGHT - 8), r: 2.5 }));
  });
  return make("figure", {}, svg, make("figcaption", {}, `${variant.name}: latency of the last trials, at most ${variant.longest}`));
}

function recent(trial) {
  const took = trial.took === undefined ? "" : trial.took;
  return make(
    "tr",
    {},
    make("td", {}, trial.clip),
    make("td", {}, trial.variant),
    make("td", { class: trial.answered ? "" : "warn" }, trial.outcome),
    make("td", { class: "number" }, took),
    make("td", { class: "wrap", dir: "auto" }, trial.words || ""),
  );
}

look();
