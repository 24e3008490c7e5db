"use strict";
// The review page: a product in motion, its findings and comments. Lengths in mm, times in s, Z up.
// Names from the product are only ever put in as text, never as markup.

(async () => {
const $ = id => document.getElementById(id);
const INK = "#1d2a33", RULE = "#d9d2c3", PETROL = "#0d6b74", STRAW = "#e9c46a", BREACH = "#d6452b", SOFT = "#51606a", CARD = "#fffdf8";
const SEVERITY = {breach: "■ Breach", warning: "▲ Warning", note: "● Note"};

function make(tag, fields = {}, ...inner) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(fields)) {
    if (name === "class") made.className = value;
    else if (name.startsWith("on")) made.addEventListener(name.slice(2), value);
    else if (name in made && name !== "role") made[name] = value;
    else made.setAttribute(name, value);
  }
  made.append(...inner.filter(one => one !== null && one !== undefined));
  return made;
}
const mm = (value, places = 2) => `${value.toLocaleString("en", {maximumFractionDigits: places, minimumFractionDigits: places})} mm`;
const seconds = value => `${value.toFixed(2)} s`;

// what the page holds

async function unpack(text) {
  const raw = Uint8Array.from(atob(text), c => c.charCodeAt(0));
  const stream = new Blob([raw]).stream().pipeThrough(new DecompressionStream("deflate"));
  const buffer = await new Response(stream).arrayBuffer();
  const size = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
  const arrays = header.arrays.map(one => column(one, new Uint8Array(buffer, 4 + size + one.at)));
  return {header, arrays};
}
const KINDS = {f8: Float64Array, f4: Float32Array, i4: Int32Array};
function column(one, bytes) {
  // planes of bytes, column after column; whole numbers as differences
  const Kind = KINDS[one.kind], wide = Kind.BYTES_PER_ELEMENT, count = one.rows * one.wide, plain = new Uint8Array(count * wide);
  for (let b = 0; b < wide; b++) for (let k = 0, from = b * count; k < count; k++) plain[k * wide + b] = bytes[from + k];
  const values = new Kind(plain.buffer);
  if (one.kind === "i4")
    for (let c = 0; c < one.wide; c++) for (let k = c * one.rows + 1; k < (c + 1) * one.rows; k++) values[k] += values[k - 1];
  return {values, rows: one.rows, wide: one.wide, at: (row, c) => values[c * one.rows + row]};
}

let held;
try {
  held = await unpack($("data").textContent.trim());
} catch (fault) {
  $("busy").textContent = "This page cannot be read: the file is damaged, or the browser is older than 2023.";
  return;
}
const {header: project, arrays} = held;
const {scene: told, check, runs, shots, lanes, fps, span} = project;
const parts = told.parts, cameras = told.cameras;

// motion: places and turns by keys, as glTF has it (linear, spherical linear or held)

function before(times, t) {
  let low = 0, high = times.rows - 1;
  if (t >= times.values[high]) return high;
  while (high - low > 1) { const middle = (low + high) >> 1; if (times.values[middle] <= t) low = middle; else high = middle; }
  return low;
}
function between(keys, t, into) {
  const times = arrays[keys.times], values = arrays[keys.values], n = values.wide, k = before(times, t), last = times.rows - 1;
  const first = times.values[k];
  let share = k === last || keys.step ? 0 : (t - first) / (times.values[k + 1] - first);
  share = Math.min(Math.max(share, 0), 1);
  const next = Math.min(k + 1, last);
  if (n === 3 || share === 0) {
    for (let c = 0; c < n; c++) into[c] = values.at(k, c) + share * (values.at(next, c) - values.at(k, c));
    return into;
  }
  let dot = 0;
  for (let c = 0; c < 4; c++) dot += values.at(k, c) * values.at(next, c);
  const sign = dot < 0 ? -1 : 1, angle = Math.acos(Math.min(dot * sign, 1));
  const a = angle < 1e-6 ? 1 - share : Math.sin((1 - share) * angle) / Math.sin(angle);
  const b = sign * (angle < 1e-6 ? share : Math.sin(share * angle) / Math.sin(angle));
  let size = 0;
  for (let c = 0; c < 4; c++) { into[c] = a * values.at(k, c) + b * values.at(next, c); size += into[c] ** 2; }
  for (let c = 0; c < 4; c++) into[c] /= Math.sqrt(size);
  return into;
}
const place = new Float64Array(3), turn = new Float64Array(4);
function local(node, t, into) {
  // rows of a 4 × 4 matrix
  const stands = arrays[node.stands].values;
  into.set(stands);
  if (node.places) { between(node.places, t, place); into[3] = place[0]; into[7] = place[1]; into[11] = place[2]; }
  if (node.turns) {
    const [x, y, z, w] = between(node.turns, t, turn);
    into[0] = 1 - 2 * (y * y + z * z); into[1] = 2 * (x * y - z * w); into[2] = 2 * (x * z + y * w);
    into[4] = 2 * (x * y + z * w); into[5] = 1 - 2 * (x * x + z * z); into[6] = 2 * (y * z - x * w);
    into[8] = 2 * (x * z - y * w); into[9] = 2 * (y * z + x * w); into[10] = 1 - 2 * (x * x + y * y);
  }
  return into;
}
function product(a, b, into) {
  for (let r = 0; r < 3; r++) for (let c = 0; c < 4; c++)
    into[4 * r + c] = a[4 * r] * b[c] + a[4 * r + 1] * b[4 + c] + a[4 * r + 2] * b[8 + c] + (c === 3 ? a[4 * r + 3] : 0);
  into[12] = into[13] = into[14] = 0; into[15] = 1;
  return into;
}
const world = parts.map(() => new Float64Array(16)), own = new Float64Array(16);
const order = [];
{
  // those that something lies in come first
  const done = new Set();
  const visit = k => { if (done.has(k)) return; done.add(k); if (parts[k].parent >= 0) visit(parts[k].parent); order.push(k); };
  parts.forEach((_, k) => visit(k));
}
const alive = new Array(parts.length).fill(false);
for (const k of order) alive[k] = Boolean(parts[k].places || parts[k].turns) || (parts[k].parent >= 0 && alive[parts[k].parent]);
let placed = false;
function pose(t) {
  for (const k of order) {
    if (placed && !alive[k]) continue;
    local(parts[k], t, own);
    if (parts[k].parent < 0) world[k].set(own); else product(world[parts[k].parent], own, world[k]);
  }
  placed = true;
}
function at(matrix, point) {
  return [0, 4, 8].map(r => matrix[r] * point[0] + matrix[r + 1] * point[1] + matrix[r + 2] * point[2] + matrix[r + 3]);
}
function into(matrix, point) {
  const d = [point[0] - matrix[3], point[1] - matrix[7], point[2] - matrix[11]];
  return [0, 1, 2].map(c => matrix[c] * d[0] + matrix[4 + c] * d[1] + matrix[8 + c] * d[2]);
}

// the picture

