// Points in space: one shader, an eye that turns about a place.
"use strict";

const eye = { at: [0, 0, 0], distance: 30, turn: -0.6, lift: 0.6 };
const SPACE = { canvas: document.getElementById("space"), gl: null, program: null, buffers: new Map() };
const VERTEX = `attribute vec3 at; attribute vec3 rgb; uniform mat4 view; uniform vec2 slab; uniform float size; varying vec3 colour;
void main() { gl_Position = view * vec4(at, 1.0); gl_PointSize = clamp(size / gl_Position.w, 1.5, 6.0); colour = rgb;
if (at.z < slab.x || at.z > slab.y) gl_Position = vec4(2.0, 2.0, 2.0, 1.0); }`;
const FRAGMENT =
  "precision mediump float; varying vec3 colour; void main() { gl_FragColor = vec4(colour, 1.0); }";
const WIDTH = 0.9, // of the view, as a tangent of half its angle
  NEAR = 0.05,
  FAR = 5000;

function beginSpace() {
  const gl = SPACE.canvas.getContext("webgl", { antialias: false, preserveDrawingBuffer: true });
  if (!gl) return false;
  const program = gl.createProgram();
  for (const [kind, text] of [
    [gl.VERTEX_SHADER, VERTEX],
    [gl.FRAGMENT_SHADER, FRAGMENT],
  ]) {
    const shader = gl.createShader(kind);
    gl.shaderSource(shader, text);
    gl.compileShader(shader);
    gl.attachShader(program, shader);
  }
  gl.linkProgram(program);
  gl.useProgram(program);
  gl.enable(gl.DEPTH_TEST);
  gl.clearColor(0.984, 0.976, 0.953, 1);
  Object.assign(SPACE, { gl, program });
  return true;
}

// Axes of the eye: to the right, up, and where it looks; and its place.
function axes() {
  const { turn, lift, at, distance } = eye,
    look = [Math.cos(lift) * Math.sin(turn), Math.cos(lift) * Math.cos(turn), -Math.sin(lift)],
    right = [Math.cos(turn), -Math.sin(turn), 0],
    up = [Math.sin(lift) * Math.sin(turn), Math.sin(lift) * Math.cos(turn), Math.cos(lift)];
  return { right, up, look, from: at.map((v, k) => v - distance * look[k]) };
}

// 4×4, column by column: scene → clip.
function viewMatrix(aspect) {
  const { right, up, look, from } = axes(),
    dot = (a) => a[0] * from[0] + a[1] * from[1] + a[2] * from[2],
    x = 1 / WIDTH,
    y = aspect / WIDTH,
    z = (FAR + NEAR) / (FAR - NEAR),
    w = (-2 * FAR * NEAR) / (FAR - NEAR);
  const out = new Float32Array(16);
  for (let k = 0; k < 3; k++) out.set([right[k] * x, up[k] * y, look[k] * z, look[k]], 4 * k);
  out.set([-dot(right) * x, -dot(up) * y, -dot(look) * z + w, -dot(look)], 12);
  return out;
}

function bufferOf(part) {
  const { gl, buffers } = SPACE;
  if (!buffers.has(part)) {
    const made = [part.shown, part.rgb].map((values) => {
      const buffer = gl.createBuffer();
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
      gl.bufferData(gl.ARRAY_BUFFER, values, gl.STATIC_DRAW);
      return buffer;
    });
    buffers.set(part, made);
  }
  return buffers.get(part);
}

function drawSpace(slab) {
  const { gl, program, canvas } = SPACE;
  canvas.width = canvas.clientWidth;
  canvas.height = canvas.clientHeight;
  gl.viewport(0, 0, canvas.width, canvas.height);
  gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT);
  gl.uniformMatrix4fv(
    gl.getUniformLocation(program, "view"),
    false,
    viewMatrix(canvas.width / canvas.height),
  );
  gl.uniform2f(gl.getUniformLocation(program, "slab"), ...slab);
  gl.uniform1f(gl.getUniformLocation(program, "size"), 0.02 * canvas.width);
  const at = gl.getAttribLocation(program, "at"),
    rgb = gl.getAttribLocation(program, "rgb");
  gl.enableVertexAttribArray(at);
  gl.enableVertexAttribArray(rgb);
  for (const part of POINTS.parts.values()) {
    const [places, colours] = bufferOf(part);
    gl.bindBuffer(gl.ARRAY_BUFFER, places);
    gl.vertexAttribPointer(at, 3, gl.FLOAT, false, 0, 0);
    gl.bindBuffer(gl.ARRAY_BUFFER, colours);
    gl.vertexAttribPointer(rgb, 3, gl.UNSIGNED_BYTE, true, 0, 0);
    gl.drawArrays(gl.POINTS, 0, part.about.count);
  }
}

// Pixel of a place of the scene, null behind the eye.
function spacePixel([x, y, z]) {
  const { clientWidth: w, clientHeight: h } = SPACE.canvas,
    m = viewMatrix(w / h),
    row = (k) => m[k] * x + m[4 + k] * y + m[8 + k] * z + m[12 + k],
    depth = row(3);
  return depth > NEAR ? [((row(0) / depth + 1) * w) / 2, ((1 - row(1) / depth) * h) / 2, depth] : null;
}

// The stored point under a pixel: of those within five pixels the nearest to the eye.
function pickSpace(px, py, [low, high]) {
  const { clientWidth: w, clientHeight: h } = SPACE.canvas,
    m = viewMatrix(w / h),
    cx = (2 * px) / w - 1,
    cy = 1 - (2 * py) / h,
    reach = 5;
  return bestPoint((x, y, z) => {
    if (z < low || z > high) return Number.NaN;
    const depth = m[3] * x + m[7] * y + m[11] * z + m[15];
    if (depth < NEAR) return Number.NaN;
    const dx = (((m[0] * x + m[4] * y + m[8] * z + m[12]) / depth - cx) * w) / 2,
      dy = (((m[1] * x + m[5] * y + m[9] * z + m[13]) / depth - cy) * h) / 2,
      off = dx * dx + dy * dy;
    return off < reach * reach ? depth * (1 + 0.004 * off) : Number.NaN;
  });
}
