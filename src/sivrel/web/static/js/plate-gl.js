// Draws the plate with WebGL 2: linear half floats, exposure and view transform in the shader.

const VERTEX = `#version 300 es
in vec2 corner;
void main() { gl_Position = vec4(corner, 0.0, 1.0); }`;

// A picture covers a window of its frame; both pictures are aligned by the whole frame.
// One source for three programs.
const FRAGMENT = `
uniform sampler2D first, second, marked, firstShown, secondShown;
uniform bool hatched;      // whether what is marked below one is hatched
uniform sampler3D lut;
uniform vec4 windows[2];   // of the frame, 0 to 1: left, top, right, bottom
uniform bool there[2];
uniform vec4 place;        // of the frame on the canvas: left, top, width, height in pixels
uniform float canvasHeight, exposure, wipe, gain;
uniform int mode;          // 0 first, 1 second, 2 wipe, 3 difference
uniform vec2 stops;
uniform float middle, lutSize;
uniform mat3 white;
uniform float highlights, shadows, contrast, saturation, sharpening;
uniform vec3 booth;
out vec4 colour;

vec4 pick(int which, vec2 at) {
  vec4 w = windows[which];
  if (!there[which] || any(lessThan(at, w.xy)) || any(greaterThanEqual(at, w.zw))) return vec4(0.0);
  vec2 uv = (at - w.xy) / (w.zw - w.xy);
#ifdef COMPOSING
  vec4 texel = which == 0 ? texture(firstShown, uv) : texture(secondShown, uv);
#else
  vec4 texel = which == 0 ? texture(first, uv) : texture(second, uv);
#endif
  return vec4(texel.rgb, step(0.5, texel.a)); // a tile that is still to come has no alpha
}
// Finishing, operation for operation as in core/finish/finishing.py.
const vec3 LUMINANCE = vec3(0.2126, 0.7152, 0.0722);
const float KNEE = 0.6, SHARPEST = 1.5, EYE_FLOOR = 1e-3;
float logLight(int which, ivec2 at) {
  ivec2 size = which == 0 ? textureSize(first, 0) : textureSize(second, 0);
  at = clamp(at, ivec2(0), size - 1);
  vec3 c = which == 0 ? texelFetch(first, at, 0).rgb : texelFetch(second, at, 0).rgb;
  return log2(dot(max(c * exp2(exposure), 0.0), LUMINANCE) + EYE_FLOOR);
}
float sharpened(int which, vec2 at) {
  if (sharpening <= 0.0) return 1.0;
  vec4 w = windows[which];
  ivec2 size = which == 0 ? textureSize(first, 0) : textureSize(second, 0);
  ivec2 p = ivec2(floor((at - w.xy) / (w.zw - w.xy) * vec2(size)));
  float blurred = 0.0;
  for (int j = -1; j <= 1; j++)
    for (int i = -1; i <= 1; i++) blurred += float((2 - abs(i)) * (2 - abs(j))) * logLight(which, p + ivec2(i, j));
  return clamp(exp2(sharpening * (logLight(which, p) - blurred / 16.0)), 1.0 / SHARPEST, SHARPEST);
}
vec3 lookedUp(vec3 c) {
  vec3 t = (log2(max(c, 1e-9) / middle) - stops.x) / (stops.y - stops.x);
  return texture(lut, (clamp(t, 0.0, 1.0) * (lutSize - 1.0) + 0.5) / lutSize).rgb; // mixed trilinearly, as core/finish/finishing.py does
}
vec3 shown(vec3 light, int which, vec2 at) {
#ifdef COMPOSING
  return light;
#else
  vec3 c = max(light * exp2(exposure), 0.0) * sharpened(which, at);
  c = max(white * c, 0.0);
  float most = max(c.r, max(c.g, c.b)), over = most - KNEE;
  if (over > 0.0) c *= (KNEE + over / (1.0 + 2.0 * highlights * over / KNEE)) / most;
  float dark = max(1.0 - max(c.r, max(c.g, c.b)) / middle, 0.0);
  c *= 1.0 + 2.5 * shadows * dark * dark;
  if (contrast != 1.0) c = middle * pow(c / middle, vec3(contrast));
  float grey = dot(c, LUMINANCE);
  return clamp(lookedUp(max(grey + (c - grey) * saturation, 0.0)), 0.0, 1.0);
#endif
}
// Lines where a depth map is too coarse: the denser, the larger its texels.
vec3 hatch(vec3 shown, vec2 at, vec2 pixel) {
  vec4 w = windows[0];
  if (!hatched || any(lessThan(at, w.xy)) || any(greaterThanEqual(at, w.zw))) return shown;
  float texels = texture(marked, (at - w.xy) / (w.zw - w.xy)).r;
  if (texels >= 1.0) return shown;
  float spacing = texels < 0.25 ? 4.0 : texels < 0.5 ? 7.0 : 12.0;
  float across = mod(pixel.x + pixel.y, spacing);
  return across < 1.0 ? vec3(0.0) : across < 2.0 ? vec3(1.0) : shown;
}
#ifdef FINISHING
uniform int which;
void main() { // a pixel of the picture itself
  ivec2 p = ivec2(gl_FragCoord.xy);
  vec4 w = windows[which], texel = which == 0 ? texelFetch(first, p, 0) : texelFetch(second, p, 0);
  vec2 size = vec2(which == 0 ? textureSize(first, 0) : textureSize(second, 0));
  colour = vec4(shown(texel.rgb, which, mix(w.xy, w.zw, gl_FragCoord.xy / size)), step(0.5, texel.a));
}
#else
void main() {
  vec2 pixel = vec2(gl_FragCoord.x, canvasHeight - gl_FragCoord.y);
  vec2 at = (pixel - place.xy) / place.zw;
  if (any(lessThan(at, vec2(0.0))) || any(greaterThanEqual(at, vec2(1.0)))) { colour = vec4(booth, 1.0); return; }
  vec4 a = pick(0, at), b = pick(1, at);
  if (mode == 3) {
    if (a.a * b.a == 0.0) { colour = vec4(booth * 0.8, 1.0); return; }
    colour = vec4(clamp(0.5 + gain * (shown(a.rgb, 0, at) - shown(b.rgb, 1, at)), 0.0, 1.0), 1.0);
    return;
  }
  bool useSecond = mode == 1 || (mode == 2 && at.x >= wipe);
  vec4 c = useSecond ? b : a, other = useSecond ? a : b;
  if (c.a > 0.0) colour = vec4(useSecond ? shown(c.rgb, 1, at) : hatch(shown(c.rgb, 0, at), at, pixel), 1.0);
  // Outside a region, and before a tile arrives, the other proof shows faintly for orientation.
  else colour = vec4(other.a > 0.0 ? mix(booth, shown(other.rgb, useSecond ? 0 : 1, at), 0.3) : booth * 0.88, 1.0);
}
#endif`;