const canvas = $("picture");
let renderer;
try {
  renderer = new THREE.WebGLRenderer({canvas, antialias: true, preserveDrawingBuffer: true});
} catch (fault) {
  $("busy").textContent = "This browser shows no 3D (WebGL 2 is off), so the product cannot be shown.";
  return;
}
renderer.localClippingEnabled = true;
const world3 = new THREE.Scene();
const shot0 = shots[0];
world3.background = new THREE.Color(shot0 ? shot0.background : "#dfe6e6");
// a dome of light of our own, bright above, dim below, with a lamp. What a surface sees of it on average stands in a table: of each roughness
// that of its mirror image (GGX, as the material reflects: half vectors by Walter et al. 2007, eq. 35, seen straight on), and in a last row
// that of all directions (cosine). To blur a picture of a dome by the library keeps a browser without a graphics processor busy for many
// seconds, with shaders to compile
const ROUGHNESSES = 16, ALONG = 64;
const dome = (() => {
  const smooth = (low, high, x) => { const t = Math.min(Math.max((x - low) / (high - low), 0), 1); return t * t * (3 - 2 * t); };
  const table = new Float32Array(ALONG * (ROUGHNESSES + 1) * 4);
  for (let row = 0; row <= ROUGHNESSES; row++) {
    const spread = (row / (ROUGHNESSES - 1)) ** 4, seen = [];
    for (let k = 0; k < 512; k++) {
      const share = (k + 0.5) / 512, turn = k * 2.399963;  // evenly over the disc, by the golden angle
      let up, aside;
      if (row === ROUGHNESSES) up = Math.sqrt(1 - share), aside = Math.sqrt(share);
      else {
        const c = Math.sqrt((1 - share) / (1 + (spread - 1) * share));
        up = 2 * c * c - 1, aside = 2 * c * Math.sqrt(Math.max(1 - c * c, 0));
      }
      seen.push([aside * Math.cos(turn), up, row === ROUGHNESSES ? 1 : Math.max(up, 0)]);
    }
    const whole = seen.reduce((sum, one) => sum + one[2], 0);
    for (let column = 0; column < ALONG; column++) {
      const high = 2 * (column + 0.5) / ALONG - 1, wide = Math.sqrt(1 - high * high), at = 4 * (row * ALONG + column);
      for (const [aside, up, weight] of seen) {
        const z = up * high + aside * wide;
        table[at] += smooth(-0.3, 0.6, z) * weight / whole;
        table[at + 1] += smooth(0.55, 0.8, z) * weight / whole;
      }
    }
  }
  const made = new THREE.DataTexture(Uint8Array.from(table, share => Math.round(255 * share)), ALONG, ROUGHNESSES + 1);
  made.magFilter = made.minFilter = THREE.LinearFilter;
  made.needsUpdate = true;
  return made;
})();
const domeLit = shader => {
  shader.uniforms.dome = {value: dome};
  shader.fragmentShader = shader.fragmentShader.replace("#include <common>", `#include <common>
uniform sampler2D dome;
vec3 domeOf(const in vec3 d, const in float row) {
  float v = (row + 0.5) / ${ROUGHNESSES + 1}.0, lamp = dot(d, normalize(vec3(0.4, -0.5, 0.77)));
  vec3 even = mix(vec3(0.32, 0.31, 0.3), vec3(0.95, 0.97, 1.0), texture2D(dome, vec2(0.5 * d.z + 0.5, v)).r);
  return 0.62 * (even + 1.2 * texture2D(dome, vec2(0.5 * lamp + 0.5, v)).g);
}`).replace("#include <lights_fragment_maps>", `#include <lights_fragment_maps>
iblIrradiance += PI * domeOf(inverseTransformDirection(geometryNormal, viewMatrix), ${ROUGHNESSES}.0);
vec3 mirrored = mix(reflect(-geometryViewDir, geometryNormal), geometryNormal, pow4(material.roughness));
radiance += domeOf(inverseTransformDirection(mirrored, viewMatrix), ${ROUGHNESSES - 1}.0 * material.roughness);`);
};
const sun = new THREE.DirectionalLight("#fff6e8", 1.7);
sun.position.set(0.5, -0.7, 1.1);
world3.add(sun);

const shapes = told.shapes.map(shape => {
  const points = arrays[shape.points], corners = arrays[shape.triangles];
  const places = new Float32Array(points.rows * 3);
  for (let k = 0; k < points.rows; k++) for (let c = 0; c < 3; c++) places[3 * k + c] = points.at(k, c) * told.grid;
  const made = new THREE.BufferGeometry();
  made.setAttribute("position", new THREE.BufferAttribute(places, 3));
  if (shape.uv !== undefined) {
    const on = arrays[shape.uv], laid = new Float32Array(on.rows * 2);
    for (let k = 0; k < on.rows; k++) for (let c = 0; c < 2; c++) laid[2 * k + c] = on.at(k, c);
    made.setAttribute("uv", new THREE.BufferAttribute(laid, 2));
  }
  made.setIndex(new THREE.BufferAttribute(Uint32Array.from(corners.values), 1));
  made.computeVertexNormals();
  shape.groups.forEach(([first, count], k) => made.addGroup(first, count, k));
  made.computeBoundingBox();
  return made;
});

let colourway = told.colourways.findIndex(one => one.id === told.colourway);
if (colourway < 0) colourway = 0;
const materials = new Map(), clipping = [], pictures = new Map();
function picture(address, colours) {
  const key = address + colours;
  if (!pictures.has(key)) {
    const made = new THREE.TextureLoader().load(address, stale);
    made.wrapS = made.wrapT = THREE.RepeatWrapping;
    if (colours) made.colorSpace = THREE.SRGBColorSpace;
    pictures.set(key, made);
  }
  return pictures.get(key);
}
function lay(made, finish, chosen) {
  const on = finish.pictures;
  if (on.colour) { made.map = picture(on.colour, true); made.color.set(on.factor); }
  if (on.colour && on.clear) made.alphaTest = 0.5;
  if (on.normal) { made.normalMap = picture(on.normal, false); made.normalScale.set(on.relief, on.relief); }
  if (on.surface) {
    made.roughnessMap = made.metalnessMap = made.aoMap = picture(on.surface, false);
    made.aoMapIntensity = on.occlusion;
    made.roughness = finish.roughness;
  }
  if (on.emission && !chosen) made.emissiveMap = picture(on.emission, true);
}
function material(k, tint, opacity, chosen) {
  const number = arrays[told.colourways[colourway].of].values[k];
  const finish = number < 0 ? {colour: "", metallic: 0, roughness: 0.65, transmission: 0, emission: ""} : told.finishes[number];
  const colour = finish.colour || tint || parts[k].colour;
  const laid = Boolean(finish.pictures) && Boolean(shapes[parts[k].shape].attributes.uv);
  const key = [number, colour, opacity.toFixed(2), chosen, laid].join();
  if (!materials.has(key)) {
    const seen = opacity * (1 - 0.75 * finish.transmission);
    materials.set(key, new THREE.MeshStandardMaterial({
      color: colour, metalness: finish.metallic, roughness: Math.max(finish.roughness, 0.08), transparent: seen < 1, opacity: seen,
      depthWrite: seen >= 0.6, side: THREE.DoubleSide, clippingPlanes: clipping,
      emissive: chosen ? PETROL : finish.emission || "#000000", emissiveIntensity: chosen ? 0.55 : 1,
    }));
    materials.get(key).onBeforeCompile = domeLit;
    if (laid) lay(materials.get(key), finish, chosen);
  }
  return materials.get(key);
}
const inside = new THREE.MeshBasicMaterial({color: "#c3a868", side: THREE.BackSide, clippingPlanes: clipping});
const edgeLine = new THREE.LineBasicMaterial({color: INK, clippingPlanes: clipping});

