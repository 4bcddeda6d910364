"use strict";
// Draws two sides of one scene with a divider between them: WebGL2, no library, no network.
const scene = JSON.parse(document.getElementById("scene").textContent);
const canvas = document.getElementById("view"), divider = document.getElementById("divider");
const gl = canvas.getContext("webgl2", { antialias: true, alpha: false });

const VERTEX = `#version 300 es
in vec3 position; in vec3 normal; in vec2 uv; in vec4 color; in mat4 place;
uniform mat4 camera;
out vec3 point; out vec3 facing; out vec2 at; out vec4 tint;
void main() {
  vec4 world = place * vec4(position, 1.0);
  point = world.xyz; at = uv; tint = color;
  facing = transpose(inverse(mat3(place))) * normal;
  gl_Position = camera * world;
}`;
const FRAGMENT = `#version 300 es
precision highp float;
in vec3 point; in vec3 facing; in vec2 at; in vec4 tint;
uniform sampler2D baseMap, normalMap, ormMap, emissiveMap;
uniform vec4 base; uniform vec3 emissive, eye; uniform vec3 surface; uniform float cutoff, relief; uniform int mode; uniform bool unlit;
out vec4 result;
vec3 encoded(vec3 light) {
  vec3 low = light * 12.92, high = 1.055 * pow(max(light, vec3(0.0)), vec3(1.0 / 2.4)) - 0.055;
  return mix(low, high, step(vec3(0.0031308), light));
}
void main() {
  vec4 color = base * tint * texture(baseMap, at);
  if (mode == 1 && color.a < cutoff) discard;
  vec3 n = normalize(facing) * (gl_FrontFacing ? 1.0 : -1.0);
  // the tangent frame from the derivatives of place and coordinates
  vec3 px = dFdx(point), py = dFdy(point); vec2 ux = dFdx(at), uy = dFdy(at);
  vec3 t = px * uy.y - py * ux.y, b = py * ux.x - px * uy.x;
  float side = ux.x * uy.y - ux.y * uy.x;
  vec3 bump = texture(normalMap, at).xyz * 2.0 - 1.0;
  if (relief > 0.0 && abs(side) > 1e-14) {
    t = normalize(t * sign(side) - n * dot(n, t * sign(side))); b = normalize(b * sign(side) - n * dot(n, b * sign(side)));
    n = normalize(t * bump.x * relief + b * bump.y * relief + n * max(bump.z, 0.05));
  }
  vec3 orm = texture(ormMap, at).xyz;
  float rough = clamp(surface.x * orm.y, 0.05, 1.0), metal = clamp(surface.y * orm.z, 0.0, 1.0);
  vec3 light = vec3(0.0), towards = normalize(eye - point), sun = normalize(vec3(0.45, 0.8, 0.4));
  float lambert = max(dot(n, sun), 0.0);
  vec3 sky = mix(vec3(0.28, 0.26, 0.24), vec3(0.62, 0.66, 0.72), n.y * 0.5 + 0.5) * mix(1.0, orm.x, surface.z);
  light += color.rgb * (1.0 - 0.6 * metal) * (sky + vec3(0.85, 0.8, 0.72) * lambert);
  float shine = pow(max(dot(n, normalize(sun + towards)), 0.0), 2.0 / (rough * rough * rough * rough + 1e-3));
  light += mix(vec3(0.04), color.rgb, metal) * (shine * (1.0 - rough) + 0.5 * metal * sky) * (0.2 + lambert);
  if (unlit) light = color.rgb;
  light += emissive * texture(emissiveMap, at).rgb;
  result = vec4(encoded(min(light, vec3(1.0))), mode == 2 ? color.a : 1.0);
}`;

function trouble(words) {
  const line = document.getElementById("trouble");
  line.textContent = words; line.hidden = false;
}