const HEAD = "#version 300 es\nprecision highp float;\nprecision highp sampler3D;\n";
const UNITS = ["first", "second", "lut", "marked", "firstShown", "secondShown"];
const STRIP = 250000; // pixels that are finished in one go while nothing waits for them

/** A program of the shader above, with its uniforms by name. `kind`: "" finishes each pixel of the canvas, FINISHING each of a picture, COMPOSING
 * puts finished pictures on the canvas. */
function made(gl, kind, lut) {
  const program = gl.createProgram();
  for (const [type, source] of [[gl.VERTEX_SHADER, VERTEX], [gl.FRAGMENT_SHADER, `${HEAD}${kind ? `#define ${kind}\n` : ""}${FRAGMENT}`]]) {
    const shader = gl.createShader(type);
    gl.shaderSource(shader, source);
    gl.compileShader(shader);
    if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
    gl.attachShader(program, shader);
  }
  gl.bindAttribLocation(program, 0, "corner");
  gl.linkProgram(program);
  gl.useProgram(program);
  const known = {}, at = (name) => (known[name] ??= gl.getUniformLocation(program, name));
  UNITS.forEach((name, unit) => gl.uniform1i(at(name), unit));
  gl.uniform2f(at("stops"), ...lut.stops);
  gl.uniform1f(at("middle"), lut.middle);
  gl.uniform1f(at("lutSize"), lut.size);
  return { program, at };
}

export class PlateGL {
  /** Throws where there is no WebGL 2. */
  constructor(canvas, lut) {
    const gl = canvas.getContext("webgl2", { antialias: false, preserveDrawingBuffer: true });
    if (!gl) throw new Error("no WebGL 2");
    this.gl = gl;
    this.canvas = canvas;
    this.lut = lut;
    this.slots = [null, null];
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([-1, -1, 3, -1, -1, 3]), gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, 2, gl.FLOAT, false, 0, 0);
    this.direct = made(gl, "", lut);
    this.finishing = made(gl, "FINISHING", lut);
    this.composing = made(gl, "COMPOSING", lut);
    this.textures = UNITS.map(() => gl.createTexture());
    // Of each picture as it is shown: where it is drawn to, its size, what is still to be finished, with which settings, and whether smaller
    // versions of it are up to date.
    this.shown = [0, 1].map(() => ({ frame: gl.createFramebuffer(), size: "", left: [], key: "", small: false }));
    this.hatched = false;
    this.view = 0;
  }

  setView(halves) {
    const gl = this.gl, n = this.lut.size;
    gl.activeTexture(gl.TEXTURE2);
    gl.bindTexture(gl.TEXTURE_3D, this.textures[2]);
    gl.texImage3D(gl.TEXTURE_3D, 0, gl.RGBA16F, n, n, n, 0, gl.RGBA, gl.HALF_FLOAT, halves);
    for (const [key, value] of [["MIN_FILTER", "LINEAR"], ["MAG_FILTER", "LINEAR"], ["WRAP_S", "CLAMP_TO_EDGE"], ["WRAP_T", "CLAMP_TO_EDGE"], ["WRAP_R", "CLAMP_TO_EDGE"]])
      gl.texParameteri(gl.TEXTURE_3D, gl[`TEXTURE_${key}`], gl[value]);
    this.view += 1;
  }

  /** `picture` is a Picture of plate.js, or null. */
  setPicture(slot, picture) {
    this.slots[slot] = picture;
    this.shown[slot].key = "";
    if (!picture) return;
    const [x0, y0, x1, y1] = picture.window;
    this._fill(slot, x1 - x0, y1 - y0, picture.halves, "LINEAR");
  }

  /** Texels for each pixel of the first picture as RGBA half floats, or null for no hatching. */
  setMarked(halves) {
    const gl = this.gl, picture = this.slots[0];
    this.hatched = Boolean(halves && picture);
    if (!this.hatched) return;
    const [x0, y0, x1, y1] = picture.window;
    this._fill(3, x1 - x0, y1 - y0, halves, "NEAREST");
    gl.activeTexture(gl.TEXTURE0);
  }

  _fill(unit, width, height, halves, shrink) {
    const gl = this.gl;
    gl.activeTexture(gl.TEXTURE0 + unit);
    gl.bindTexture(gl.TEXTURE_2D, this.textures[unit]);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA16F, width, height, 0, gl.RGBA, gl.HALF_FLOAT, halves);
    this._filter(shrink);
  }

  _filter(shrink) {
    const gl = this.gl;
    for (const [key, value] of [["MIN_FILTER", shrink], ["MAG_FILTER", "NEAREST"], ["WRAP_S", "CLAMP_TO_EDGE"], ["WRAP_T", "CLAMP_TO_EDGE"]])
      gl.texParameteri(gl.TEXTURE_2D, gl[`TEXTURE_${key}`], gl[value]);
  }

  /** A tile of the picture in `slot` has changed. */
  setTile(slot, [x0, y0, x1, y1], halves) {
    const gl = this.gl, window = this.slots[slot].window, [left, top] = [x0 - window[0], y0 - window[1]];
    gl.activeTexture(gl.TEXTURE0 + slot);
    gl.bindTexture(gl.TEXTURE_2D, this.textures[slot]);
    gl.texSubImage2D(gl.TEXTURE_2D, 0, left, top, x1 - x0, y1 - y0, gl.RGBA, gl.HALF_FLOAT, halves);
    this.shown[slot].left.push([Math.max(0, left - 1), Math.max(0, top - 1), x1 - window[0] + 1, y1 - window[1] + 1]); // sharpening reads the neighbours
  }

  // ---- what is finished ahead, so that moving the picture costs next to nothing ---------------------------------------

  /** Note what is to be finished of a slot, if its settings have changed. */
  _look(slot, key) {
    const gl = this.gl, { width, height } = this._size(slot), shown = this.shown[slot];
    if (shown.key === key) return;
    shown.key = key;
    shown.left = [[0, 0, width, height]];
    const size = `${width} ${height}`;
    if (shown.size === size) return;
    shown.size = size;
    gl.activeTexture(gl.TEXTURE4 + slot);
    gl.deleteTexture(this.textures[4 + slot]);
    this.textures[4 + slot] = gl.createTexture();
    gl.bindTexture(gl.TEXTURE_2D, this.textures[4 + slot]);
    // Ten bits, so that small differences can be enlarged; two tell whether a pixel is there yet.
    gl.texStorage2D(gl.TEXTURE_2D, 1 + Math.floor(Math.log2(Math.max(width, height))), gl.RGB10_A2, width, height);
    gl.bindFramebuffer(gl.FRAMEBUFFER, shown.frame);
    gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, this.textures[4 + slot], 0);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    }

  _size(slot) {
    const [x0, y0, x1, y1] = this.slots[slot].window;
    return { width: x1 - x0, height: y1 - y0 };
  }

  /** Finish at most so many pixels of a slot. */
  _finish(slot, most) {
    const gl = this.gl, { width, height } = this._size(slot), shown = this.shown[slot];
    gl.bindFramebuffer(gl.FRAMEBUFFER, shown.frame);
    gl.viewport(0, 0, width, height);
    gl.enable(gl.SCISSOR_TEST);
    this._use(this.finishing);
    gl.uniform1i(this.finishing.at("which"), slot);
    while (shown.left.length && most > 0) {
      const [x0, y0, x1, y1] = shown.left.pop(), rows = Math.max(1, Math.floor(most / Math.max(1, x1 - x0)));
      const end = Math.min(y1, y0 + rows);
      if (end < y1) shown.left.push([x0, end, x1, y1]);
      gl.scissor(x0, y0, x1 - x0, end - y0);
      gl.drawArrays(gl.TRIANGLES, 0, 3);
      most -= (x1 - x0) * (end - y0);
    }
    shown.small = false;
    gl.disable(gl.SCISSOR_TEST);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
  }

  /** Go on finishing while nothing else is to be done. */
  _ahead() {
    clearTimeout(this.going);
    const slot = [0, 1].find((k) => this.slots[k] && this.shown[k].left.length);
    if (slot === undefined) return;
    this.going = setTimeout(() => {
      this._finish(slot, STRIP);
      this._ahead();
    }, 0);
  }

  // ---- drawing ---------------------------------------------------------------------------------------------------------

  /** Make a program the current one, with the last settings. */
  _use({ program, at }) {
    const gl = this.gl, { place, mode, wipe, gain, exposure, booth, finish } = this.settings;
    gl.useProgram(program);
    gl.uniform4f(at("place"), ...place);
    gl.uniform1f(at("canvasHeight"), this.canvas.height);
    gl.uniform1f(at("exposure"), exposure);
    gl.uniform1f(at("wipe"), wipe);
    gl.uniform1f(at("gain"), gain);
    gl.uniform1i(at("mode"), mode);
    gl.uniformMatrix3fv(at("white"), true, finish.white);
    for (const name of ["highlights", "shadows", "contrast", "saturation", "sharpening"]) gl.uniform1f(at(name), finish[name]);
    gl.uniform1i(at("hatched"), this.hatched ? 1 : 0);
    gl.uniform3f(at("booth"), ...booth);
    this.slots.forEach((p, i) => {
      gl.uniform1i(at(`there[${i}]`), p ? 1 : 0);
      if (p) gl.uniform4f(at(`windows[${i}]`), p.window[0] / p.width, p.window[1] / p.height, p.window[2] / p.width, p.window[3] / p.height);
    });
  }

  /** @param {Record<string, any>} settings */
  draw(settings) {
    const gl = this.gl, key = JSON.stringify([settings.exposure, settings.finish, this.view]);
    this.settings = settings;
    const there = [0, 1].filter((slot) => this.slots[slot]);
    for (const slot of there) this._look(slot, key);
    const left = there.reduce((sum, slot) => sum + this.shown[slot].left.reduce((all, [x0, y0, x1, y1]) => all + (x1 - x0) * (y1 - y0), 0), 0);
    // What costs no more than the canvas is finished now; more than that ahead, and until then each pixel of the canvas by itself.
    const now = left <= this.canvas.width * this.canvas.height;
    if (now) for (const slot of there) if (this.shown[slot].left.length) this._finish(slot, Infinity);
    gl.viewport(0, 0, this.canvas.width, this.canvas.height);
    const used = { 0: [0], 1: [1], 2: [0, 1] }[settings.mode];
    if (now && used?.every((slot) => this._isPlain(slot, settings))) return this._copy(settings, used);
    if (now) for (const slot of there) this._shrink(slot, settings.place[2] / this.slots[slot].width);
    this._use(now ? this.composing : this.direct);
    gl.drawArrays(gl.TRIANGLES, 0, 3);
    if (!now) this._ahead();
  }

  /** Whether a slot's picture is all there, without anything over it: it is then copied, which takes a tenth of the time of a shader where the
   * processor draws. */
  _isPlain(slot, settings) {
    const picture = this.slots[slot];
    if (!picture?.finished || (slot === 0 && this.hatched)) return false;
    const [x0, y0, x1, y1] = picture.window;
    return x0 === 0 && y0 === 0 && x1 === picture.width && y1 === picture.height && settings.place[2] >= 0.6 * picture.width;
  }

  /** Copy finished pictures to the canvas: one, or two on both sides of the wipe. */
  _copy(settings, used) {
    const { place: [left, top, width, height], wipe, booth } = settings;
    const gl = this.gl, tall = this.canvas.height, middle = Math.round(left + wipe * width);
    gl.bindFramebuffer(gl.DRAW_FRAMEBUFFER, null);
    gl.clearColor(...booth, 1.0);
    gl.clear(gl.COLOR_BUFFER_BIT);
    gl.enable(gl.SCISSOR_TEST);
    for (const [k, slot] of used.entries()) {
      const { width: across, height: down } = this._size(slot);
      if (used.length === 1) gl.scissor(0, 0, this.canvas.width, tall);
      else if (k === 0) gl.scissor(0, 0, Math.max(0, middle), tall);
      else gl.scissor(Math.max(0, middle), 0, Math.max(0, this.canvas.width - Math.max(0, middle)), tall);
      gl.bindFramebuffer(gl.READ_FRAMEBUFFER, this.shown[slot].frame);
      gl.blitFramebuffer(0, 0, across, down, left, tall - top, Math.round(left + width), tall - Math.round(top + height), gl.COLOR_BUFFER_BIT,
        width >= across ? gl.NEAREST : gl.LINEAR);
    }
    gl.disable(gl.SCISSOR_TEST);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
  }

  /** A picture that is shown at `zoom` is read from smaller versions of it where it would alias. */
  _shrink(slot, zoom) {
    const gl = this.gl, shown = this.shown[slot];
    gl.activeTexture(gl.TEXTURE4 + slot);
    if (zoom < 0.6 && !shown.small) {
      gl.generateMipmap(gl.TEXTURE_2D);
      shown.small = true;
    }
    this._filter(zoom < 0.6 ? "LINEAR_MIPMAP_LINEAR" : "LINEAR");
  }
}