const bodies = parts.map((part, k) => {
  if (part.shape === undefined) return null;
  const made = new THREE.Mesh(shapes[part.shape], []);
  made.matrixAutoUpdate = false;
  made.userData.part = k;
  world3.add(made);
  return made;
});
const hidden = new Set();
const below = parts.map(() => []);
parts.forEach((part, k) => { if (part.parent >= 0) below[part.parent].push(k); });
function within(k) { return [k, ...below[k].flatMap(within)]; }
let centre = [0, 0, 0], reach = 1000;

let selected = new Set(), fades = null, edges = false, edgesOf = new Map();
function dress() {
  bodies.forEach((body, k) => {
    if (!body) return;
    const faint = fades ? fades.get(k) ?? 1 : 1, opacity = parts[k].opacity * faint;
    body.visible = !hidden.has(k) && opacity > 0.004;
    body.material = told.shapes[parts[k].shape].groups.map(([, , tint]) => material(k, tint, opacity, selected.has(k)));
    const cap = body.userData.cap;
    if (clipping.length && !cap) {
      const made = new THREE.Mesh(body.geometry, inside);
      body.userData.cap = made;
      body.add(made);
    } else if (!clipping.length && cap) { body.remove(cap); body.userData.cap = null; }
    if (edges && !body.userData.lines) {
      const key = parts[k].shape;
      if (!edgesOf.has(key)) edgesOf.set(key, new THREE.EdgesGeometry(body.geometry, 32));
      body.userData.lines = new THREE.LineSegments(edgesOf.get(key), edgeLine);
      body.add(body.userData.lines);
    }
    if (body.userData.lines) body.userData.lines.visible = edges;
  });
  for (const one of materials.values()) one.side = clipping.length && !one.transparent ? THREE.FrontSide : THREE.DoubleSide;
  stale();
}

const camera = new THREE.PerspectiveCamera(32, 1, 1, 1e6), flat = new THREE.OrthographicCamera(-1, 1, 1, -1, 1, 1e6);
camera.up.set(0, 0, 1); flat.up.set(0, 0, 1);
const controls = new THREE.OrbitControls(camera, canvas);
controls.zoomToCursor = true;
controls.addEventListener("change", stale);
controls.addEventListener("start", () => { if (view.kind !== "free") leaveView(); });

// state

let time = 0, playing = false, rate = 1, film = null;
const view = {kind: "free", camera: -1, shot: -1};
let dirty = true, frameDirty = true;
function stale() { dirty = true; }

const filmed = shots.filter(one => one.in_film);
const filmLength = filmed.reduce((sum, one) => sum + one.end - one.start, 0);
function ofFilm(t) {
  for (const one of filmed) { if (t < one.end - one.start) return [one, one.start + t]; t -= one.end - one.start; }
  const last = filmed[filmed.length - 1];
  return [last, last.end];
}
function bounds() {
  if (view.kind === "shot") { const one = shots[view.shot]; return [one.start, Math.max(one.end, one.start + 1e-3)]; }
  return [0, Math.max(span, 1e-3)];
}
function seek(t) {
  time = Math.min(Math.max(t, 0), Math.max(span, ...shots.map(one => one.end)));
  frameDirty = true;
  dirty = true;
}

function lensOf(one, t) {
  const lens = arrays[one.lens], times = {values: lens.values.subarray(0, lens.rows), rows: lens.rows}, k = before(times, t);
  const next = Math.min(k + 1, lens.rows - 1), d = times.values[next] - times.values[k];
  const share = d > 0 ? Math.min(Math.max((t - times.values[k]) / d, 0), 1) : 0;
  return [1, 2].map(c => lens.at(k, c) + share * (lens.at(next, c) - lens.at(k, c)));
}
const through = new Float64Array(16);
function look(number, t) {
  // through one of the film's cameras, with all of its frame in sight
  const one = cameras[number];
  local(one, t, through);
  const [focal, height] = lensOf(one, t), wide = canvas.clientWidth / Math.max(canvas.clientHeight, 1);
  const widen = wide < one.aspect ? one.aspect / wide : 1;
  const eye = one.parallel ? flat : camera;
  if (one.parallel) {
    const half = 0.5 * height * widen;
    flat.top = half; flat.bottom = -half; flat.right = half * wide; flat.left = -half * wide;
  } else camera.fov = 2 * Math.atan(0.5 * one.frame / focal * widen) * 180 / Math.PI;
  eye.matrixAutoUpdate = false;
  eye.matrix.set(...through);
  eye.matrix.elements[12] -= centre[0]; eye.matrix.elements[13] -= centre[1]; eye.matrix.elements[14] -= centre[2];
  eye.matrix.decompose(eye.position, eye.quaternion, eye.scale);
  eye.matrixWorldNeedsUpdate = true;
  const now = new Map();
  for (const [thing, from, until, opacity] of one.fades)
    if (t >= from && t <= until) for (const k of within(thing)) now.set(k, Math.min(now.get(k) ?? 1, opacity));
  const told = [...now].join();
  if (told !== look.fades) { look.fades = told; fades = now; dress(); }
  return eye;
}
look.fades = "";
function leaveView() {
  // go on freely from where the camera stands
  const eye = view.camera >= 0 && cameras[view.camera].parallel ? flat : camera;
  const ahead = new THREE.Vector3(0, 0, -1).applyQuaternion(eye.quaternion);
  const position = eye.position.clone();
  if (eye === flat) camera.fov = 32;
  const half = eye === flat ? flat.top : 0;
  const away = eye === flat ? half / Math.tan(16 * Math.PI / 180) : Math.min(Math.max(position.length(), 0.2 * reach), 2 * reach);
  if (eye === flat) position.addScaledVector(ahead, position.length() - away);
  camera.matrixAutoUpdate = true;
  camera.position.copy(position);
  controls.target.copy(position).addScaledVector(ahead, away);
  Object.assign(view, {kind: "free", camera: -1, shot: -1});
  film = null;
  $("view").value = "free";
  fades = null; look.fades = "";
  dress();
}
function chooseView(value) {
  const [kind, number] = value.split(":");
  if (kind === "free") { if (view.kind !== "free") leaveView(); return; }
  Object.assign(view, {kind, camera: -1, shot: -1});
  film = kind === "film" ? 0 : null;
  if (kind === "shot") { view.shot = Number(number); const one = shots[view.shot]; view.camera = one.camera; if (time < one.start || time > one.end) seek(one.start); }
  if (kind === "camera") view.camera = Number(number);
  if (kind === "film") seek(ofFilm(0)[1]);
  camera.matrixAutoUpdate = false;
  stale();
}

function size() {
  const box = $("stage").getBoundingClientRect(), ratio = Math.min(window.devicePixelRatio || 1, 2);
  renderer.setPixelRatio(ratio);
  renderer.setSize(box.width, box.height, false);
  const over = $("over");
  over.width = Math.round(box.width * ratio); over.height = Math.round(box.height * ratio);
  camera.aspect = box.width / Math.max(box.height, 1);
  chartStale = true;
  stale();
}

