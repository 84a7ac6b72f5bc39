// Draws the plate where there is no WebGL 2: PNGs that the server makes for the exposure and view.

export class PlatePng {
  constructor(canvas, redraw) {
    this.canvas = canvas;
    this.context = canvas.getContext("2d");
    this.redraw = redraw;
    this.slots = [null, null];
    this.images = [null, null];
    this.view = "soft";
  }

  setView(_halves, name) { this.view = name; }

  setPicture(slot, picture) {
    this.slots[slot] = picture;
    this.images[slot] = null;
  }

  setMarked() {} // hatching needs the shader

  setTile() {} // a render on its way is seen when it is done

  _image(slot, exposure, finish) {
    const picture = this.slots[slot];
    if (!picture || !picture.digest) return null;
    const { white, ...settings } = finish;
    const address = `/pictures/${picture.digest}.png?${new URLSearchParams({ ...settings, exposure: exposure.toFixed(2), view: this.view, pass: picture.pass ?? "beauty" })}`;
    if (!this.images[slot] || this.images[slot].address !== address) {
      const image = new Image();
      image.onload = this.redraw;
      image.src = address;
      this.images[slot] = { image, address };
    }
    return this.images[slot].image.complete ? this.images[slot].image : null;
  }

  draw({ place, mode, wipe, exposure, booth, finish }) {
    const c = this.context, [left, top, width, height] = place;
    c.imageSmoothingEnabled = false;
    c.fillStyle = `rgb(${booth.map((v) => Math.round(v * 255)).join(" ")})`;
    c.fillRect(0, 0, this.canvas.width, this.canvas.height);
    const lay = (slot, from, to) => {
      const image = this._image(slot, exposure, finish), p = this.slots[slot];
      if (!image) return;
      c.save();
      c.beginPath();
      c.rect(left + from * width, top, (to - from) * width, height);
      c.clip();
      const [x0, y0, x1, y1] = p.window;
      c.drawImage(image, left + (x0 / p.width) * width, top + (y0 / p.height) * height, ((x1 - x0) / p.width) * width, ((y1 - y0) / p.height) * height);
      c.restore();
    };
    if (mode === 3) {
      lay(0, 0, 1);
      c.globalCompositeOperation = "difference";
      lay(1, 0, 1);
      c.globalCompositeOperation = "source-over";
    } else if (mode === 2) {
      lay(0, 0, wipe);
      lay(1, wipe, 1);
    } else lay(mode, 0, 1);
  }
}
