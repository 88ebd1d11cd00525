// Pointers, wheel and keys on pictures of rasters.
import { app, at, bytesOf, change } from "./app.js";
import { hasLook, limitsNow, moveWindow } from "./limits.js";
import { drawOver } from "./over.js";
import { now, paint, positionOf, showSplit, sizeOf } from "./panes.js";
import { corner, drawing, endOutline, read } from "./reading.js";
import { ask, made } from "./talk.js";

const stage = at("stage");
const pointers = new Map();
let drag = null, pinch = null, wheeled = -Infinity;
const GESTURE = 500; // ms: wheel steps that follow one another sooner are one gesture

function press(event) {
  if (event.button || event.target.closest("#inset, #divider, #working, button, input")) return;
  stage.focus();
  stage.setPointerCapture(event.pointerId);
  const here = positionOf(event);
  pointers.set(event.pointerId, here);
  if (pointers.size === 2) { pinch = spanOf(); drag = null; return; }
  drag = { ...here, moved: false, first: event.shiftKey && app.counts && hasLook() ? limitsNow() : null };
}

function spanOf() {
  const [a, b] = [...pointers.values()];
  return { distance: Math.hypot(a.column - b.column, a.row - b.row) || 1,
    column: (a.column + b.column) / 2, row: (a.row + b.row) / 2 };
}

// While a pointer is held, its position is counted in the panel where it went down.
function heldPosition(event) {
  const box = document.querySelectorAll(".pane")[pointers.get(event.pointerId).panel].getBoundingClientRect();
  return { column: event.clientX - box.left, row: event.clientY - box.top };
}

function move(event) {
  if (!pointers.has(event.pointerId)) {
    now.cursor = positionOf(event);
    read(now.cursor);
    if (app.state && app.state.panels > 1) drawOver();
    return;
  }
  const here = heldPosition(event);
  pointers.set(event.pointerId, { ...pointers.get(event.pointerId), ...here });
  if (pinch && pointers.size === 2) { pinchTo(spanOf()); return; }
  if (!drag) return;
  const columns = here.column - drag.column, rows = here.row - drag.row;
  if (!drag.moved && Math.hypot(columns, rows) < 3) return;
  if (drag.first) { moveWindow(drag.first, columns, rows, sizeOf()); drag.moved = true; return; }
  change({ do: "pan", columns, rows }, { together: drag.moved });
  Object.assign(drag, here, { moved: true });
}

function pinchTo(span) {
  const factor = span.distance / pinch.distance;
  change({ do: "pan", columns: span.column - pinch.column, rows: span.row - pinch.row },
    { together: !!pinch.going });
  change({ do: "zoom", factor, column: span.column, row: span.row }, { together: true });
  pinch = { ...span, going: true };
}

function release(event) {
  const held = pointers.get(event.pointerId);
  pointers.delete(event.pointerId);
  if (pinch) { if (!pointers.size) pinch = null; drag = null; return; }
  if (drag && !drag.moved && held) click(held);
  drag = null;
}

function click({ panel, column, row }) {
  if (now.drawing) { corner({ column, row }); return; }
  if (app.state.panels > 1 && panel !== app.state.panel && !app.state.swiped) { change({ do: "panel", panel }); return; }
  change({ do: "mark", column, row });
}

const middle = () => ({ column: sizeOf().columns / 2, row: sizeOf().rows / 2 });
const KEYS = {
  "+": () => change({ do: "zoom", factor: 1.5 }), "=": () => change({ do: "zoom", factor: 1.5 }),
  "-": () => change({ do: "zoom", factor: 1 / 1.5 }), 0: () => change({ do: "whole" }),
  1: () => change({ do: "one" }), u: () => change({ do: "undo" }), r: () => change({ do: "redo" }),
  "[": () => change({ do: "back" }), "]": () => change({ do: "forth" }),
  m: () => (now.drawing ? corner(middle()) : change({ do: "mark", ...middle() })),
  o: () => drawing(!now.drawing),
  p: () => app.state.panels > 1 && change({ do: "panel", panel: (app.state.panel + 1) % app.state.panels }),
  f: flicker, g: () => at("goto").focus(),
  Enter: () => now.drawing && endOutline(), Escape: escape,
  ArrowLeft: () => change({ do: "pan", columns: 80, rows: 0 }),
  ArrowRight: () => change({ do: "pan", columns: -80, rows: 0 }),
  ArrowUp: () => change({ do: "pan", columns: 0, rows: 80 }),
  ArrowDown: () => change({ do: "pan", columns: 0, rows: -80 }),
  PageUp: () => change({ do: "active", layer: (app.state.active + 1) % app.state.layers.length }),
  PageDown: () => change({ do: "active",
    layer: (app.state.active + app.state.layers.length - 1) % app.state.layers.length }),
};