const CORNERS = [0, 1, 2, 3, 4, 5, 6, 7];
const corner = (box, k) => new THREE.Vector3(k & 1 ? box.max.x : box.min.x, k & 2 ? box.max.y : box.min.y, k & 4 ? box.max.z : box.min.z);
function cornersOf(numbers) {
  return numbers.filter(k => bodies[k] && !hidden.has(k)).flatMap(k => CORNERS.map(one => corner(bodies[k].geometry.boundingBox, one).applyMatrix4(bodies[k].matrix)));
}
function fitTo(points, direction = null) {
  // as near as all points are in the frame, with a little room about them
  if (!points.length) return;
  if (view.kind !== "free") leaveView();
  const way = direction ?? camera.position.clone().sub(controls.target).normalize();
  const right = new THREE.Vector3().crossVectors(camera.up, way).normalize(), up = new THREE.Vector3().crossVectors(way, right);
  const high = 0.9 * Math.tan(camera.fov * Math.PI / 360), wide = high * camera.aspect;
  const middle = new THREE.Box3().setFromPoints(points).getCenter(new THREE.Vector3());
  // where the edges of sight must lie, side by side, for what is at the left and the right, above and below
  const seen = points.map(p => { const d = p.clone().sub(middle); return [d.dot(right), d.dot(up), d.dot(way)]; });
  const most = (axis, slope, sign) => Math.max(...seen.map(p => sign * p[axis] + slope * p[2]));
  const [r, l, t, b] = [most(0, wide, 1), most(0, wide, -1), most(1, high, 1), most(1, high, -1)];
  const away = Math.max((r + l) / 2 / wide, (t + b) / 2 / high, 1);
  controls.target.copy(middle).addScaledVector(right, (r - l) / 2).addScaledVector(up, (t - b) / 2);
  camera.position.copy(controls.target).addScaledVector(way, away);
  controls.update();
  stale();
}
const visibleParts = () => parts.map((_, k) => k).filter(k => bodies[k]);

// what is drawn over the picture

const over = $("over");
function onScreen(point, eye) {
  const p = new THREE.Vector3(point[0] - centre[0], point[1] - centre[1], point[2] - centre[2]).project(eye);
  return p.z > 1 || p.z < -1 ? null : [(p.x + 1) / 2 * canvas.clientWidth, (1 - p.y) / 2 * canvas.clientHeight];
}
function dimension(draw, a, b, text, colour) {
  if (!a || !b) return;
  draw.strokeStyle = draw.fillStyle = colour;
  draw.lineWidth = 2;
  draw.beginPath(); draw.moveTo(...a); draw.lineTo(...b); draw.stroke();
  const long = Math.hypot(b[0] - a[0], b[1] - a[1]), [x, y] = long > 1 ? [(b[0] - a[0]) / long, (b[1] - a[1]) / long] : [1, 0];
  for (const [p, way] of [[a, 1], [b, -1]]) {
    draw.beginPath(); draw.moveTo(p[0] - 7 * y, p[1] + 7 * x); draw.lineTo(p[0] + 7 * y, p[1] - 7 * x); draw.stroke();
    if (long > 26) { draw.beginPath(); draw.moveTo(...p); draw.lineTo(p[0] + way * 9 * x - 3 * y, p[1] + way * 9 * y + 3 * x); draw.lineTo(p[0] + way * 9 * x + 3 * y, p[1] + way * 9 * y - 3 * x); draw.fill(); }
  }
  label(draw, (a[0] + b[0]) / 2 + 12, (a[1] + b[1]) / 2 - 12, text, colour);
}
function label(draw, x, y, text, colour) {
  draw.font = "600 13px 'Open Sans', system-ui, sans-serif";
  const wide = draw.measureText(text).width;
  x = Math.min(Math.max(x, 4), canvas.clientWidth - wide - 16); y = Math.min(Math.max(y, 14), canvas.clientHeight - 14);
  draw.fillStyle = CARD; draw.strokeStyle = colour; draw.lineWidth = 1;
  draw.beginPath(); draw.roundRect(x, y - 12, wide + 12, 22, 4); draw.fill(); draw.stroke();
  draw.fillStyle = INK; draw.fillText(text, x + 6, y + 4);
}
const gaps = project.gaps;
function gapAt(t) {
  if (!gaps) return null;
  const times = arrays[gaps.times];
  if (!times.rows || t < times.values[0] - 0.5 / fps || t > times.values[times.rows - 1] + 0.5 / fps) return null;
  let k = before(times, t);
  if (k + 1 < times.rows && times.values[k + 1] - t < t - times.values[k]) k++;
  const pair = arrays[gaps.pair].values[k];
  if (pair < 0) return null;
  const points = arrays[gaps.points];
  return {
    distance: arrays[gaps.distance].values[k], required: arrays[gaps.required].values[k], pair: gaps.pairs[pair],
    a: [0, 1, 2].map(c => points.at(k, c)), b: [3, 4, 5].map(c => points.at(k, c)),
  };
}
let measuring = null;
const measured = [];
let opened = null;  // the finding or comment that was gone to

function drawOver(eye) {
  const ratio = over.width / Math.max(canvas.clientWidth, 1), draw = over.getContext("2d");
  draw.setTransform(ratio, 0, 0, ratio, 0, 0);
  draw.clearRect(0, 0, canvas.clientWidth, canvas.clientHeight);
  if (view.kind !== "free" && view.camera >= 0) {
    const wide = canvas.clientWidth, high = canvas.clientHeight, aspect = cameras[view.camera].aspect;
    const w = Math.min(wide, high * aspect), h = w / aspect;
    draw.fillStyle = "rgba(29,42,51,.55)";
    draw.fillRect(0, 0, (wide - w) / 2, high); draw.fillRect((wide + w) / 2, 0, wide, high);
    draw.fillRect(0, 0, wide, (high - h) / 2); draw.fillRect(0, (high + h) / 2, wide, high);
  }
  const gap = gapAt(time);
  if (gap && (gap.distance < 3 * gap.required || opened?.gap === "least")) {
    const text = gap.distance < 0 ? `${mm(-gap.distance)} deep` : mm(gap.distance);
    dimension(draw, onScreen(gap.a, eye), onScreen(gap.b, eye), text, gap.distance < gap.required ? BREACH : PETROL);
  }
  if (opened?.points && Math.abs(opened.time - time) < 0.5 / fps)
    dimension(draw, ...opened.points.map(p => onScreen(p, eye)), opened.told, opened.colour);
  for (const one of project.measures)
    if (time === 0) for (const [a, b] of one.lines) dimension(draw, onScreen(a, eye), onScreen(b, eye), `${one.name} ${one.text}`, SOFT);
  for (const [a, b] of measured) {
    const [p, q] = [a, b].map(one => at(world[one.part], one.place));
    dimension(draw, onScreen(p, eye), onScreen(q, eye), mm(Math.hypot(...p.map((v, c) => v - q[c]))), PETROL);
  }
  if (measuring?.first) {
    const p = onScreen(at(world[measuring.first.part], measuring.first.place), eye);
    if (p) { draw.fillStyle = PETROL; draw.beginPath(); draw.arc(...p, 5, 0, 7); draw.fill(); }
  }
}

function draw() {
  if (frameDirty) {
    pose(time);
    bodies.forEach((body, k) => {
      if (!body || (!alive[k] && body.userData.set)) return;
      const m = world[k];
      body.matrix.set(m[0], m[1], m[2], m[3] - centre[0], m[4], m[5], m[6], m[7] - centre[1], m[8], m[9], m[10], m[11] - centre[2], 0, 0, 0, 1);
      body.matrixWorldNeedsUpdate = true;
      body.userData.set = true;
    });
    frameDirty = false;
    showTime();
  }
  let eye = camera;
  if (view.kind !== "free") {
    if (view.kind === "film") view.camera = ofFilm(film)[0].camera;
    eye = look(view.camera, time);
  }
  const away = eye.position.length(), close = Math.max(Math.min(away, reach) / 2000, 0.5);
  eye.near = close; eye.far = away + 4 * reach;
  eye.updateProjectionMatrix();
  renderer.render(world3, eye);
  drawOver(eye);
}

// the timeline

