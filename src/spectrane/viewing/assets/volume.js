// Volumes: planes through a point, slices by the wheel, windows, frames, groups, letters.
import { active, app, at, change, setValue, shortly, tell } from "./app.js";
import { hasLook, limitsNow, moveWindow } from "./limits.js";
import { now, paint, panes, positionOf, sizeOf } from "./panes.js";
import { ask, made } from "./talk.js";

const stage = at("stage");
const INK = "#ffd640";
const pointers = new Map();
let drag = null, pinch = null, wheeled = -Infinity, playing = 0, groupsOf = "";

const panelOf = (index) => app.frame.panels[index] && app.frame.panels[index].panel;

function placeOf(event) {
  const { panel, column, row } = positionOf(event);
  return { index: panel, panel: panelOf(panel), column, row };
}

// What is drawn over: the other planes as lines, letters of the patient's sides, marks.
export function drawPlanes() {
  app.frame.panels.forEach((panel, index) => {
    const { over, title, box } = panes[index];
    const pen = over.getContext("2d");
    pen.clearRect(0, 0, over.width, over.height);
    title.textContent = `${panel.plane} ${panel.place}`;
    box.classList.toggle("active", panel.panel === app.state.panel && app.frame.panels.length > 1);
    drawCross(pen, panel.cross);
    panel.marks.forEach(([column, row], k) => {
      pen.strokeStyle = INK; pen.lineWidth = 1.5;
      pen.beginPath(); pen.arc(column, row, 5, 0, 7); pen.stroke();
      write(pen, String(k + 1), column + 8, row - 6, "start");
    });
    const { left, right, top, bottom } = panel.letters, { width, height } = over;
    write(pen, left, 8, height / 2, "start"); write(pen, right, width - 8, height / 2, "end");
    write(pen, top, width / 2, 14, "center"); write(pen, bottom, width / 2, height - 10, "center");
  });
}

function drawCross(pen, [column, row]) {
  const { width, height } = pen.canvas, gap = 9;
  pen.lineWidth = 1;
  pen.strokeStyle = INK;
  pen.globalAlpha = 0.75;
  pen.beginPath();
  for (const [x0, y0, x1, y1] of [[0, row, column - gap, row], [column + gap, row, width, row],
    [column, 0, column, row - gap], [column, row + gap, column, height]]) {
    pen.moveTo(x0, y0); pen.lineTo(x1, y1);
  }
  pen.stroke();
  pen.globalAlpha = 1;
}

function write(pen, text, x, y, align) {
  if (!text) return;
  pen.font = "14px system-ui, sans-serif";
  pen.textAlign = align;
  pen.textBaseline = "middle";
  pen.lineWidth = 3;
  pen.strokeStyle = "#000c"; pen.strokeText(text, x, y);
  pen.fillStyle = "#fff"; pen.fillText(text, x, y);
}

// Values where the planes meet, or under the pointer.

let reading = false, unread = null;
async function read(query) {
  unread = query;
  if (reading) return;
  reading = true;
  while (unread) {
    const asked = unread;
    unread = null;
    try { showValues(await ask("values", asked)); } catch (error) { tell(error.message); }
  }
  reading = false;
}

function showValues({ point, rows }) {
  const first = rows[0];
  const voxel = first ? `  voxel ${first.i}, ${first.j}, ${first.k}` : "  outside";
  const seen = rows.filter((one) => one.shown).map((one) => `${one.frame} ${one.physical === null ? "no-data"
    : shortly(one.physical)}`).join("  ");
  const [x, y, z] = point.map((one) => (Math.round(10 * one) / 10 + 0).toFixed(1));
  at("where").textContent = `x ${x}, y ${y}, z ${z} mm${voxel}  ${seen}`;
  const head = ["layer", "frame", "stored", "physical", ""];
  const shownRows = rows.length > 40 ? rows.filter((one) => one.shown) : rows;
  at("values").replaceChildren(made("table", {}, made("tr", {}, ...head.map((one) => made("th", {}, one))),
    ...shownRows.map((one) => made("tr", {}, ...[one.layer, one.frame, one.stored,
      one.physical === null ? "no-data" : `${shortly(one.physical)} ${one.unit && one.unit !== "1" ? one.unit : ""}`,
      one.shown ? "shown" : ""].map((cell) => made("td", {}, String(cell ?? "")))))));
}

// How planes lie, frames, groups.

export function showVolume() {
  const { state } = app;
  drawPlanes();
  setValue(at("side-of"), state.side);
  setValue(at("axes"), state.axes);
  setValue(at("slab"), state.slab);
  setValue(at("project"), state.project);
  setValue(at("turn"), state.turn);
  setValue(at("tilt"), state.tilt);
  at("alone").setAttribute("aria-pressed", String(state.panels === 1));
  at("forget").disabled = !state.marks.length;
  showFrames();
  showTest();
  showGroups();
  read({});
}