function escape() {
  if (now.drawing) drawing(false);
  else if (!at("working").hidden) ask("stop");
}

// Two pictures at one place: two panels on one another, else the active layer off and on.
async function flicker() {
  const { state } = app;
  if (state.panels > 1) {
    if (!state.swiped) await change({ do: "panels", count: 2, swiped: true });
    now.split = 0;
    now.top = !now.top;
    showSplit();
    return;
  }
  change({ do: "layer", visible: !state.layers[state.active].visible });
}

// While C is held, what is cut off flashes: red above, blue below.
async function flash(on) {
  if (!on) {
    if (now.flash) clearInterval(now.flash.timer);
    now.flash = null;
    drawOver();
    return;
  }
  const { rows, columns, way } = await ask("beyond");
  const image = new ImageData(columns || 1, rows || 1);
  bytesOf(way).forEach((one, k) => {
    if (one) image.data.set(one === 1 ? [255, 59, 48, 255] : [42, 127, 255, 255], 4 * k);
  });
  const picture = made("canvas", { width: image.width, height: image.height });
  picture.getContext("2d").putImageData(image, 0, 0);
  if (now.flash !== "asked") return;
  const still = matchMedia("(prefers-reduced-motion: reduce)").matches;
  now.flash = { picture, on: true, timer: still ? 0 : setInterval(() => {
    now.flash.on = !now.flash.on;
    drawOver();
  }, 350) };
  document.body.dataset.flash = String(bytesOf(way).filter((one) => one).length);
  drawOver();
}

// Whether what has the focus has its own use for a key.
function takesKey(target, key) {
  if (/^(TEXTAREA|SELECT)$/.test(target.tagName) || /^(text|number)$/.test(target.type)) return true;
  if (target.type === "range") return /^(Arrow|Page)/.test(key);
  return key === "Enter" && /^(BUTTON|SUMMARY)$/.test(target.tagName) && !now.drawing;
}

function keyDown(event) {
  if (event.ctrlKey || event.metaKey || event.altKey || !app.state) return;
  if (takesKey(event.target, event.key)) return;
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (key === "b" && !event.repeat) { now.before = true; paint(); }
  else if (key === "c" && !event.repeat) { now.flash = "asked"; flash(true).catch(() => { now.flash = null; }); }
  else if (key in KEYS) { event.preventDefault(); KEYS[key](); }
}

function keyUp(event) {
  const key = event.key.toLowerCase();
  if (key === "b" && now.before) { now.before = false; paint(); }
  if (key === "c" && now.flash) flash(false);
}

// The line between two pictures that lie on one another.
function beginDivider() {
  const divider = at("divider");
  let held = false;
  const to = (share) => { now.split = Math.min(1, Math.max(0, share)); now.top = true; showSplit(); };
  divider.onpointerdown = (event) => { held = true; divider.setPointerCapture(event.pointerId); event.stopPropagation(); };
  divider.onpointermove = (event) => {
    const box = stage.getBoundingClientRect();
    if (held) to((event.clientX - box.left) / box.width);
  };
  divider.onpointerup = () => { held = false; };
  divider.onkeydown = (event) => {
    const step = { ArrowLeft: -0.02, ArrowRight: 0.02, Home: -1, End: 1 }[event.key];
    if (!step) return;
    to(now.split + step);
    event.preventDefault();
    event.stopPropagation();
  };
}

export function beginGestures() {
  stage.addEventListener("pointerdown", press);
  stage.addEventListener("pointermove", move);
  stage.addEventListener("pointerup", release);
  stage.addEventListener("pointercancel", (event) => { pointers.delete(event.pointerId); drag = pinch = null; });
  stage.addEventListener("dblclick", () => now.drawing && endOutline());
  stage.addEventListener("wheel", (event) => {
    event.preventDefault();
    const factor = Math.exp(-event.deltaY * (event.deltaMode ? 0.05 : event.ctrlKey ? 0.008 : 0.0018));
    const { column, row } = positionOf(event);
    change({ do: "zoom", factor, column, row }, { together: event.timeStamp - wheeled < GESTURE });
    wheeled = event.timeStamp;
  }, { passive: false });
  document.addEventListener("keydown", keyDown);
  document.addEventListener("keyup", keyUp);
  beginDivider();
}