const chart = $("chart"), ROW = 17, LANE = 46;
let chartStale = true, edge = 150;
const ROWS = () => [...lanes.slice(0, 1).map(lane => ({lane})), ...bars.map(bar => ({bar})), ...lanes.slice(1).map(lane => ({lane}))];
const bars = [...shots.map(one => ({...one, kind: "shot"})), ...runs.map(one => ({...one, kind: "run"}))];
function chartSize() {
  const ratio = Math.min(window.devicePixelRatio || 1, 2), wide = $("chart-room").clientWidth;
  const high = 22 + ROW * bars.length + LANE * lanes.length + 8;
  edge = wide < 600 ? 92 : 170;
  chart.style.height = `${high}px`;
  if (chart.width !== Math.round(wide * ratio) || chart.height !== Math.round(high * ratio)) {
    chart.width = Math.round(wide * ratio); chart.height = Math.round(high * ratio);
  }
  return [ratio, wide, high];
}
const last = Math.max(span, ...shots.map(one => one.end), 1e-3);
const xOf = (t, wide) => edge + t / last * (wide - edge - 14);
function clip(pen, text, x, y, most) {
  if (most < 14) return;
  let shown = text;
  while (shown.length > 1 && pen.measureText(shown).width > most) shown = shown.slice(0, -2) + "…";
  pen.fillText(shown, x, y);
}
let kept = null;
function drawChart() {
  const [ratio, wide, high] = chartSize(), pen = chart.getContext("2d");
  if (chartStale || !kept || kept.width !== chart.width || kept.height !== chart.height) {
    kept = document.createElement("canvas");
    kept.width = chart.width; kept.height = chart.height;
    drawStill(kept.getContext("2d"), ratio, wide, high);
    chartStale = false;
  }
  pen.setTransform(1, 0, 0, 1, 0, 0);
  pen.drawImage(kept, 0, 0);
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  let y = 22;
  pen.font = "12px 'Open Sans', system-ui, sans-serif";
  for (const {lane} of ROWS()) {
    if (!lane) { y += ROW; continue; }
    const value = laneAt(lane, time);
    pen.fillStyle = INK;
    clip(pen, value === null ? "–" : `${value.toFixed(2)} ${lane.unit}`, 8, y + 34, edge - 14);
    y += LANE;
  }
  const x = xOf(time, wide);
  pen.strokeStyle = PETROL; pen.lineWidth = 2;
  pen.beginPath(); pen.moveTo(x, 0); pen.lineTo(x, high); pen.stroke();
  pen.fillStyle = PETROL;
  pen.beginPath(); pen.moveTo(x - 6, 0); pen.lineTo(x + 6, 0); pen.lineTo(x, 9); pen.fill();
  chart.setAttribute("aria-valuenow", time.toFixed(2)); chart.setAttribute("aria-valuemax", last.toFixed(2));
  chart.setAttribute("aria-valuetext", seconds(time));
}
function laneAt(lane, t) {
  const times = arrays[lane.x], values = arrays[lane.values];
  if (!times.rows) return null;
  const k = before(times, t), next = Math.min(k + 1, times.rows - 1), d = times.values[next] - times.values[k];
  const share = d > 0 ? Math.min(Math.max((t - times.values[k]) / d, 0), 1) : 0;
  const value = values.values[k] + share * (values.values[next] - values.values[k]);
  return Number.isFinite(value) ? value : null;
}
function drawLane(pen, lane, y, wide) {
  pen.strokeStyle = RULE; pen.beginPath(); pen.moveTo(0, y + 0.5); pen.lineTo(wide, y + 0.5); pen.stroke();
  pen.fillStyle = SOFT; clip(pen, lane.title, 8, y + 18, edge - 14);
  const times = arrays[lane.x].values, values = arrays[lane.values].values;
  let low = Infinity, top = -Infinity;
  for (const v of values) if (Number.isFinite(v)) { low = Math.min(low, v); top = Math.max(top, v); }
  if (lane.limit !== null) { low = Math.min(low, lane.limit); top = Math.max(top, lane.limit); }
  if (lane.top !== null) top = Math.min(top, lane.top);
  if (low < Infinity) {
    if (top - low < 1e-9) { top += 0.5; low -= 0.5; }
    const yOf = v => y + LANE - 6 - (Math.min(v, top) - low) / (top - low) * (LANE - 13);
    pen.fillStyle = "rgba(214,69,43,.16)";
    for (const [a, b] of lane.breached) pen.fillRect(xOf(a, wide), y + 1, Math.max(xOf(b, wide) - xOf(a, wide), 2), LANE - 1);
    if (lane.limit !== null) {
      pen.strokeStyle = BREACH; pen.setLineDash([5, 4]);
      pen.beginPath(); pen.moveTo(edge, yOf(lane.limit)); pen.lineTo(wide - 14, yOf(lane.limit)); pen.stroke(); pen.setLineDash([]);
    }
    pen.strokeStyle = PETROL; pen.lineWidth = 1.5;
    pen.beginPath();
    let on = false;
    for (let k = 0; k < times.length; k++) {
      if (!Number.isFinite(values[k])) { on = false; continue; }
      if (on) pen.lineTo(xOf(times[k], wide), yOf(values[k])); else pen.moveTo(xOf(times[k], wide), yOf(values[k]));
      on = true;
    }
    pen.stroke();
  }
}
function drawStill(pen, ratio, wide, high) {
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.fillStyle = CARD; pen.fillRect(0, 0, wide, high);
  pen.font = "12px 'Open Sans', system-ui, sans-serif";
  const step = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 60, 120, 300].find(one => one / last * (wide - edge) > 60) ?? 600;
  for (let k = 0; k * step <= last + 1e-9; k++) {
    const x = xOf(k * step, wide);
    pen.strokeStyle = RULE; pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(x + 0.5, 16); pen.lineTo(x + 0.5, high); pen.stroke();
    pen.fillStyle = SOFT; pen.fillText(`${+(k * step).toFixed(2)}${k ? "" : " s"}`, x + 3, 13);
  }
  let y = 22;
  for (const {bar, lane} of ROWS()) {
    if (lane) { drawLane(pen, lane, y, wide); y += LANE; continue; }
    pen.fillStyle = INK; clip(pen, bar.name, 8, y + 13, edge - 14);
    const from = xOf(bar.start, wide), until = xOf(Math.min(bar.end, last), wide);
    pen.fillStyle = bar.kind === "shot" ? "#1d3a40" : PETROL;
    pen.beginPath(); pen.roundRect(from, y + 3, Math.max(until - from, 3), ROW - 7, 3); pen.fill();
    y += ROW;
  }
  for (const one of comments) {
    const x = xOf(one.time, wide);
    pen.fillStyle = STRAW; pen.strokeStyle = "#8a5d0c"; pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(x, 20); pen.lineTo(x, 4); pen.lineTo(x + 11, 8); pen.lineTo(x, 12); pen.fill(); pen.stroke();
  }
}
function chartSeek(event) {
  const box = chart.getBoundingClientRect();
  if (film !== null) leaveView();
  const [from, until] = [0, last];
  seek(from + (event.clientX - box.left - edge) / (box.width - edge - 14) * (until - from));
}
chart.addEventListener("pointerdown", event => { chart.setPointerCapture(event.pointerId); stop(); chartSeek(event); });
chart.addEventListener("pointermove", event => { if (chart.hasPointerCapture(event.pointerId)) chartSeek(event); });

