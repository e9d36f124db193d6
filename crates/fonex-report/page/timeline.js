// What came back while a clip was delivered live: when, what kind, which words, and which of them replaced others.

import { draw, make, seconds } from "./make.js";

const KINDS = { interim: "interim", final: "final", end_of_speech: "end of speech", ready: "ready" };
const WIDTH = 640;
const LANE = 26;

/** A drawing with its table: `events` are [milliseconds, kind, text], `words` [text, start, end] by the label. */
export function timeline(name, events, words) {
  const last = Math.max(1, ...events.map((event) => event[0]), ...words.map((word) => word[2]));
  const x = (ms) => 8 + (ms / last) * (WIDTH - 16);
  const lanes = words.length ? ["label", "result"] : ["result"];
  const svg = draw("svg", {
    viewBox: `0 0 ${WIDTH} ${LANE * lanes.length + 20}`,
    role: "img",
    "aria-label": `When ${name} said what; the table below tells the same`,
  });
  for (const [text, start, end] of words) {
    const wide = x(end) - x(start);
    svg.append(draw("rect", { class: "said", x: x(start), y: 4, width: Math.max(1, wide), height: LANE - 8 }));
    if (wide > 7 * text.length) svg.append(draw("text", { x: x(start) + 3, y: LANE - 9 }, text));
  }
  const top = LANE * (lanes.length - 1);
  for (const [ms, kind] of events) {
    const y = top + LANE / 2;
    if (kind === "interim") svg.append(draw("circle", { class: "interim", cx: x(ms), cy: y, r: 4 }));
    else if (kind === "final") svg.append(draw("rect", { class: "final", x: x(ms) - 5, y: y - 5, width: 10, height: 10 }));
    else if (kind === "ready") svg.append(draw("path", { class: "ready", d: `M${x(ms)} ${y - 9}v18` }));
    else svg.append(draw("path", { class: "ends", d: `M${x(ms)} ${y - 7}l6 12h-12z` }));
  }
  const step = [100, 200, 500, 1000, 2000, 5000, 10_000, 30_000, 60_000, 300_000].find((ms) => last / ms <= 10) || 600_000;
  for (let ms = 0; ms <= last; ms += step) {
    svg.append(draw("path", { class: "tick", d: `M${x(ms)} ${LANE * lanes.length}v4` }));
    const anchor = ms === 0 ? "start" : "middle";
    svg.append(draw("text", { class: "axis", x: x(ms), y: LANE * lanes.length + 16, "text-anchor": anchor }, `${ms / 1000} s`));
  }
  let before = [];
  const rows = events.map(([ms, kind, text]) => {
    const now = text.split(/\s+/).filter(Boolean);
    const shown = now.flatMap((word, at) => {
      const changed = kind !== "end_of_speech" && before.length > at && before[at] !== word;
      return [changed ? make("mark", {}, word) : word, " "];
    });
    if (kind === "interim") before = now;
    if (kind === "final") before = [];
    return make("tr", {}, make("td", { class: "number" }, seconds(ms)), make("td", {}, KINDS[kind] || kind), make("td", { class: "wrap" }, ...shown));
  });
  const heads = ["at", "kind", "words; marked are those that replaced others"].map((head) => make("th", { scope: "col" }, head));
  const table = make("table", {}, make("thead", {}, make("tr", {}, ...heads)), make("tbody", {}, ...rows));
  const key = "Above the words of the label, where they lie; below | ready, ● interim, ■ final results, ▲ the end of speech.";
  return make(
    "details",
    { class: "timeline" },
    make("summary", {}, `${name}, delivered live`),
    svg,
    make("p", { class: "quiet" }, key),
    make("div", { class: "scroll" }, table),
  );
}