function program() {
  const made = gl.createProgram();
  for (const [kind, source] of [[gl.VERTEX_SHADER, VERTEX], [gl.FRAGMENT_SHADER, FRAGMENT]]) {
    const shader = gl.createShader(kind);
    gl.shaderSource(shader, source); gl.compileShader(shader);
    if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
    gl.attachShader(made, shader);
  }
  ["position", "normal", "uv", "color", "place"].forEach((name, at) => gl.bindAttribLocation(made, at, name));
  gl.linkProgram(made);
  if (!gl.getProgramParameter(made, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(made));
  return made;
}

function plain(red, green, blue) {
  const texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA8, 1, 1, 0, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array([red, green, blue, 255]));
  return texture;
}

async function pictured(entry) {
  const blob = await (await fetch(entry.data)).blob();
  const picture = await createImageBitmap(blob, { premultiplyAlpha: "none", colorSpaceConversion: "none" });
  const texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.texImage2D(gl.TEXTURE_2D, 0, entry.color ? gl.SRGB8_ALPHA8 : gl.RGBA8, gl.RGBA, gl.UNSIGNED_BYTE, picture);
  gl.generateMipmap(gl.TEXTURE_2D);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.LINEAR_MIPMAP_LINEAR);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, [gl.REPEAT, gl.MIRRORED_REPEAT, gl.CLAMP_TO_EDGE][entry.wrap[0]]);
  gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_T, [gl.REPEAT, gl.MIRRORED_REPEAT, gl.CLAMP_TO_EDGE][entry.wrap[1]]);
  const finer = gl.getExtension("EXT_texture_filter_anisotropic");
  if (finer) gl.texParameterf(gl.TEXTURE_2D, finer.TEXTURE_MAX_ANISOTROPY_EXT, 8);
  return texture;
}

async function unpacked() {
  const text = atob(document.getElementById("geometry").textContent.trim());
  const bytes = Uint8Array.from(text, (letter) => letter.charCodeAt(0));
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate"));
  return new Response(stream).arrayBuffer();
}

function attribute(at, data, size) {
  gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
  gl.bufferData(gl.ARRAY_BUFFER, data, gl.STATIC_DRAW);
  gl.enableVertexAttribArray(at);
  gl.vertexAttribPointer(at, size, gl.FLOAT, false, 0, 0);
}

function loaded(mesh, bytes) {
  const array = gl.createVertexArray();
  gl.bindVertexArray(array);
  const floats = (at, count) => new Float32Array(bytes, at, count);
  attribute(0, floats(mesh.positions, mesh.vertices * 3), 3);
  attribute(1, floats(mesh.normals, mesh.vertices * 3), 3);
  if (mesh.uvs >= 0) attribute(2, floats(mesh.uvs, mesh.vertices * 2), 2);
  if (mesh.colors >= 0) attribute(3, floats(mesh.colors, mesh.vertices * 4), 4); else gl.vertexAttrib4f(3, 1, 1, 1, 1);
  gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
  gl.bufferData(gl.ARRAY_BUFFER, floats(mesh.places, mesh.count * 16), gl.STATIC_DRAW);
  for (let row = 0; row < 4; row++) {
    gl.enableVertexAttribArray(4 + row);
    gl.vertexAttribPointer(4 + row, 4, gl.FLOAT, false, 64, row * 16);
    gl.vertexAttribDivisor(4 + row, 1);
  }
  gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, gl.createBuffer());
  gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, new Uint32Array(bytes, mesh.indices, mesh.triangles * 3), gl.STATIC_DRAW);
  return { ...mesh, array };
}

const sum = (a, b, factor = 1) => a.map((value, at) => value + b[at] * factor);
const dot = (a, b) => a.reduce((total, value, at) => total + value * b[at], 0);
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const unit = (a) => a.map((value) => value / Math.hypot(...a));

const view = { turn: 0.6, lift: 0.42, distance: scene.radius * 2.5, middle: scene.middle.slice(), split: 0.5 };

function eyeOf() {
  const { turn, lift, distance, middle } = view;
  return sum(middle, [Math.sin(turn) * Math.cos(lift), Math.sin(lift), Math.cos(turn) * Math.cos(lift)], distance);
}