function showTime() {
  if (document.activeElement !== $("time")) $("time").value = time.toFixed(2);
  $("comment-time").textContent = seconds(time);
}
function stop() { playing = false; $("play").textContent = "▶"; $("play").setAttribute("aria-label", "Play"); }
function play() {
  const [from, until] = bounds();
  if (film === null && (time >= until - 1e-6 || time < from)) seek(from);
  if (film !== null && film >= filmLength - 1e-6) film = 0;
  playing = true;
  $("play").textContent = "❚❚"; $("play").setAttribute("aria-label", "Stop");
}
$("play").addEventListener("click", () => playing ? stop() : play());
$("time").addEventListener("change", event => { stop(); if (film !== null) leaveView(); seek(Number(event.target.value) || 0); });
$("speed").addEventListener("change", event => { rate = Number(event.target.value); });

let clock = null, drawn = 0;
function step(now) {
  const gone = clock === null ? 0 : Math.min((now - clock) / 1000, 0.25);
  clock = now;
  if (playing && gone > 0) {
    const again = $("loop").checked;
    if (film !== null) {
      film += rate * gone;
      if (film >= filmLength) { if (again) film %= filmLength; else { film = filmLength; stop(); } }
      const before_ = view.camera, [one, t] = ofFilm(film);
      view.camera = one.camera;
      if (before_ !== view.camera) stale();
      seek(t);
    } else {
      const [from, until] = bounds();
      let t = time + rate * gone;
      if (t >= until) { if (again) t = from + (t - from) % (until - from); else { t = until; stop(); } }
      seek(t);
    }
  }
  if (dirty || frameDirty) { dirty = false; draw(); drawChart(); drawn++; }
  requestAnimationFrame(step);
}

// lists

function go(item, fields) {
  stop();
  opened = {...item, ...fields};
  seek(item.time);
  pose(item.time);
  frameDirty = true;
  draw();
}
function mark(list, chosen) { for (const one of list.querySelectorAll(".at")) one.classList.remove("at"); chosen?.classList.add("at"); }
const numberOf = new Map(parts.map((part, k) => [part.id, k]));
function choose(ids) {
  selected = new Set(ids.filter(id => numberOf.has(id)).flatMap(id => within(numberOf.get(id))));
  dress();
  drawTree();
}
function across([a, b]) {
  // the way to look from where one looks now that shows what lies between two points in its whole length
  const line = new THREE.Vector3(...b.map((v, c) => v - a[c])).normalize(), way = camera.position.clone().sub(controls.target).normalize();
  way.addScaledVector(line, -way.dot(line));
  return way.length() > 0.1 && Math.abs(way.clone().normalize().z) < 0.97 ? way.normalize() : null;
}
function goTo(item, ids, points) {
  choose(ids);
  go(item, {points, told: item.value_told, colour: item.severity === "breach" ? BREACH : PETROL});
  const around = points ?? (item.place ? [item.place] : null);
  if (around) {
    const box = new THREE.Box3().setFromPoints(around.map(p => new THREE.Vector3(...p.map((v, c) => v - centre[c]))));
    const gap = around.length > 1 ? box.getSize(new THREE.Vector3()).length() : 0;
    box.expandByScalar(Math.max(8 * gap, Math.min(0.05 * reach, 120)));
    fitTo(CORNERS.map(k => corner(box, k)), gap > 0 ? across(around) : null);
  } else if (selected.size) fitTo(cornersOf([...selected]));
}
const findingsList = $("findings");
for (const one of check.findings) {
  const item = make("button", {class: `item ${one.severity}`, onclick: () => { mark(findingsList, item); goTo(one, one.subject_ids, one.gap); }},
    make("span", {class: "mark"}, SEVERITY[one.severity]), make("strong", {}, one.title), make("small", {}, `${seconds(one.time)} · ${one.detail}`));
  findingsList.append(item);
}
$("count-findings").textContent = check.findings.length || "";
if (!check.findings.length) findingsList.append(make("p", {class: "empty"}, "Nothing was found that is wrong."));
$("certainty").textContent = project.certainty;

{
  const list = $("pairs");
  list.append(make("p", {class: "hint"}, project.certainty_told));
  const rows = (title, items, cells, head) => {
    if (!items.length) return;
    const body = make("tbody");
    for (const item of items) {
      const row = make("tr", {tabindex: 0, onclick: () => item.go()}, ...cells(item).map((text, k) => make("td", {class: k ? "n" : ""}, text)));
      row.addEventListener("keydown", event => { if (event.key === "Enter") item.go(); });
      body.append(row);
    }
    list.append(make("h3", {}, title), make("table", {}, make("thead", {}, make("tr", {}, ...head.map((text, k) => make("th", {class: k ? "n" : ""}, text)))), body));
  };
  rows("Nearer than required", check.table.map(one => ({...one, go: () => goTo({time: one.time_s, severity: "breach", place: one.place_mm}, one.pair_ids, null)})),
    one => [`${one.pair[0]} – ${one.pair[1]}`, mm(one.worst_mm), mm(one.required_mm, 1), seconds(one.time_s)], ["Pair", "Least", "Required", "At"]);
  rows("Least at each moment", project.pairs.map(one => ({...one, go: () => goTo({time: one.time, severity: one.least < one.required ? "breach" : "note"}, one.ids, one.points)})),
    one => [one.names.join(" – "), mm(one.least), mm(one.required, 1), seconds(one.time)], ["Pair", "Least", "Required", "At"]);
  rows("In contact by intent", check.contacts.map(one => ({...one, go: () => goTo({time: one.spans_s[0]?.[0] ?? 0, severity: "note"}, one.pair_ids, null)})),
    one => [`${one.pair[0]} on ${one.pair[1]}: ${one.text}`, mm(Math.max(one.deep_mm, 0)), mm(one.allowed_mm)], ["Pair", "Depth", "Allowed"]);
  if (!check.table.length && !project.pairs.length && !check.contacts.length) list.append(make("p", {class: "empty"}, "Nothing moves past anything."));
}

const folded = new Set(parts.map((_, k) => k).filter(k => parts[k].parent >= 0 || parts.length > 60));
function drawTree() {
  const words = $("filter").value.trim().toLowerCase(), tree = $("tree"), rows = [];
  const matches = words ? new Set(parts.flatMap((part, k) => {
    if (!part.name.toLowerCase().includes(words)) return [];
    const above = [];
    for (let here = k; here >= 0; here = parts[here].parent) above.push(here);
    return above;
  })) : null;
  const add = (k, depth) => {
    if (matches && !matches.has(k)) return;
    if (rows.length > 1500) return;
    const inner = below[k], open = matches ? true : !folded.has(k);
    const all = within(k).filter(one => bodies[one]);
    rows.push(make("div", {class: `row${selected.has(k) ? " selected" : ""}`, role: "treeitem", "aria-level": depth + 1, "aria-selected": selected.has(k), style: "", onclick: event => {
      if (event.target.closest("button,input")) return;
      const mine = within(k);
      if (event.ctrlKey || event.metaKey) { const on = !selected.has(k); for (const one of mine) if (on) selected.add(one); else selected.delete(one); } else selected = new Set(mine);
      dress(); drawTree();
    }},
      make("span", {class: "indent"}),
      inner.length ? make("button", {class: "fold", "aria-label": open ? "Fold" : "Unfold", onclick: () => { if (folded.has(k)) folded.delete(k); else folded.add(k); drawTree(); }}, open ? "▾" : "▸") : make("span", {class: "fold"}),
      make("input", {type: "checkbox", checked: all.some(one => !hidden.has(one)), "aria-label": `Show ${parts[k].name}`, onchange: event => { for (const one of all) if (event.target.checked) hidden.delete(one); else hidden.add(one); dress(); drawTree(); }}),
      make("span", {class: "name", title: parts[k].name}, parts[k].name),
      make("button", {class: "alone", onclick: () => isolate(all)}, "Isolate")));
    rows[rows.length - 1].firstChild.style.width = `${depth * 14}px`;
    if (open) for (const one of inner) add(one, depth + 1);
  };
  parts.forEach((part, k) => { if (part.parent < 0) add(k, 0); });
  if (!rows.length) rows.push(make("p", {class: "empty"}, "No part has such a name."));
  const scrolled = tree.scrollTop;
  tree.replaceChildren(...rows);
  tree.scrollTop = scrolled;
}
function isolate(numbers) {
  if (!numbers.length) return;
  const alone = new Set(numbers);
  for (const k of visibleParts()) if (alone.has(k)) hidden.delete(k); else hidden.add(k);
  dress(); drawTree();
}
$("filter").addEventListener("input", drawTree);
$("isolate").addEventListener("click", () => isolate([...selected]));
function showAll() { hidden.clear(); dress(); drawTree(); }
$("show-all").addEventListener("click", showAll);

