// All of the lowest raster, small, with what is seen of it; a click goes there.
import { app, at, bytesOf, change } from "./app.js";
import { ask } from "./talk.js";

let shownAs = "", bounds = null, picture = null, waiting = 0;

export function showInset() {
  const { state } = app;
  if (state.kind === "volume") return;
  const [x0, y0, x1, y1] = state.bounds;
  const part = Math.max(state.size[1] * state.pixel / (x1 - x0), state.size[0] * state.pixel / (y1 - y0));
  at("inset").hidden = part > 0.85;
  if (part > 0.85) return;
  const key = JSON.stringify([state.address.panels, state.panel, state.order, state.address.nodata]);
  if (key !== shownAs) {
    clearTimeout(waiting);
    waiting = setTimeout(() => fetchInset(key), picture ? 400 : 0);
  }
  if (picture) draw();
}

async function fetchInset(key) {
  shownAs = key;
  const found = await ask("inset").catch(() => null);
  if (!found) return;
  bounds = found.bounds;
  picture = new ImageData(new Uint8ClampedArray(bytesOf(found.rgba)), found.columns, found.rows);
  draw();
}

function draw() {
  const canvas = at("inset"), { state } = app;
  canvas.width = picture.width;
  canvas.height = picture.height;
  const pen = canvas.getContext("2d");
  pen.putImageData(picture, 0, 0);
  const across = canvas.width / (bounds[2] - bounds[0]), down = canvas.height / (bounds[3] - bounds[1]);
  const wide = Math.max(3, state.size[1] * state.pixel * across);
  const high = Math.max(3, state.size[0] * state.pixel * down);
  const x = (state.center[0] - bounds[0]) * across - wide / 2;
  const y = (state.up ? bounds[3] - state.center[1] : state.center[1] - bounds[1]) * down - high / 2;
  for (const [ink, width] of [["#000", 3], ["#ffd23f", 1.5]]) {
    pen.strokeStyle = ink; pen.lineWidth = width;
    pen.strokeRect(x, y, wide, high);
  }
}

export function beginInset() {
  const canvas = at("inset");
  let held = false;
  const go = (event) => {
    const box = canvas.getBoundingClientRect(), { state } = app;
    const right = (event.clientX - box.left) / box.width, down = (event.clientY - box.top) / box.height;
    const y = state.up ? bounds[3] - down * (bounds[3] - bounds[1]) : bounds[1] + down * (bounds[3] - bounds[1]);
    change({ do: "place", x: bounds[0] + right * (bounds[2] - bounds[0]), y }, { together: held });
    held = true;
  };
  canvas.onpointerdown = (event) => { event.stopPropagation(); canvas.setPointerCapture(event.pointerId); go(event); };
  canvas.onpointermove = (event) => { event.stopPropagation(); if (held) go(event); };
  canvas.onpointerup = (event) => { event.stopPropagation(); held = false; };
}
