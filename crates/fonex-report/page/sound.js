// Sound: playing just a stretch of it, and its waveform and spectrogram with the words where they are.

import { make, seconds } from "./make.js";

const RATE = 16_000;
const WINDOW = 512;
// What is shown at first of a long recording, in seconds.
const FIRST_LOOK = 15;
// Left of the picture, for the names of its lanes, in pixels.
const GUTTER = 92;
// Heard around a word, so that it is not cut off, in seconds.
const BEFORE = 0.08;
const AFTER = 0.12;

/** Plays from `start` to `end` milliseconds, or to its end. */
export function playStretch(audio, start, end) {
  const stop = end === undefined ? Infinity : end / 1000 + AFTER;
  const begin = () => {
    audio.currentTime = Math.max(0, start / 1000 - BEFORE);
    const stretch = (audio.stretch = Symbol("stretch"));
    const watch = () => {
      if (audio.stretch !== stretch || audio.paused) return;
      if (audio.currentTime >= stop) audio.pause();
      else requestAnimationFrame(watch);
    };
    audio.play().then(watch, () => {});
  };
  if (audio.readyState >= 1) begin();
  else {
    audio.addEventListener("loadedmetadata", begin, { once: true });
    audio.load();
  }
}

/** The samples of a sound at 16 kHz, one channel. */
async function samples(address) {
  let bytes;
  if (address.startsWith("data:")) {
    bytes = Uint8Array.from(atob(address.slice(address.indexOf(",") + 1)), (c) => c.charCodeAt(0)).buffer;
  } else {
    const answer = await fetch(address);
    if (!answer.ok) throw new Error(`the file cannot be read (${answer.status})`);
    bytes = await answer.arrayBuffer();
  }
  const decoded = await new OfflineAudioContext(1, 1, RATE).decodeAudioData(bytes);
  const mixed = new Float32Array(decoded.length);
  for (let channel = 0; channel < decoded.numberOfChannels; channel += 1) {
    const one = decoded.getChannelData(channel);
    for (let at = 0; at < mixed.length; at += 1) mixed[at] += one[at] / decoded.numberOfChannels;
  }
  return mixed;
}

/** Powers of a stretch of samples in 256 bands, by a radix-2 transform (Cooley and Tukey, 1965) under a Hann window. */
export function powers(sound, from) {
  const re = new Float64Array(WINDOW);
  const im = new Float64Array(WINDOW);
  for (let at = 0; at < WINDOW; at += 1) {
    let place = 0;
    for (let bit = 1, mirror = WINDOW >> 1; bit < WINDOW; bit <<= 1, mirror >>= 1) if (at & bit) place |= mirror;
    const hann = 0.5 - 0.5 * Math.cos((2 * Math.PI * at) / WINDOW);
    re[place] = (sound[from + at] || 0) * hann;
  }
  for (let size = 2; size <= WINDOW; size <<= 1) {
    const half = size >> 1;
    for (let k = 0; k < half; k += 1) {
      const angle = (-2 * Math.PI * k) / size;
      const cos = Math.cos(angle);
      const sin = Math.sin(angle);
      for (let at = k; at < WINDOW; at += size) {
        const other = at + half;
        const turnedRe = re[other] * cos - im[other] * sin;
        const turnedIm = re[other] * sin + im[other] * cos;
        re[other] = re[at] - turnedRe;
        im[other] = im[at] - turnedIm;
        re[at] += turnedRe;
        im[at] += turnedIm;
      }
    }
  }
  return Float64Array.from({ length: WINDOW / 2 }, (_, at) => re[at] * re[at] + im[at] * im[at]);
}

/** A colour of the page's look, as a canvas takes it. */
function colour(name) {
  const probe = document.body.appendChild(make("span"));
  probe.style.color = `var(--${name})`;
  const found = getComputedStyle(probe).color;
  probe.remove();
  return found;
}