// comments

const comments = project.comments.map(one => ({...one, kept: true}));
let unsaved = false;
function viewNow() {
  const eye = view.kind === "free" ? camera : (cameras[view.camera].parallel ? flat : camera);
  const ahead = new THREE.Vector3(0, 0, -1).applyQuaternion(eye.quaternion), up = new THREE.Vector3(0, 1, 0).applyQuaternion(eye.quaternion);
  const away = view.kind === "free" ? eye.position.distanceTo(controls.target) : Math.max(eye.position.length(), 1);
  const p = eye.position.toArray();
  return {
    position: p.map((v, c) => v + centre[c]), target: p.map((v, c) => v + centre[c] + away * ahead.getComponent(c)),
    up: up.toArray(), angle: eye === flat ? 32 : camera.fov,
  };
}
function showView(one) {
  if (view.kind !== "free") leaveView();
  camera.fov = one.angle;
  camera.position.set(...one.position.map((v, c) => v - centre[c]));
  controls.target.set(...one.target.map((v, c) => v - centre[c]));
  controls.update();
}
function drawComments() {
  const list = $("comment-list");
  comments.sort((a, b) => a.time - b.time);
  list.replaceChildren(...comments.map(one => {
    const item = make("button", {class: "item", onclick: () => { mark(list, item); choose(one.parts ?? []); go({time: one.time}, {}); if (one.view) showView(one.view); }},
      make("span", {class: "mark"}, `${one.name} · ${seconds(one.time)}`), make("small", {style: "white-space:pre-wrap"}, one.text));
    const remove = one.kept ? null : make("button", {title: "Remove this comment", onclick: () => { comments.splice(comments.indexOf(one), 1); unsaved = true; drawComments(); }}, "Remove");
    return make("div", {class: "bar"}, item, remove);
  }));
  if (!comments.length) list.append(make("p", {class: "empty"}, "No comment yet. Go to a moment and a view, and write one above."));
  $("count-comments").textContent = comments.length || "";
  chartStale = true;
  stale();
}
$("comment-form").addEventListener("submit", event => {
  event.preventDefault();
  const name = $("comment-name").value.trim(), text = $("comment-text").value.trim();
  if (!name || !text) return;
  comments.push({name, text, time: Number(time.toFixed(4)), view: viewNow(), parts: [...selected].map(k => parts[k].id).slice(0, 50), made: new Date().toISOString()});
  $("comment-text").value = "";
  unsaved = true;
  drawComments();
});
function commentsFile() {
  return JSON.stringify({kind: "kestrav comments", version: 1, project: project.name, page: project.page, comments: comments.filter(one => !one.kept).map(({kept, ...one}) => one)}, null, 1);
}
$("comments-save").addEventListener("click", () => {
  const link = make("a", {href: URL.createObjectURL(new Blob([commentsFile()], {type: "application/json"})), download: `${project.name.replace(/[^\p{L}\p{N} _-]/gu, "_") || "project"} comments.json`});
  link.click();
  unsaved = false;
});
$("comments-open").addEventListener("change", async event => {
  const file = event.target.files[0];
  event.target.value = "";
  if (!file) return;
  try {
    const data = JSON.parse(await file.text());
    if (data.kind !== "kestrav comments" || !Array.isArray(data.comments)) throw new Error();
    for (const one of data.comments) {
      if (typeof one.name !== "string" || typeof one.text !== "string" || !Number.isFinite(one.time)) throw new Error();
      if (!comments.some(other => other.made === one.made && other.text === one.text)) comments.push(one);
    }
    drawComments();
  } catch (fault) { say(`“${file.name}” holds no comments of a review page.`); }
});
addEventListener("beforeunload", event => { if (unsaved) event.preventDefault(); });

// tools

function say(text) { $("reading").textContent = text; $("reading").hidden = !text; }
const plane = new THREE.Plane(new THREE.Vector3(1, 0, 0), 0);
let flipped = false;
function section(on) {
  $("tool-section").setAttribute("aria-pressed", on);
  $("section-bar").hidden = !on;
  clipping.length = 0;
  if (on) clipping.push(plane);
  for (const one of [...materials.values(), inside, edgeLine]) { one.clippingPlanes = on ? clipping : null; one.needsUpdate = true; }
  if (on) placeSection();
  dress();
}
let whole = new THREE.Box3();
function placeSection(typed = null) {
  const axis = Number($("section-axis").value), low = whole.min.getComponent(axis), high = whole.max.getComponent(axis);
  let there = typed === null ? low + (high - low) * Number($("section-place").value) / 1000 : typed - centre[axis];
  if (!Number.isFinite(there)) there = (low + high) / 2;
  if (typed !== null) $("section-place").value = Math.round(1000 * (there - low) / Math.max(high - low, 1e-9));
  else $("section-number").value = (there + centre[axis]).toFixed(0);
  plane.normal.set(0, 0, 0).setComponent(axis, flipped ? 1 : -1);
  plane.constant = flipped ? -there : there;
  stale();
}
$("tool-section").addEventListener("click", () => section(!clipping.length));
$("section-axis").addEventListener("change", () => placeSection());
$("section-place").addEventListener("input", () => placeSection());
$("section-number").addEventListener("change", event => placeSection(Number(event.target.value)));
$("section-flip").addEventListener("click", () => { flipped = !flipped; placeSection(); });

