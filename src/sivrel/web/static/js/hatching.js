// Hatching on the plate: where no cache was used and rays were traced, or where a depth map's texels are larger than pixels.

const KINDS = [
  ["served", "hatched: no cache served, rays were traced"],
  ["texels", "hatched: a depth map's texels are larger than pixels"],
];

export class Hatching {
  /** `proof()` is the proof on the plate. */
  constructor(plate, proof) {
    this.plate = plate; this.proof = proof; this.at = null;
  }

  /** The next kind of hatching that the proof has a pass for, then none. */
  next() {
    const there = KINDS.map(([pass]) => pass).filter((pass) => this.proof()?.passes?.includes(pass));
    if (!there.length) this.at = this.at ? null : "nothing";
    else this.at = there[there.indexOf(this.at) + 1] ?? null;
    return this.load();
  }

  async load() {
    const proof = this.proof();
    let halves = null;
    if (this.at && proof?.passes?.includes(this.at)) {
      const answer = await fetch(`/pictures/${proof.picture}.half?pass=${this.at}`);
      if (answer.ok) halves = new Uint16Array(await answer.arrayBuffer());
    }
    if (this.proof() !== proof) return;
    this.plate.painter.setMarked(halves);
    document.getElementById("hatch-note")?.remove();
    if (this.at) {
      const words = halves ? KINDS.find(([pass]) => pass === this.at)[1] : "no cache served in this proof, and no depth map";
      document.getElementById("caption-a").append(Object.assign(document.createElement("span"), { id: "hatch-note", textContent: ` · ${words}` }));
    }
    this.plate.draw();
  }
}