function showFrames() {
  const layer = active(), count = layer.bands.length;
  at("frames").hidden = count < 2;
  const slider = at("frame");
  slider.max = count;
  slider.setAttribute("aria-label", `frame ${layer.title}`);
  setValue(slider, layer.frame);
  const time = layer.times[layer.frame - 1];
  at("frame-said").textContent = `${layer.frame} of ${count}: ${layer.bands[layer.frame - 1].name}`
    + (time === null ? "" : `, ${shortly(time)} s`);
}

function showTest() {
  const layer = active();
  at("tests").hidden = layer.test === null;
  if (layer.test === null) return;
  at("test").textContent = `shown where ${layer.test}`;
  setValue(at("least"), layer.least);
  setValue(at("faded"), layer.faded);
}

async function showGroups() {
  const tested = (k) => app.state.layers[k].test !== null;
  const index = tested(app.state.active) ? app.state.active : app.state.layers.findIndex((_, k) => tested(k));
  const layer = app.state.layers[index];
  const key = layer ? JSON.stringify([index, layer.test, layer.least, layer.frame]) : "";
  if (key === groupsOf) return;
  groupsOf = key;
  at("grouped").hidden = !layer;
  if (!layer) return;
  try {
    const { count, voxels, groups } = await ask("groups", { layer: index });
    at("group-count").textContent = `${count} group${count === 1 ? "" : "s"}, ${voxels} voxels`;
    at("groups").replaceChildren(...groups.map((one) => made("button", { "aria-label": `group ${one.number}`,
      onclick: () => change({ do: "point", x: one.at[0], y: one.at[1], z: one.at[2] }) },
    `${one.number}: ${one.voxels} voxels, peak ${shortly(one.peak)}`)));
  } catch (error) { tell(error.message); }
}

function play(on) {
  clearInterval(playing);
  playing = 0;
  at("play").setAttribute("aria-pressed", String(on));
  if (!on) return;
  playing = setInterval(() => {
    const layer = active();
    change({ do: "layer", frame: layer.frame % layer.bands.length + 1 }, { together: true });
  }, 250);
}

// Gestures.

function press(event) {
  if (event.target.closest("#working, button, input")) return;
  event.preventDefault();
  stage.focus();
  stage.setPointerCapture(event.pointerId);
  const here = placeOf(event);
  pointers.set(event.pointerId, here);
  if (pointers.size === 2) { pinch = spanOf(); drag = null; return; }
  const way = event.shiftKey && app.counts && hasLook() ? "window" : event.button === 1 || event.altKey ? "pan" : "point";
  drag = { ...here, way, moved: false, first: way === "window" ? limitsNow() : null };
  if (way === "point") change({ do: "point", panel: here.panel, column: here.column, row: here.row });
}

function spanOf() {
  const [a, b] = [...pointers.values()];
  return { distance: Math.hypot(a.column - b.column, a.row - b.row) || 1, panel: a.panel,
    column: (a.column + b.column) / 2, row: (a.row + b.row) / 2 };
}

function move(event) {
  const held = pointers.get(event.pointerId);
  if (!held) {
    const here = placeOf(event);
    if (here.panel !== undefined) read({ panel: here.panel, column: here.column, row: here.row });
    return;
  }
  const box = panes[held.index].box.getBoundingClientRect();
  const here = { column: event.clientX - box.left, row: event.clientY - box.top };
  pointers.set(event.pointerId, { ...held, ...here });
  if (pinch && pointers.size === 2) {
    const span = spanOf();
    change({ do: "zoom", factor: span.distance / pinch.distance, panel: span.panel, column: span.column,
      row: span.row }, { together: true });
    pinch = span;
    return;
  }
  if (!drag) return;
  const columns = here.column - drag.column, rows = here.row - drag.row;
  if (!drag.moved && Math.hypot(columns, rows) < 2) return;
  if (drag.way === "window") moveWindow(drag.first, columns, rows, sizeOf());
  else if (drag.way === "pan") {
    change({ do: "pan", columns, rows, panel: drag.panel }, { together: drag.moved });
    Object.assign(drag, here);
  } else change({ do: "point", panel: drag.panel, ...here }, { together: true });
  drag.moved = true;
}

function release(event) {
  pointers.delete(event.pointerId);
  if (!pointers.size) pinch = null;
  drag = null;
}

