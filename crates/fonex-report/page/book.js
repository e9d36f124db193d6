// The clips of the page: columns of plain values, so that a hundred thousand clips are a few arrays, and a clip is read when it is shown.

/** The data of the page, or null where it has no clips to explore. */
export function readBook(document) {
  const block = document.getElementById("book");
  return block ? new Book(JSON.parse(block.textContent)) : null;
}

const BETWEEN = "\u001f";

class Book {
  constructor(data) {
    this.data = data;
    this.count = data.clips.id.length;
    this.variants = data.variants;
    this.hay = null;
  }

  id(clip) {
    return this.data.clips.id[clip];
  }

  text(clip) {
    return this.data.clips.text[clip];
  }

  lang(clip) {
    return this.data.langs[this.data.clips.lang[clip]] || "";
  }

  /** What is known of a clip: [name, value] pairs. */
  facts(clip) {
    const of = this.data.clips.of;
    return this.data.keys
      .map((key, at) => [key.by, key.values[of[at][clip] - 1]])
      .filter((pair) => pair[1] !== undefined);
  }

  isIn(clip, key, value) {
    return this.data.clips.of[key][clip] === value;
  }

  /** Address of a clip's sound; empty where it has none. */
  sound(clip) {
    return this.address(this.data.clips.sound[clip]);
  }

  /** The same of what a variant heard, where that is another sound: a voice's. */
  ownSound(variant, clip) {
    return this.address(this.data.trials[variant].sound[clip] ?? -1);
  }

  address(place) {
    if (place < 0) return "";
    const sound = this.data.sounds[place];
    if (!sound.startsWith("#")) return sound;
    const element = document.getElementById(sound.slice(1));
    return element ? element.getAttribute("src") : "";
  }

  /** How one variant did on a clip: null where it was not given it. */
  result(variant, clip) {
    const column = this.data.trials[variant];
    const outcome = column.outcome[clip];
    if (outcome < 0) return null;
    return {
      outcome: this.data.outcomes[outcome].name,
      answered: this.data.outcomes[outcome].answered,
      wrong: column.wrong[clip],
      said: column.said[clip],
      missed: column.missed[clip],
      took: column.took[clip],
      repeats: column.repeats[clip],
    };
  }

  /** The kinds of mistake of a clip, as the bits of a number. */
  kinds(variant, clip) {
    return this.data.trials[variant].kinds[clip];
  }

  /** A clip word by word: {edit, said, heard, at}, with `at` the [start, end] in milliseconds to listen to, or null. */
  steps(variant, clip) {
    const column = this.data.trials[variant];
    const written = column.words[clip];
    if (!written) return [];
    const heard = times(column.heard[clip]);
    const said = times(column.said_times[clip] ?? this.data.clips.times[clip]);
    let saidAt = 0;
    let heardAt = 0;
    const steps = written.split(" ").map((step) => {
      const parts = step.split(BETWEEN);
      const one = { edit: "right", said: parts[0], heard: parts[0], at: null };
      if (parts.length > 1) {
        one.heard = parts[1];
        one.edit = !parts[0] ? "added" : !parts[1] ? "dropped" : "other";
      }
      // The label's time is where the word is; the engine's only where it says it is.
      const ofSaid = one.said ? said[saidAt++] : null;
      const ofHeard = one.heard ? heard[heardAt++] : null;
      one.at = ofSaid || ofHeard || null;
      one.told = ofHeard || null;
      one.labelled = ofSaid || null;
      return one;
    });
    return steps;
  }

  detail(variant, clip) {
    return this.data.trials[variant].detail[clip] || "";
  }

  /** What came back of a live delivery, or null. */
  live(variant, clip) {
    return this.data.trials[variant].live[clip] || null;
  }

  /** Makes ready to search while nothing else is to be done. */
  prepare(from = 0) {
    const to = Math.min(this.count, from + 2000);
    for (let clip = from; clip < to; clip += 1) this.searched(clip);
    if (to < this.count) setTimeout(() => this.prepare(to));
  }

  /** All that is searched of a clip, in small letters. */
  searched(clip) {
    if (!this.hay) this.hay = new Array(this.count);
    const known = this.hay[clip];
    if (known !== undefined) return known;
    const parts = [this.id(clip), this.text(clip)];
    for (const column of this.data.trials) if (column.words[clip]) parts.push(column.words[clip]);
    return (this.hay[clip] = parts.join(" ").replaceAll(BETWEEN, " ").toLowerCase());
  }
}

/** "310 620 - 640 800" as spans; a dash stands for a word without a time. */
function times(written) {
  if (!written) return [];
  const spans = [];
  const numbers = written.split(" ");
  for (let at = 0; at < numbers.length; ) {
    if (numbers[at] === "-") {
      spans.push(null);
      at += 1;
    } else {
      spans.push([Number(numbers[at]), Number(numbers[at + 1])]);
      at += 2;
    }
  }
  return spans;
}