/** A picture of a sound: `lanes` are [name, [[text, start, end] in milliseconds]]. */
export class SoundPicture {
  constructor(audio, lanes) {
    this.audio = audio;
    this.lanes = lanes.filter((lane) => lane[1].length);
    this.canvas = make("canvas", { class: "picture", role: "img" });
    this.told = make("p", { class: "quiet", "aria-live": "polite" });
    this.pan = make("input", { type: "range", min: 0, step: 0.01, "aria-label": "Where to look" });
    const zoom = (factor) => () => this.look(this.from, (this.to - this.from) * factor);
    this.tools = make(
      "div",
      { class: "tools" },
      make("button", { type: "button", onclick: zoom(0.5) }, "Closer"),
      make("button", { type: "button", onclick: zoom(2) }, "Wider"),
      this.pan,
    );
    this.element = make("div", { class: "sound" }, this.canvas, this.tools, this.told);
    this.pan.addEventListener("input", () => this.look(Number(this.pan.value), this.to - this.from));
    this.canvas.addEventListener("click", (event) => {
      const x = event.clientX - this.canvas.getBoundingClientRect().left;
      const share = Math.max(0, x - GUTTER) / Math.max(1, this.canvas.clientWidth - GUTTER);
      playStretch(audio, 1000 * (this.from + share * (this.to - this.from)));
    });
    audio.addEventListener("play", () => this.follow());
  }

  async draw() {
    this.told.textContent = "Reading the sound…";
    try {
      this.sound = await samples(this.audio.getAttribute("src"));
    } catch {
      const linked = location.protocol === "file:" && !this.audio.getAttribute("src").startsWith("data:");
      this.told.textContent = linked
        ? "A page opened from a file may not look into sounds that lie beside it; they can be played. Embedded sounds, or a page from a server, can be pictured."
        : "This browser cannot decode the sound.";
      this.canvas.remove();
      this.tools.remove();
      return;
    }
    this.length = this.sound.length / RATE;
    this.look(0, Math.min(this.length, FIRST_LOOK));
    new ResizeObserver(() => this.paint()).observe(this.element);
  }

  /** Shows `span` seconds from `from` on. */
  look(from, span) {
    const most = Math.max(this.length, 0.05);
    const shown = Math.min(Math.max(span, 0.25), most);
    this.from = Math.min(Math.max(0, from), most - shown);
    this.to = this.from + shown;
    this.pan.max = most - shown;
    this.pan.value = this.from;
    this.pan.disabled = most - shown < 0.01;
    const words = `${seconds(1000 * this.from)} to ${seconds(1000 * this.to)} of ${seconds(1000 * this.length)}`;
    this.told.textContent = `${words}; spectrogram up to ${RATE / 2000} kHz. A click plays from there.`;
    this.canvas.setAttribute("aria-label", `Waveform and spectrogram, ${words}`);
    this.still = null;
    this.paint();
  }

  paint() {
    const ratio = window.devicePixelRatio || 1;
    const whole = Math.round(this.element.clientWidth * ratio);
    this.gutter = Math.round(GUTTER * ratio);
    const width = whole - this.gutter;
    if (width <= 0 || !this.sound) return;
    const [wave, spectrum, lane, axis] = [64, 128, 22, 18].map((px) => Math.round(px * ratio));
    const height = wave + spectrum + lane * this.lanes.length + axis;
    this.canvas.width = whole;
    this.canvas.height = height;
    this.canvas.style.height = `${height / ratio}px`;
    const pen = this.pen();
    const colours = { ink: colour("ink"), wash: colour("wash"), quiet: colour("quiet"), wave: colour("dropped") };
    pen.fillStyle = colours.wash;
    pen.fillRect(0, 0, whole, height);
    pen.font = `${Math.round(12 * ratio)}px sans-serif`;
    pen.textBaseline = "middle";
    pen.translate(this.gutter, 0);
    this.paintWave(pen, width, wave, colours);
    this.paintSpectrum(pen, width, wave, spectrum, colours);
    this.lanes.forEach(([name, words], at) => {
      this.paintWords(pen, width, wave + spectrum + lane * at, lane, name, words, colours);
    });
    this.paintAxis(pen, width, height - axis, axis, colours);
    pen.setTransform(1, 0, 0, 1, 0, 0);
    this.still = pen.getImageData(0, 0, whole, height);
  }

  pen() {
    return this.canvas.getContext("2d", { willReadFrequently: true });
  }

  at(s, width) {
    return ((s - this.from) / (this.to - this.from)) * width;
  }

  /** A name in the gutter. */
  name(pen, text, y, { quiet }) {
    pen.fillStyle = quiet;
    pen.fillText(text, 5 - this.gutter, y, this.gutter - 10);
  }

