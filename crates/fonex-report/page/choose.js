// Which clips are shown, and in which order.

/** What can be asked for beside a slice and a kind of mistake. */
export const RESULTS = [
  ["", "any result"],
  ["wrong", "wrong somewhere"],
  ["right", "right everywhere"],
  ["failed", "not answered somewhere"],
  ["terms", "a must-hear term missed"],
  ["lost", "second worse than first"],
  ["won", "second better than first"],
  ["apart", "variants disagree"],
];

/** The orders, each with what it sorts by, greatest first; ties stay in the order of the corpus. */
export const ORDERS = [
  ["harm", "most harmful first"],
  ["difference", "second worse than first, most first"],
  ["slow", "slowest first"],
  ["id", "by id"],
  ["corpus", "as in the corpus"],
];

export class Chooser {
  constructor(book) {
    this.book = book;
    this.orders = new Map();
  }

  /** The clips of `order`, those that fit `asked`: {search, slice: [key, value] or null, kind, result, first, second}. */
  chosen(asked) {
    const { book } = this;
    const words = asked.search.toLowerCase().split(/\s+/).filter(Boolean);
    const fits = this.tester(asked);
    const chosen = [];
    for (const clip of this.inOrder(asked)) {
      if (asked.slice && !book.isIn(clip, asked.slice[0], asked.slice[1])) continue;
      if (!fits(clip)) continue;
      if (words.length) {
        const hay = book.searched(clip);
        if (!words.every((word) => hay.includes(word))) continue;
      }
      chosen.push(clip);
    }
    return chosen;
  }

  tester(asked) {
    const { book } = this;
    const { trials } = book.data;
    const shown = book.variants.map((_, at) => at);
    const bit = asked.kind >= 0 ? 1 << asked.kind : 0;
    const hasKind = (clip) => !bit || trials.some((column) => column.kinds[clip] & bit);
    const given = (variant, clip) => trials[variant].outcome[clip] >= 0;
    const failed = (variant, clip) => given(variant, clip) && !book.data.outcomes[trials[variant].outcome[clip]].answered;
    const wrong = (variant, clip) => given(variant, clip) && (failed(variant, clip) || trials[variant].wrong[clip] > 0);
    const more = (clip) => this.harm(asked.second, clip) - this.harm(asked.first, clip);
    const test = {
      "": () => true,
      wrong: (clip) => shown.some((v) => wrong(v, clip)),
      right: (clip) => shown.every((v) => !wrong(v, clip)),
      failed: (clip) => shown.some((v) => failed(v, clip)),
      terms: (clip) => shown.some((v) => trials[v].missed[clip] > 0),
      lost: (clip) => more(clip) > 0,
      won: (clip) => more(clip) < 0,
      apart: (clip) => {
        let known = -1;
        return shown.some((v) => {
          if (!given(v, clip)) return false;
          const harm = this.harm(v, clip);
          if (known < 0) known = harm;
          return harm !== known;
        });
      },
    }[asked.result];
    return (clip) => hasKind(clip) && test(clip);
  }

  /** How bad a result is: a missed term before any number of wrong words, no answer like losing all of them. */
  harm(variant, clip) {
    const result = this.book.data.trials[variant];
    if (!result || result.outcome[clip] < 0) return 0;
    const wrong = this.book.data.outcomes[result.outcome[clip]].answered ? result.wrong[clip] : result.said[clip] || 1;
    return Math.max(0, result.missed[clip]) * 1000 + wrong;
  }

  inOrder({ order, first, second }) {
    const name = [order, first, second].join(" ");
    if (!this.orders.has(name)) this.orders.set(name, this.sorted(order, first, second));
    return this.orders.get(name);
  }

  sorted(order, first, second) {
    const { book } = this;
    const clips = Uint32Array.from({ length: book.count }, (_, at) => at);
    if (order === "corpus") return clips;
    if (order === "id") {
      // "call-9" before "call-10".
      const keys = Array.from(clips, (clip) => book.id(clip).replace(/\d+/g, (digits) => digits.padStart(12, "0")));
      return clips.sort((a, b) => (keys[a] < keys[b] ? -1 : keys[a] > keys[b] ? 1 : a - b));
    }
    const { trials } = book.data;
    const by = {
      harm: (clip) => trials.reduce((worst, _, v) => Math.max(worst, this.harm(v, clip)), 0),
      difference: (clip) => this.harm(second, clip) - this.harm(first, clip),
      slow: (clip) => trials.reduce((worst, column) => Math.max(worst, column.took[clip] || 0), 0),
    }[order];
    return greatestFirst(book.count, by);
  }
}

/** The numbers below `count` by what `key` gives for each, to a tenth, the greatest first; ties in their order. */
function greatestFirst(count, key) {
  // Key and number in one, so that numbers are sorted and not compared by a function.
  const both = new Float64Array(count);
  for (let at = 0; at < count; at += 1) both[at] = -Math.round(key(at) * 10) * count + at;
  both.sort();
  return Uint32Array.from(both, (one) => ((one % count) + count) % count);
}
