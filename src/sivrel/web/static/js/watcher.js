// A running render: tiles as they come, progress, cancel and resume.

import { $, write } from "./dom.js";
import { inSeconds } from "./format.js";
import { Picture } from "./plate.js";
import { post } from "./post.js";


/** Milliseconds until a running render is asked for again: at first, and at most. */
const SOON = 100, LATE = 400;

export async function json(address) {
  const answer = await fetch(address);
  if (!answer.ok) throw new Error(`${address}: ${answer.status}`);
  return answer.json();
}

export class Watcher {
  /** `ended(proof)` is called when the picture is there, or nothing more will come; `filtered(proof)` says whether it is to be seen filtered. */
  constructor(plate, ended, filtered) {
    this.plate = plate; this.ended = ended; this.filtered = filtered;
    this.following = null;
  }

  stop() {
    this.following = null;
    $("progress").hidden = true;
  }

  async follow(proof) {
    const mine = (this.following = { id: proof.id });
    let have = 0, sketched = false, shown = 0, rest = SOON, before = "";
    this.plate.setPicture(0, new Picture({ ...proof, finished: false }));
    $("progress").hidden = false;
    $("progress-text").textContent = "starting";
    while (this.following === mine) {
      let now;
      try {
        now = await json(`/proofs/${proof.id}.json`);
        const filtered = now.live > 0 && this.filtered(now);
        if (filtered && now.live > shown && (await this.takeWhole(proof.id, "live", mine))) shown = now.live;
        if (!filtered && !sketched && now.state === "rendering") sketched = await this.takeWhole(proof.id, "sketch", mine);
        if (!filtered && !now.picture && now.tiles_done > have) have += await this.takeTiles(proof.id, have, mine);
        if (filtered) have = now.tiles_done;
      } catch {
        $("progress-text").textContent = "Sivrel does not answer; the render continues when it is started again.";
        await new Promise((done) => setTimeout(done, 1000));
        continue;
      }
      if (this.following !== mine) return;
      this.say(now);
      if (now.picture) {
        this.stop();
        return this.ended(now);
      }
      if (now.state === "cancelled" || now.state === "failed") {
        if (now.tiles_done <= have) {
          this.following = null;
          return this.ended(now);
        }
        continue;
      }
      // Asking takes processor time from the render itself: less often while nothing happens.
      const state = `${now.state} ${now.tiles_done} ${now.live}`;
      rest = state === before ? Math.min(LATE, rest * 1.2) : SOON;
      before = state;
      await new Promise((done) => setTimeout(done, rest));
    }
  }

  /** The whole picture, coarse (`sketch`) or filtered (`live`), where no tiles are shown; returns whether it exists. */
  async takeWhole(id, name, mine) {
    const answer = await fetch(`/proofs/${id}/${name}`);
    if (answer.status !== 200) return false;
    const halves = new Uint16Array(await answer.arrayBuffer());
    if (this.following === mine) this.plate.setUnder(0, halves);
    return true;
  }

  async takeTiles(id, have, mine) {
    const answer = await fetch(`/proofs/${id}/tiles?from=${have}`);
    const bytes = await answer.arrayBuffer();
    if (this.following !== mine) return 0;
    let at = 0, count = 0;
    while (at < bytes.byteLength) {
      const [, x0, y0, x1, y1] = new Int32Array(bytes, at, 5);
      const length = (x1 - x0) * (y1 - y0) * 4;
      this.plate.setTile(0, [x0, y0, x1, y1], new Uint16Array(bytes, at + 20, length));
      at += 20 + length * 2;
      count++;
    }
    if (count) this.plate.draw();
    return count;
  }

  say(now) {
    const ended = now.state === "cancelled" || now.state === "failed";
    const share = now.tiles_total ? now.tiles_done / now.tiles_total : 0;
    if ($("progress-bar").value !== share) $("progress-bar").value = share;
    document.querySelector("[data-do=cancel]").hidden = ended;
    document.querySelector("[data-do=resume]").hidden = !ended;
    let text = `${now.tiles_done} of ${now.tiles_total} tiles`;
    if (now.state === "failed") text = now.message;
    else if (ended) text = `cancelled at ${text}`;
    else if (now.worker.phase === "making") text = `making the ${now.worker.message}, ${now.worker.done} %`;
    else if (now.worker.phase === "compiling" && now.worker.message && !now.worker.total) text = `compiling ${now.worker.message}, once after an update`;
    else if (now.worker.phase === "compiling") text = `preparing the renderer, once after an update: ${now.worker.done} of ${now.worker.total || "…"} kernels`;
    else if (now.worker.held || now.held) text = `held at ${text}; resume it in the queue (G Q)`;
    else if (now.state === "waiting") text = `waiting for its turn${now.left == null ? "" : `; it will take about ${inSeconds(now.left)}`}`;
    else if (now.left != null) text += ` · about ${inSeconds(now.left)} left`;
    write($("progress-text"), text);
    const card = document.querySelector(`.card[data-proof="${now.id}"]`);
    if (card && !now.picture) for (const part of card.querySelectorAll(".blank, .state")) write(part, now.state);
  }

  async cancel() {
    if (this.following) await post(`/proofs/${this.following.id}/cancel`);
  }

  resume(id) {
    return post(`/proofs/${id}/resume`);
  }
}
