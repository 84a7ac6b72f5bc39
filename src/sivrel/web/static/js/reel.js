// The frames of one or two sequences in memory, played at their rate.

import { Picture } from "./plate.js";

const AT_ONCE = 4, MOST_BYTES = 700 * 2 ** 20;

/** One sequence: its state from the server, and its frames as pictures. */
export class Reel {
  constructor(state, onFrame) {
    this.onFrame = onFrame;
    this.pictures = new Map(); // by pass and time
    this.pass = "beauty";
    this.wanted = 0;
    this.take(state);
  }

  take(state) {
    this.state = state;
    this.frames = state.frames;
    this.times = state.frames.map((frame) => frame.time);
  }

  /** Whether all frames of a pass fit into memory; if not they are fetched as they are shown. */
  get fits() {
    return this.frames.length * this.state.width * this.state.height * 8 < MOST_BYTES;
  }

  key = (frame, pass = this.pass) => `${pass}/${frame.picture}`;

  /** The picture of a frame nearest in time, or null while it is not here. */
  at(time) {
    const frame = this.frame(time);
    return frame?.picture ? (this.pictures.get(this.key(frame)) ?? null) : null;
  }

  frame(time) {
    return this.frames.reduce((best, frame) => (best === null || Math.abs(frame.time - time) < Math.abs(best.time - time) ? frame : best), null);
  }

  /** Whether the server has a pass of a frame. */
  has(frame, pass) {
    return Boolean(frame.picture && (pass === "flicker" ? frame.flicker : pass === "flicker_in_time" ? frame.in_time : true));
  }

  /** How many frames of the current pass are here, and how many there are. */
  get loaded() {
    const there = this.frames.filter((frame) => this.has(frame, this.pass));
    return [there.filter((frame) => this.pictures.has(this.key(frame))).length, there.length];
  }

  /** Fetch the frames of the current pass that are not here yet, those about a time first. */
  async load(time) {
    const mine = ++this.wanted, pass = this.pass;
    const missing = this.frames.filter((frame) => this.has(frame, pass) && !this.pictures.has(this.key(frame, pass)));
    missing.sort((p, q) => Math.abs(p.time - time) - Math.abs(q.time - time));
    const next = async () => {
      for (let frame = missing.shift(); frame && mine === this.wanted; frame = missing.shift()) {
        await this.fetch(frame, pass);
        this.onFrame();
      }
    };
    await Promise.all(Array.from({ length: AT_ONCE }, next));
  }

  async fetch(frame, pass) {
    const answer = await fetch(`/pictures/${frame.picture}.half?pass=${pass}`);
    if (!answer.ok) return;
    const { width, height } = this.state;
    if (!this.fits && this.pictures.size > 24) this.pictures.delete(this.pictures.keys().next().value);
    const halves = new Uint16Array(await answer.arrayBuffer());
    this.pictures.set(this.key(frame, pass), new Picture({ width, height, window: [0, 0, width, height], halves, digest: pass === "beauty" ? frame.picture : null, pass }));
  }
}

/** The clock of a page of moving pictures: which frame is shown, playing or not, over a range that loops. */
export class Clock {
  constructor(onChange) {
    this.onChange = onChange;
    this.times = [];
    this.index = 0;
    this.rate = 24;
    this.playing = false;
    this.range = null; // [first, last] index, or null for all
  }

  get time() {
    return this.times[this.index] ?? 0;
  }

  setTimes(times, rate) {
    const before = this.time;
    this.times = times;
    this.rate = rate;
    this.index = Math.max(0, times.findIndex((time) => time >= before));
    if (this.range && this.range[1] >= times.length) this.range = null;
  }

  go(index) {
    const last = Math.max(0, this.times.length - 1);
    this.index = Math.min(last, Math.max(0, index));
    this.onChange();
  }

  step(by) {
    this.pause();
    this.go(this.index + by);
  }

  play() {
    if (this.times.length < 2) return;
    this.playing = true;
    let last = performance.now(), late = 0;
    const tick = (now) => {
      if (!this.playing) return;
      late += ((now - last) * this.rate) / 1000;
      last = now;
      const steps = Math.floor(late);
      if (steps > 0) {
        late -= steps;
        const [first, end] = this.range ?? [0, this.times.length - 1], count = end - first + 1;
        const from = this.index < first || this.index > end ? first : this.index;
        this.index = first + ((from - first + steps) % count);
        this.onChange();
      }
      requestAnimationFrame(tick);
    };
    requestAnimationFrame(tick);
    this.onChange();
  }

  pause() {
    this.playing = false;
    this.onChange();
  }
}
