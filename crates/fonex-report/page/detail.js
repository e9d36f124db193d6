// One clip: its sound, and word by word what every variant made of it.

import { make, plural, seconds } from "./make.js";
import { SoundPicture, playStretch } from "./sound.js";
import { timeline } from "./timeline.js";

const EDITS = { right: "heard right", other: "heard as another word", dropped: "not heard", added: "nobody said it" };
// Words in a row that fold, and what is left of them on either side.
const FOLD_FROM = 40;
const CONTEXT = 6;

/** Fills `box` with a clip of the book. */
export function showClip(book, clip, box) {
  box.replaceChildren();
  if (clip === null) {
    box.append(make("p", { class: "quiet" }, "No clip fits what is asked for."));
    return;
  }
  const facts = book.facts(clip).map(([name, value]) => `${name} ${value}`).join(", ");
  const lang = book.lang(clip) || undefined;
  box.append(make("h3", {}, book.id(clip)), make("p", { class: "quiet" }, facts), make("p", { class: "said", lang, dir: "auto" }, book.text(clip)));
  const results = book.variants.map((_, variant) => variant).filter((variant) => book.result(variant, clip));
  const source = book.sound(clip);
  const audio = source ? make("audio", { controls: true, preload: "metadata", src: source, "aria-label": `Sound of ${book.id(clip)}` }) : null;
  if (audio) box.append(make("div", { class: "tools" }, audio, pictureButton(book, clip, audio, box)));
  else if (!results.some((variant) => book.ownSound(variant, clip))) {
    box.append(make("p", { class: "quiet" }, "The page holds no sound of this clip."));
  }
  for (const variant of results) box.append(reading(book, variant, clip, audio, lang));
  const labelled = words(results.flatMap((variant) => [book.steps(variant, clip)]).find((steps) => steps.length) || [], "said", "labelled");
  for (const variant of results) {
    const live = book.live(variant, clip);
    if (live) box.append(timeline(book.variants[variant].name, live, labelled));
  }
}

function pictureButton(book, clip, audio, box) {
  const button = make("button", { type: "button" }, "Waveform and spectrogram");
  button.addEventListener("click", () => {
    const lanes = [];
    book.variants.forEach(({ name }, variant) => {
      const steps = book.steps(variant, clip);
      if (!lanes.length) lanes.push(["label", words(steps, "said", "labelled")]);
      lanes.push([name, words(steps, "heard", "told")]);
    });
    const picture = new SoundPicture(audio, lanes);
    button.replaceWith();
    box.querySelector(".tools").after(picture.element);
    picture.draw();
  });
  return button;
}

/** [text, start, end] of the words that have a time. */
function words(steps, text, time) {
  return steps.filter((step) => step[text] && step[time]).map((step) => [step[text], ...step[time]]);
}

function reading(book, variant, clip, audio, lang) {
  const result = book.result(variant, clip);
  const count = result.answered
    ? `${result.wrong} of ${plural(result.said, "word")} wrong${result.repeats > 1 ? ` in ${result.repeats} repeats` : ""}`
    : result.outcome;
  const missed = result.missed > 0 ? `, ${plural(result.missed, "must-hear term")} missed` : "";
  const took = result.took >= 0 ? `, ${seconds(result.took)}` : "";
  const who = make("div", { class: "who" }, make("strong", {}, book.variants[variant].name), make("br"), make("span", { class: "quiet" }, count + missed + took));
  const steps = book.steps(variant, clip);
  const detail = book.detail(variant, clip);
  const own = book.ownSound(variant, clip);
  const spoken = own ? make("audio", { controls: true, preload: "none", src: own, "aria-label": `What ${book.variants[variant].name} heard` }) : null;
  const thread = make("div", { class: "thread", dir: "auto", lang }, ...folded(steps, spoken || audio));
  const body = make("div", {}, spoken, steps.length ? thread : null, detail ? make("p", { class: "quiet" }, detail) : null);
  if (!steps.length && !detail && result.answered) body.append(make("p", { class: "quiet" }, "no words"));
  return make("div", { class: "reading" }, who, body);
}

/** The words, with long stretches of right ones behind a button. */
function folded(steps, audio) {
  const shown = [];
  for (let at = 0; at < steps.length; ) {
    let end = at;
    while (end < steps.length && steps[end].edit === "right") end += 1;
    const [from, to] = [at === 0 ? 0 : at + CONTEXT, end === steps.length ? end : end - CONTEXT];
    if (end - at >= FOLD_FROM && to - from > CONTEXT) {
      const hidden = steps.slice(from, to);
      shown.push(...steps.slice(at, from).map((step) => word(step, audio)));
      const button = make("button", { type: "button", class: "w folded" }, `${hidden.length} words right`);
      button.addEventListener("click", () => button.replaceWith(...hidden.map((step) => word(step, audio))));
      shown.push(button, ...steps.slice(to, end).map((step) => word(step, audio)));
    } else {
      shown.push(...steps.slice(at, end).map((step) => word(step, audio)));
    }
    for (at = end; at < steps.length && steps[at].edit !== "right"; at += 1) shown.push(word(steps[at], audio));
  }
  return shown;
}

/** A word: a button where it can be listened to. */
function word(step, audio) {
  const said = make("span", { class: "s" }, step.said || "\u00a0");
  const heard = make("span", { class: "h" }, step.edit === "right" ? "" : step.heard || "∅");
  const told = step.edit === "other" ? `${step.said}, heard as ${step.heard}` : `${step.said || step.heard}, ${EDITS[step.edit]}`;
  if (!audio || !step.at) {
    return make("span", { class: `w ${step.edit}`, title: audio ? `${told}; when is not known` : told }, said, heard);
  }
  const when = `${told}; play ${seconds(step.at[0])} to ${seconds(step.at[1])}`;
  return make("button", { type: "button", class: `w ${step.edit}`, title: when, onclick: () => playStretch(audio, ...step.at) }, said, heard);
}