function measureTool(on) {
  measuring = on ? {first: null} : null;
  $("tool-measure").setAttribute("aria-pressed", on);
  canvas.style.cursor = on ? "crosshair" : "";
  if (!on) measured.length = 0;
  say(on ? "Click two points; corners are caught." : "");
  stale();
}
$("tool-measure").addEventListener("click", () => measureTool(!measuring));
const rays = new THREE.Raycaster();
function hit(event) {
  const box = canvas.getBoundingClientRect(), x = (event.clientX - box.left) / box.width * 2 - 1, y = 1 - (event.clientY - box.top) / box.height * 2;
  const eye = view.kind !== "free" && cameras[view.camera].parallel ? flat : camera;
  eye.updateMatrixWorld();
  rays.setFromCamera(new THREE.Vector2(x, y), eye);
  const found = rays.intersectObjects(bodies.filter(body => body?.visible), false)
    .find(one => !clipping.length || plane.distanceToPoint(one.point) >= 0);
  if (!found) return null;
  const part = found.object.userData.part;
  let p = found.point.toArray().map((v, c) => v + centre[c]), best = 9;
  const screen = q => { const s = onScreen(q, eye); return s ? Math.hypot(s[0] - (event.clientX - box.left), s[1] - (event.clientY - box.top)) : Infinity; };
  const position = found.object.geometry.getAttribute("position");
  for (const corner of [found.face.a, found.face.b, found.face.c]) {
    const q = at(world[part], [position.getX(corner), position.getY(corner), position.getZ(corner)]), off = screen(q);
    if (off < best) { best = off; p = q; }
  }
  return {part, place: into(world[part], p)};
}
let pressed = null;
canvas.addEventListener("pointerdown", event => { pressed = [event.clientX, event.clientY]; });
canvas.addEventListener("pointerup", event => {
  if (!pressed || Math.hypot(event.clientX - pressed[0], event.clientY - pressed[1]) > 5 || event.button !== 0) return;
  const there = hit(event);
  if (measuring) {
    if (!there) return;
    if (!measuring.first) measuring.first = there;
    else {
      const [p, q] = [measuring.first, there].map(one => at(world[one.part], one.place)), d = p.map((v, c) => q[c] - v);
      measured.push([measuring.first, there]);
      measuring.first = null;
      say(`Distance ${mm(Math.hypot(...d), 3)} (ΔX ${mm(Math.abs(d[0]), 3)}, ΔY ${mm(Math.abs(d[1]), 3)}, ΔZ ${mm(Math.abs(d[2]), 3)})`);
    }
    stale();
    return;
  }
  if (!(event.ctrlKey || event.metaKey)) selected = new Set();
  if (there) { if (selected.has(there.part)) selected.delete(there.part); else selected.add(there.part); }
  say(there ? parts[there.part].name : "");
  dress();
  if (there) for (let here = parts[there.part].parent; here >= 0; here = parts[here].parent) folded.delete(here);
  drawTree();
});

function tab(name) {
  for (const one of ["findings", "pairs", "parts", "comments"]) {
    $(one).classList.toggle("open", one === name);
    $(`tab-${one}`).setAttribute("aria-selected", one === name);
    $(`tab-${one}`).tabIndex = one === name ? 0 : -1;
  }
}
const TABS = ["findings", "pairs", "parts", "comments"];
TABS.forEach((name, k) => {
  $(`tab-${name}`).addEventListener("click", () => tab(name));
  $(`tab-${name}`).addEventListener("keydown", event => {
    const way = {ArrowRight: 1, ArrowLeft: -1}[event.key];
    if (!way) return;
    const next = TABS[(k + way + TABS.length) % TABS.length];
    tab(next); $(`tab-${next}`).focus(); event.preventDefault(); event.stopPropagation();
  });
});
$("fit").addEventListener("click", fit);
function fit() { fitTo(cornersOf(selected.size ? [...selected] : visibleParts())); }
$("help").addEventListener("click", () => $("help-sheet").showModal());
$("comments-open").parentElement.addEventListener("keydown", event => { if (event.key === "Enter" || event.key === " ") { $("comments-open").click(); event.preventDefault(); } });

const viewList = $("view");
viewList.append(make("option", {value: "free"}, "Free view"));
if (filmed.length > 1) viewList.append(make("option", {value: "film"}, "Film"));
shots.forEach((one, k) => viewList.append(make("option", {value: `shot:${k}`}, `Shot ${one.name}`)));
cameras.forEach((one, k) => viewList.append(make("option", {value: `camera:${k}`}, `Camera ${one.name}`)));
viewList.addEventListener("change", event => chooseView(event.target.value));
told.colourways.forEach((one, k) => $("colourway").append(make("option", {value: k}, one.name)));
$("colourway").value = colourway;
$("colourways").hidden = told.colourways.length < 2;
$("colourway").addEventListener("change", event => { colourway = Number(event.target.value); dress(); });

addEventListener("keydown", event => {
  if (event.target.closest("input,textarea,select,dialog") || event.ctrlKey || event.metaKey || event.altKey) {
    if (event.key === "Escape") event.target.blur?.();
    return;
  }
  const on = event.target.closest("button");
  const frame = event.shiftKey ? 1 : 1 / fps, step = way => { stop(); if (film !== null) leaveView(); seek(time + way * frame); };
  const keys = {
    " ": () => playing ? stop() : play(), ArrowLeft: () => step(-1), ArrowRight: () => step(1),
    Home: () => { stop(); seek(bounds()[0]); }, End: () => { stop(); seek(bounds()[1]); },
    f: fit, h: () => { for (const k of selected) hidden.add(k); selected = new Set(); dress(); drawTree(); },
    i: () => isolate([...selected]), a: showAll, x: () => section(!clipping.length), m: () => measureTool(!measuring),
    e: () => { edges = !edges; dress(); }, "?": () => $("help-sheet").showModal(),
    1: () => tab("findings"), 2: () => tab("pairs"), 3: () => tab("parts"), 4: () => tab("comments"),
    Escape: () => { if (measuring) measureTool(false); else if (clipping.length) section(false); else { selected = new Set(); opened = null; say(""); dress(); drawTree(); } },
  };
  const act = keys[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  // a button keeps its own key
  if (!act || (on && event.key === " ")) return;
  event.preventDefault();
  act();
});

// begin

pose(0);
{
  const box = new THREE.Box3(), middle = new THREE.Vector3();
  bodies.forEach((body, k) => {
    if (body) for (const one of CORNERS) box.expandByPoint(middle.fromArray(at(world[k], corner(body.geometry.boundingBox, one).toArray())));
  });
  if (!box.isEmpty()) { box.getCenter(middle); centre = middle.toArray(); reach = Math.max(box.getSize(new THREE.Vector3()).length(), 1); }
  whole = box.isEmpty() ? box : box.clone().translate(middle.clone().negate());
}
$("end").textContent = last.toFixed(2);
$("time").max = last;
new ResizeObserver(size).observe($("stage"));
new ResizeObserver(() => { chartStale = true; stale(); }).observe($("chart-room"));
size();
draw();
dress();
fitTo(cornersOf(visibleParts()), new THREE.Vector3(0.55, -0.72, 0.42).normalize());
drawTree();
drawComments();
tab(check.findings.length ? "findings" : "pairs");
$("busy").hidden = true;
requestAnimationFrame(step);

// for tests and for those who look into the page
window.review = {
  project, seek, play, stop, choose: chooseView,
  poses: t => { pose(t); frameDirty = true; return world.map(m => Array.from(m)); },
  eye: (k, t) => { local(cameras[k], t, through); return {matrix: Array.from(through), lens: lensOf(cameras[k], t)}; },
  screen: p => {
    const eye = view.kind === "free" ? camera : look(view.camera, time);
    eye.updateMatrixWorld(); eye.updateProjectionMatrix();
    return onScreen(p, eye);
  },
  get time() { return time; }, get drawn() { return drawn; }, get playing() { return playing; }, get hidden() { return [...hidden]; },
  get selected() { return [...selected]; }, gapAt, commentsFile, get view() { return view.kind; },
  view_now: viewNow, dome: () => Array.from(dome.image.data),
  async redraw(count) {
    // a pixel is asked for, as only then a picture is really drawn
    const began = performance.now(), gl = renderer.getContext(), pixel = new Uint8Array(4);
    for (let k = 0; k < count; k++) { seek(last * k / count); draw(); gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel); }
    return performance.now() - began;
  },
};
document.documentElement.dataset.ready = "yes";
})();