// looks at the middle of what is seen, from where it fills nine tenths of the view, whichever side is the tighter one
function frame(aspect) {
  const back = unit(sum(eyeOf(), view.middle, -1)), right = unit(cross([0, 1, 0], back)), up = cross(back, right);
  for (const axis of [right, up]) {
    const along = scene.reach.map((place) => dot(sum(place, view.middle, -1), axis));
    view.middle = sum(view.middle, axis, (Math.min(...along) + Math.max(...along)) / 2);
  }
  const f = 1 / Math.tan(0.4) / 0.9;
  view.distance = Math.max(scene.radius * 0.2, ...scene.reach.map((point) => {
    const place = sum(point, view.middle, -1);
    return dot(place, back) + Math.max(Math.abs(dot(place, right)) / aspect, Math.abs(dot(place, up))) * f;
  }));
}

function cameraOf(eye, aspect) {
  const back = unit(sum(eye, view.middle, -1)), right = unit(cross([0, 1, 0], back)), up = cross(back, right);
  const f = 1 / Math.tan(0.4), near = view.distance * 0.01, far = view.distance + scene.radius * 4;
  const look = [right[0], up[0], back[0], 0, right[1], up[1], back[1], 0, right[2], up[2], back[2], 0,
    -dot(right, eye), -dot(up, eye), -dot(back, eye), 1];
  const lens = [f / Math.max(aspect, 1e-3), 0, 0, 0, 0, f, 0, 0, 0, 0, (far + near) / (near - far), -1, 0, 0,
    2 * far * near / (near - far), 0];
  const product = new Float32Array(16);
  for (let c = 0; c < 4; c++) for (let r = 0; r < 4; r++) for (let k = 0; k < 4; k++)
    product[c * 4 + r] += lens[k * 4 + r] * look[c * 4 + k];
  return product;
}