  paintWave(pen, width, height, colours) {
    const each = ((this.to - this.from) * RATE) / width;
    let peak = 0.01;
    for (let at = Math.floor(this.from * RATE); at < this.to * RATE; at += 1) peak = Math.max(peak, Math.abs(this.sound[at] || 0));
    pen.fillStyle = colours.wave;
    const middle = height / 2;
    for (let x = 0; x < width; x += 1) {
      const from = Math.floor(this.from * RATE + x * each);
      let low = 0;
      let high = 0;
      for (let at = from; at < from + Math.max(1, each); at += 1) {
        low = Math.min(low, this.sound[at] || 0);
        high = Math.max(high, this.sound[at] || 0);
      }
      const top = middle - (high / peak) * (middle - 2);
      pen.fillRect(x, top, 1, Math.max(1, middle - (low / peak) * (middle - 2) - top));
    }
    this.name(pen, `peak ${(20 * Math.log10(peak)).toFixed(0)} dBFS`, middle, colours);
  }

  paintSpectrum(pen, width, top, height, colours) {
    const image = pen.createImageData(width, height);
    const columns = Array.from({ length: width }, (_, x) => {
      const s = this.from + ((x + 0.5) / width) * (this.to - this.from);
      return powers(this.sound, Math.round(s * RATE) - WINDOW / 2);
    });
    const loudest = columns.reduce((most, column) => column.reduce((a, b) => Math.max(a, b), most), 1e-9);
    const shades = [colours.wash, colours.wave, colours.ink].map((shade) => shade.match(/[\d.]+/g).map(Number));
    columns.forEach((column, x) => {
      for (let y = 0; y < height; y += 1) {
        const power = column[Math.floor(((height - 1 - y) / height) * column.length)];
        // 60 dB from paper to ink, by way of the colour of the wave.
        const level = 2 * Math.min(1, Math.max(0, 1 + (10 * Math.log10(power / loudest + 1e-12)) / 60));
        const [from, to] = level < 1 ? [shades[0], shades[1]] : [shades[1], shades[2]];
        const share = level < 1 ? level : level - 1;
        const place = 4 * (y * width + x);
        for (let at = 0; at < 3; at += 1) image.data[place + at] = from[at] + share * (to[at] - from[at]);
        image.data[place + 3] = 255;
      }
    });
    pen.putImageData(image, this.gutter, top);
    for (const share of [0.25, 0.5, 0.75]) this.name(pen, `${(share * RATE) / 2000} kHz`, top + height * (1 - share), colours);
  }

  paintWords(pen, width, top, height, name, words, colours) {
    for (const [text, start, end] of words) {
      const left = Math.max(0, this.at(start / 1000, width));
      const right = Math.min(width, this.at(end / 1000, width));
      if (right <= 0 || left >= width) continue;
      pen.strokeStyle = colours.quiet;
      pen.strokeRect(left + 0.5, top + 2.5, Math.max(2, right - left - 1), height - 5);
      pen.save();
      pen.beginPath();
      pen.rect(left, top, Math.max(2, right - left), height);
      pen.clip();
      pen.fillStyle = colours.ink;
      pen.fillText(text, left + 4, top + height / 2);
      pen.restore();
    }
    this.name(pen, name, top + height / 2, colours);
  }

  paintAxis(pen, width, top, height, { quiet }) {
    const span = this.to - this.from;
    const step = [0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 30, 60, 120, 300, 600].find((step) => span / step <= 10) || 1800;
    pen.fillStyle = quiet;
    for (let s = Math.ceil(this.from / step) * step; s <= this.to; s += step) {
      const x = this.at(s, width);
      pen.fillRect(x, top, 1, 4);
      const words = step < 1 ? s.toFixed(2) : String(Math.round(s));
      if (x + pen.measureText(words).width < width) pen.fillText(words, x + 3, top + height / 2 + 2);
    }
  }

  /** Moves a line along while the sound plays. */
  follow() {
    if (!this.still || !this.canvas.isConnected) return;
    const pen = this.pen();
    pen.putImageData(this.still, 0, 0);
    const x = this.gutter + this.at(this.audio.currentTime, this.canvas.width - this.gutter);
    pen.fillStyle = colour("other");
    pen.fillRect(x, 0, 2, this.canvas.height);
    if (!this.audio.paused) requestAnimationFrame(() => this.follow());
  }
}