function wheel(event) {
  event.preventDefault();
  const { panel, column, row } = placeOf(event);
  const together = event.timeStamp - wheeled < 500;
  wheeled = event.timeStamp;
  if (event.ctrlKey) {
    change({ do: "zoom", factor: Math.exp(-event.deltaY * 0.004), panel, column, row }, { together });
  } else change({ do: "step", count: event.deltaY > 0 ? -1 : 1, panel }, { together });
}

function nudge(columns, rows) { // the cross-hair, by a millimetre, or a pixel where that is more
  const index = app.frame.panels.findIndex((one) => one.panel === app.state.panel);
  const [column, row] = app.frame.panels[index].cross;
  const step = Math.max(1, 1 / app.state.pixel);
  return change({ do: "point", panel: app.state.panel, column: column + columns * step, row: row + rows * step });
}

// One plane alone fills the room, and shows as much as before.
async function alone() {
  const before = sizeOf();
  await change({ do: "panel", alone: app.state.panels > 1 });
  const after = sizeOf();
  return change({ do: "zoom", factor: Math.min(after.rows / before.rows, after.columns / before.columns) },
    { together: true });
}

function nextFrame(by) {
  const layer = active(), count = layer.bands.length;
  return change({ do: "layer", frame: (layer.frame - 1 + by + count) % count + 1 });
}

const KEYS = {
  "+": () => change({ do: "zoom", factor: 1.5 }), "=": () => change({ do: "zoom", factor: 1.5 }),
  "-": () => change({ do: "zoom", factor: 1 / 1.5 }), 0: () => change({ do: "whole" }),
  1: () => change({ do: "one" }), u: () => change({ do: "undo" }), r: () => change({ do: "redo" }),
  m: () => change({ do: "mark" }), e: alone,
  p: () => change({ do: "panel", panel: (app.state.panel + 1) % 4 }), g: () => at("goto").focus(),
  l: () => change({ do: "active", layer: (app.state.active + 1) % app.state.layers.length }),
  f: () => change({ do: "layer", visible: !active().visible }),
  ",": () => nextFrame(-1), ".": () => nextFrame(1), " ": () => play(!playing),
  PageUp: () => change({ do: "step", count: 1 }), PageDown: () => change({ do: "step", count: -1 }),
  ArrowLeft: () => nudge(-1, 0), ArrowRight: () => nudge(1, 0), ArrowUp: () => nudge(0, -1),
  ArrowDown: () => nudge(0, 1),
};

function takesKey(target, key) {
  if (/^(TEXTAREA|SELECT)$/.test(target.tagName) || /^(text|number)$/.test(target.type)) return true;
  if (target.type === "range") return /^(Arrow|Page)/.test(key);
  return key === " " && /^(BUTTON|SUMMARY|INPUT)$/.test(target.tagName);
}

function keyDown(event) {
  if (event.ctrlKey || event.metaKey || event.altKey || !app.state || takesKey(event.target, event.key)) return;
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (key === "b" && !event.repeat) { now.before = true; paint(); }
  else if (key === "Escape") { if (!at("working").hidden) ask("stop"); }
  else if (key in KEYS) { event.preventDefault(); KEYS[key](); }
}

function keyUp(event) {
  if (event.key.toLowerCase() === "b" && now.before) { now.before = false; paint(); }
}

export function beginVolume() {
  stage.addEventListener("pointerdown", press);
  stage.addEventListener("pointermove", move);
  stage.addEventListener("pointerup", release);
  stage.addEventListener("pointercancel", release);
  stage.addEventListener("wheel", wheel, { passive: false });
  document.addEventListener("keydown", keyDown);
  document.addEventListener("keyup", keyUp);
  at("goto").placeholder = "x, y, z in mm, or voxel i, j, k";
  const planes = (fields, how) => change({ do: "planes", ...fields }, how);
  at("side-of").onchange = (event) => planes({ side: event.target.value });
  at("axes").onchange = (event) => planes({ axes: event.target.value });
  at("slab").onchange = (event) => planes({ slab: Number(event.target.value) });
  at("project").onchange = (event) => planes({ project: event.target.value });
  at("turn").oninput = (event) => planes({ turn: Number(event.target.value) }, { together: true });
  at("tilt").oninput = (event) => planes({ tilt: Number(event.target.value) }, { together: true });
  at("alone").onclick = alone;
  at("frame").oninput = (event) => change({ do: "layer", frame: Number(event.target.value) }, { together: true });
  at("play").onclick = () => play(!playing);
  at("least").onchange = (event) => change({ do: "layer", least: Number(event.target.value) });
  at("faded").oninput = (event) => change({ do: "layer", faded: Number(event.target.value) }, { together: true });
  at("forget").onclick = () => change({ do: "mark", forget: true });
}