async function begin() {
  const shader = program(), bytes = await unpacked();
  const uniform = (name) => gl.getUniformLocation(shader, name);
  const names = ["camera", "base", "emissive", "eye", "surface", "cutoff", "relief", "mode", "unlit"];
  const at = Object.fromEntries(names.map((name) => [name, uniform(name)]));
  const white = plain(255, 255, 255), flat = plain(128, 128, 255);
  const textures = await Promise.all(scene.textures.map(pictured));
  const sides = scene.sides.map((side) => side.meshes.map((mesh) => loaded(mesh, bytes)));
  gl.useProgram(shader);
  ["baseMap", "normalMap", "ormMap", "emissiveMap"].forEach((name, unit) => gl.uniform1i(uniform(name), unit));

  function drawSide(number, eye) {
    const materials = scene.sides[number].materials;
    for (const blended of [false, true]) {
      gl.depthMask(!blended);
      if (blended) gl.enable(gl.BLEND); else gl.disable(gl.BLEND);
      for (const mesh of sides[number]) {
        const material = materials[mesh.material];
        if ((material.mode === 2) !== blended) continue;
        const maps = [[material.base_map, white], [material.normal_map, flat], [material.orm_map, white],
          [material.emissive_map, white]];
        maps.forEach(([map, none], unit) => {
          gl.activeTexture(gl.TEXTURE0 + unit);
          gl.bindTexture(gl.TEXTURE_2D, map < 0 ? none : textures[map]);
        });
        gl.uniform4fv(at.base, material.base); gl.uniform3fv(at.emissive, material.emissive);
        gl.uniform3fv(at.eye, eye); gl.uniform3f(at.surface, material.roughness, material.metallic, material.occlusion);
        gl.uniform1f(at.cutoff, material.cutoff); gl.uniform1f(at.relief, material.normal_map < 0 ? 0 : material.relief);
        gl.uniform1i(at.mode, material.mode); gl.uniform1i(at.unlit, material.unlit ? 1 : 0);
        if (material.double) gl.disable(gl.CULL_FACE); else gl.enable(gl.CULL_FACE);
        gl.frontFace(mesh.mirrored ? gl.CW : gl.CCW);
        gl.bindVertexArray(mesh.array);
        gl.drawElementsInstanced(gl.TRIANGLES, mesh.triangles * 3, gl.UNSIGNED_INT, 0, mesh.count);
      }
    }
    gl.depthMask(true);
  }

  function draw() {
    waiting = false;
    const ratio = window.devicePixelRatio || 1, wide = canvas.clientWidth, high = canvas.clientHeight;
    if (canvas.width !== Math.round(wide * ratio) || canvas.height !== Math.round(high * ratio)) {
      canvas.width = Math.round(wide * ratio); canvas.height = Math.round(high * ratio);
    }
    if (!framed) { framed = true; frame(canvas.width / Math.max(canvas.height, 1)); }
    const eye = eyeOf(), border = Math.round(canvas.width * view.split);
    gl.viewport(0, 0, canvas.width, canvas.height);
    gl.enable(gl.DEPTH_TEST); gl.enable(gl.SCISSOR_TEST);
    gl.blendFunc(gl.SRC_ALPHA, gl.ONE_MINUS_SRC_ALPHA);
    gl.uniformMatrix4fv(at.camera, false, cameraOf(eye, canvas.width / canvas.height));
    gl.clearColor(0.118, 0.122, 0.118, 1);
    [[0, border], [border, canvas.width - border]].forEach(([first, width], number) => {
      gl.scissor(first, 0, Math.max(width, 0), canvas.height);
      gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT);
      if (width > 0) drawSide(number, eye);
    });
    divider.style.left = `${100 * view.split}%`;
    divider.setAttribute("aria-valuenow", Math.round(100 * view.split));
    document.body.dataset.drawn = "yes";
  }

  let waiting = false, framed = false;
  function redraw() {
    if (!waiting) { waiting = true; requestAnimationFrame(draw); }
  }

  function split(event) {
    const box = canvas.getBoundingClientRect();
    view.split = Math.min(Math.max((event.clientX - box.left) / box.width, 0), 1);
    redraw();
  }
  divider.addEventListener("pointerdown", (event) => { divider.setPointerCapture(event.pointerId); split(event); });
  divider.addEventListener("pointermove", (event) => { if (event.buttons) split(event); });
  canvas.addEventListener("pointerdown", (event) => canvas.setPointerCapture(event.pointerId));
  canvas.addEventListener("pointermove", (event) => {
    if (event.buttons & 1) {
      view.turn -= event.movementX * 0.008;
      view.lift = Math.min(Math.max(view.lift + event.movementY * 0.008, -1.5), 1.5);
    } else if (event.buttons & 6) {
      const eye = eyeOf(), back = unit(sum(eye, view.middle, -1)), right = unit(cross([0, 1, 0], back));
      const step = view.distance * 0.8 / canvas.clientHeight;
      view.middle = sum(sum(view.middle, right, -event.movementX * step), cross(back, right), event.movementY * step);
    } else return;
    redraw();
  });
  canvas.addEventListener("contextmenu", (event) => event.preventDefault());
  canvas.addEventListener("wheel", (event) => {
    event.preventDefault();
    view.distance = Math.min(Math.max(view.distance * Math.exp(event.deltaY * 0.001), scene.radius * 0.05), scene.radius * 20);
    redraw();
  }, { passive: false });
  for (const part of [canvas, divider]) part.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -0.02, ArrowRight: 0.02, Home: -1, End: 1 }[event.key];
    if (step === undefined) return;
    event.preventDefault();
    view.split = Math.min(Math.max(view.split + step, 0), 1);
    redraw();
  });
  window.addEventListener("resize", redraw);
  redraw();
}

if (gl) begin().catch((error) => trouble(`The model cannot be drawn: ${error.message}`));
else trouble("This browser cannot draw the model: it has no WebGL 2.");
