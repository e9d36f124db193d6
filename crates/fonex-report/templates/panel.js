"use strict";
// The page of a listening panel. Nothing leaves it but the ratings file; nothing is fetched.
(() => {
  const panel = JSON.parse(document.getElementById("panel").textContent);
  const at = (id) => document.getElementById(id);
  const kind = panel.kind;

  // ---- sounds: one at a time, each told apart by its number alone ----
  const players = new Map();
  let sounding = null;

  function player(number) {
    if (!players.has(number)) players.set(number, new Audio(panel.sounds[number]));
    return players.get(number);
  }

  function silence() {
    if (!sounding) return;
    const { audio, button } = sounding;
    sounding = null;
    audio.onended = null;
    audio.pause();
    button.classList.remove("sounding");
  }

  function play(number, button, done) {
    silence();
    const audio = player(number);
    audio.currentTime = 0;
    sounding = { audio, button };
    button.classList.add("sounding");
    audio.onended = () => { silence(); done(); };
    audio.play().catch(() => {
      silence();
      at("status").textContent = "This sound cannot be played here. Try another browser.";
    });
  }

  // ---- what is kept, so that a closed page goes on where it was ----
  let sitting = null;
  const keptAs = (listener) => `panel-${panel.panel}-${listener}`;

  function keep() {
    try { localStorage.setItem(keptAs(sitting.listener), JSON.stringify(sitting)); } catch { /* private mode: the file is still there at the end */ }
  }

  function kept(listener) {
    try {
      const found = JSON.parse(localStorage.getItem(keptAs(listener)));
      return found && found.panel === panel.panel && Array.isArray(found.answers) ? found : null;
    } catch { return null; }
  }

  function begin(listener) {
    const bytes = crypto.getRandomValues(new Uint8Array(8));
    const session = Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
    const began = new Date().toISOString().replace(/\.\d+Z$/, "Z");
    return { panel: panel.panel, kind, listener, session, began, answers: [] };
  }

  // ---- the ratings file ----
  function ratings() {
    const { listener, session, began, answers } = sitting;
    const complete = answers.length === sheet().length;
    const head = [panel.seal, panel.panel, kind, listener, session, began, complete ? 1 : 0];
    const lines = answers.map((a) => [a.page, a.sounds.join(","), a.values.join(","), a.plays.join(","), a.took_ms].join("|"));
    const seal = sha256([...head, ...lines, ""].join("\n"));
    return JSON.stringify({ panel: panel.panel, kind, listener, session, began, complete, answers, seal });
  }

  // SHA-256 (FIPS 180-4), since browsers offer theirs to secure origins only.
  function sha256(text) {
    const bytes = new TextEncoder().encode(text);
    const words = new Uint32Array(((bytes.length + 72) >> 6) << 4);
    bytes.forEach((byte, i) => { words[i >> 2] |= byte << (24 - (i % 4) * 8); });
    words[bytes.length >> 2] |= 0x80 << (24 - (bytes.length % 4) * 8);
    words[words.length - 2] = Math.floor(bytes.length / 0x20000000);
    words[words.length - 1] = bytes.length << 3;
    const primes = [];
    for (let n = 2; primes.length < 64; n++) if (primes.every((p) => n % p)) primes.push(n);
    const fraction = (x) => ((x - Math.floor(x)) * 0x100000000) >>> 0;
    const k = primes.map((p) => fraction(Math.cbrt(p)));
    const h = primes.slice(0, 8).map((p) => fraction(Math.sqrt(p)));
    const turn = (x, n) => (x >>> n) | (x << (32 - n));
    const w = new Uint32Array(64);
    for (let block = 0; block < words.length; block += 16) {
      for (let i = 0; i < 64; i++) {
        if (i < 16) { w[i] = words[block + i]; continue; }
        const a = w[i - 15], b = w[i - 2];
        w[i] = w[i - 16] + (turn(a, 7) ^ turn(a, 18) ^ (a >>> 3)) + w[i - 7] + (turn(b, 17) ^ turn(b, 19) ^ (b >>> 10));
      }
      let [a, b, c, d, e, f, g, z] = h;
      for (let i = 0; i < 64; i++) {
        const one = (z + (turn(e, 6) ^ turn(e, 11) ^ turn(e, 25)) + ((e & f) ^ (~e & g)) + k[i] + w[i]) | 0;
        const two = ((turn(a, 2) ^ turn(a, 13) ^ turn(a, 22)) + ((a & b) ^ (a & c) ^ (b & c))) | 0;
        [z, g, f, e, d, c, b, a] = [g, f, e, (d + one) | 0, c, b, a, (one + two) | 0];
      }
      [a, b, c, d, e, f, g, z].forEach((value, i) => { h[i] = (h[i] + value) | 0; });
    }
    return h.map((value) => (value >>> 0).toString(16).padStart(8, "0")).join("");
  }

  // ---- moving between the parts of the page ----
  function show(id, title) {
    silence();
    for (const part of ["welcome", "question", "rest", "end"]) at(part).hidden = part !== id;
    if (title) at(title).focus();
    scrollTo(0, 0);
  }

  const sheet = () => panel.sheets[sitting.listener - 1];

  function onward() {
    const page = sitting.answers.length;
    if (page >= sheet().length) finish(true);
    else if (page > panel.practice && (page - panel.practice) % panel.rest_every === 0 && rested !== page) rest(page);
    else ask(page);
  }

  let rested = -1;

  function rest(page) {
    rested = page;
    at("rest-text").textContent = `You have answered ${page} of ${sheet().length} pages. Rest your ears for a minute or two. You may also close the page and come back later.`;
    show("rest", "rest-title");
  }

  function finish(complete) {
    at("end-title").textContent = complete ? "Thank you. That was all." : "Saved so far.";
    at("end-text").textContent = complete
      ? "Please send the ratings file to the person who invited you."
      : `You have answered ${sitting.answers.length} of ${sheet().length} pages. The file holds these; you can go on later on this device.`;
    const text = ratings();
    at("file-text").value = text;
    const save = at("save");
    if (save.href.startsWith("blob:")) URL.revokeObjectURL(save.href);
    save.href = URL.createObjectURL(new Blob([text], { type: "application/json" }));
    save.download = `ratings-${panel.panel}-${sitting.listener}.json`;
    at("resume").hidden = complete;
    show("end", "end-title");
  }

  // ---- one page of questions ----
  let asked = null;

  function made(tag, properties, ...children) {
    const element = Object.assign(document.createElement(tag), properties);
    element.append(...children);
    return element;
  }

  function ask(page) {
    const sounds = sheet()[page];
    asked = { page, sounds, plays: sounds.map(() => 0), values: [], begun: performance.now(), buttons: [] };
    const practice = page < panel.practice;
    at("place").textContent = `${page + 1} of ${sheet().length}`;
    at("progress").max = sheet().length;
    at("progress").value = page;
    at("title").textContent = practice ? `Practice: ${panel.question}` : panel.question;
    if (at("spoken")) at("spoken").textContent = panel.texts[sounds[0]];
    at("status").textContent = panel.first_step;
    at("next").disabled = true;
    at("sounds").replaceChildren();
    at("answer").replaceChildren();
    if (kind === "anchored") sliders(); else choices();
    show("question", "title");
  }

  function sound_button(place, label) {
    const button = made("button", { type: "button", textContent: label });
    button.addEventListener("click", () => {
      at("status").textContent = "";
      play(asked.sounds[place], button, () => { asked.plays[place] += 1; heard(); });
    });
    asked.buttons[place] = button;
    return button;
  }

  const all_heard = () => asked.plays.every((count) => count > 0);

  function heard() {
    const ready = all_heard();
    if (kind !== "anchored") {
      for (const input of at("answer").querySelectorAll("input")) input.disabled = !ready;
    }
    at("status").textContent = ready ? panel.second_step : "Now play what you have not heard yet.";
    check();
  }

  function check() {
    const expected = kind === "anchored" ? asked.sounds.length - 1 : 1;
    const given = asked.values.filter((value) => value !== undefined).length;
    at("next").disabled = !(all_heard() && given === expected);
  }

  function choices() {
    const labels = asked.sounds.length > 1 ? ["Play A", "Play B"] : ["Play"];
    labels.forEach((label, place) => at("sounds").append(sound_button(place, label)));
    const group = made("fieldset", {}, made("legend", { textContent: panel.legend }));
    panel.choices.forEach(({ value, label, key }) => {
      const input = made("input", { type: "radio", name: "value", value: String(value), disabled: true });
      input.addEventListener("change", () => { asked.values[0] = value; check(); });
      const shown = made("span", { className: "key", textContent: key });
      shown.setAttribute("aria-hidden", "true");
      group.append(made("label", { className: "choice" }, input, made("span", { textContent: label }), shown));
    });
    at("answer").append(group);
  }

  function sliders() {
    at("sounds").append(sound_button(0, "Play the reference"));
    asked.sounds.slice(1).forEach((_, place) => {
      const name = `Sound ${place + 1}`;
      const output = made("output", { textContent: "–" });
      const slider = made("input", { type: "range", min: "0", max: "100", step: "1", value: "50" });
      slider.setAttribute("aria-label", `${name}: from 0, bad, to 100, excellent`);
      const given = () => { asked.values[place] = Number(slider.value); output.textContent = slider.value; check(); };
      for (const event of ["input", "change", "click"]) slider.addEventListener(event, given);
      slider.addEventListener("keydown", (event) => { if (event.key === "Enter") given(); });
      const scale = made("div", { className: "scale" });
      scale.setAttribute("aria-hidden", "true");
      for (const word of ["bad", "poor", "fair", "good", "excellent"]) scale.append(made("span", { textContent: word }));
      const line = made("div", { className: "line" }, sound_button(place + 1, `Play ${place + 1}`),
        made("div", { className: "slide" }, slider, scale), output);
      at("answer").append(made("div", { className: "rated" }, line));
    });
  }

  function answered() {
    if (at("next").disabled) return;
    const { page, sounds, values, plays, begun } = asked;
    sitting.answers.push({ page, sounds, values, plays, took_ms: Math.round(performance.now() - begun) });
    keep();
    onward();
  }

  // ---- keys: numbers choose, space or P plays, Enter goes on ----
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.altKey || event.metaKey || at("question").hidden) return;
    const on_control = event.target.closest("button, a, textarea");
    const key = event.key.toLowerCase();
    if (key === "enter" && !on_control) { event.preventDefault(); answered(); return; }
    const on_input = event.target.closest("input");
    const place = { " ": 0, p: 0, a: 0, b: 1, r: 0 }[key];
    if (place !== undefined && !(key === " " && (on_control || on_input))) {
      if (asked.buttons[place]) { event.preventDefault(); asked.buttons[place].click(); }
      return;
    }
    if (!/^[1-9]$/.test(key)) return;
    if (kind === "anchored") { if (asked.buttons[Number(key)]) asked.buttons[Number(key)].click(); return; }
    const place_of = panel.choices.findIndex((choice) => choice.key === key);
    const input = at("answer").querySelectorAll("input")[place_of];
    if (input && !input.disabled) { input.focus(); input.click(); }
  });

  at("next").addEventListener("click", answered);
  at("answer").addEventListener("submit", (event) => event.preventDefault());
  at("go-on").addEventListener("click", onward);
  at("resume").addEventListener("click", onward);
  at("pause").addEventListener("click", () => finish(false));
  at("copy").addEventListener("click", async () => {
    at("file-text").select();
    let done = false;
    try { await navigator.clipboard.writeText(at("file-text").value); done = true; } catch { done = document.execCommand("copy"); }
    at("copied").textContent = done ? "Copied." : "Please copy the marked text by hand.";
  });
  at("try-volume").addEventListener("click", (event) => play(panel.volume, event.currentTarget, () => {}));

  at("start").addEventListener("submit", (event) => {
    event.preventDefault();
    const listener = Number(at("number").value);
    const good = Number.isInteger(listener) && listener >= 1 && listener <= panel.sheets.length;
    at("number-error").hidden = good;
    if (!good) {
      at("number-error").textContent = `Please enter the number you were given, from 1 to ${panel.sheets.length}.`;
      at("number").focus();
      return;
    }
    sitting = kept(listener) || begin(listener);
    rested = sitting.answers.length;
    keep();
    onward();
  });

  // An address that ends in #7 is listener 7's.
  const named = Number(location.hash.slice(1));
  if (Number.isInteger(named) && named >= 1 && named <= panel.sheets.length) at("number").value = String(named);
})();
