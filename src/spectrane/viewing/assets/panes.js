// The panels: frames as they come, moved at once while the next is drawn; what is drawn over them.
import { app } from "./app.js";
import { ask, askFrame, made } from "./talk.js";

const stage = document.getElementById("stage");
const narrow = matchMedia("(max-width: 760px)");
let number = 0, have = 0, busy = false, again = false, waiting = [];
let count = 1, swiped = false;
export const panes = [];
export const now = { before: false, split: 0.5, top: true, flash: null, drawing: null, cursor: null };

function pane(index) {
  const name = index ? `picture-${index + 1}` : "picture";
  const picture = made("canvas", { id: name, className: "picture" });
  const over = made("canvas", { id: index ? `over-${index + 1}` : "over", className: "over", "aria-hidden": "true" });
  const title = made("div", { className: "title" });
  const box = made("div", { className: "pane", "data-panel": index }, picture, over, title);
  return { box, picture, over, title };
}

// Lays out so many panels; returns whether that changed their size.
export function layOut(wanted, laidOver) {
  if (panes.length === wanted && swiped === laidOver) return false;
  count = wanted;
  swiped = laidOver;
  while (panes.length > wanted) panes.pop().box.remove();
  while (panes.length < wanted) {
    panes.push(pane(panes.length));
    stage.insertBefore(panes[panes.length - 1].box, document.getElementById("scale"));
  }
  stage.dataset.panels = swiped ? "swiped" : String(wanted);
  document.getElementById("divider").hidden = !swiped;
  showSplit();
  return true;
}

export function showSplit() {
  if (!panes[1]) return;
  const edge = `${(100 * now.split).toFixed(3)}%`;
  panes[1].box.style.clipPath = swiped ? `inset(0 0 0 ${edge})` : "";
  panes[1].box.style.visibility = swiped && !now.top ? "hidden" : "";
  const divider = document.getElementById("divider");
  divider.style.left = edge;
  divider.setAttribute("aria-valuenow", String(Math.round(100 * now.split)));
}

// The size of each panel, in whole pixels: all are of one size.
export function sizeOf() {
  const box = stage.getBoundingClientRect();
  const across = swiped || count === 1 ? 1 : narrow.matches && count === 2 ? 1 : 2;
  const down = swiped || count === 1 ? 1 : Math.ceil(count / across);
  return { columns: Math.max(16, Math.floor((box.width - 2 * (across - 1)) / across)),
    rows: Math.max(16, Math.floor((box.height - 2 * (down - 1)) / down)) };
}

// Asks for the pictures after some changes. While one is under way changes gather, and go together
// with the next, so that dragging never queues. Resolves to whether the changes could be made.
export function paint(...actions) {
  return new Promise((resolve) => {
    waiting.push({ actions, resolve });
    again = true;
    if (!busy) work();
  });
}

// Requests are numbered on from those of the page before.
export function countFrom(newest) { number = newest; }

async function work() {
  busy = true;
  const told = setTimeout(() => tellProgress(), 700);
  while (again) {
    const batch = waiting;
    waiting = [];
    again = false;
    number += 1;
    const query = { n: number, have, actions: JSON.stringify(batch.flatMap((one) => one.actions)) };
    let problems = [];
    try {
      const frame = await askFrame(now.before ? { ...query, before: "yes" } : query);
      if (frame) {
        problems = frame.facts.problems;
        put(frame);
      }
    } catch (error) { problems = [error.message]; stay(); }
    if (problems.length) stage.dispatchEvent(new CustomEvent("failed", { detail: problems.join("; ") }));
    for (const one of batch) one.resolve(!problems.length);
  }
  clearTimeout(told);
  busy = false;
  document.getElementById("working").hidden = true;
}

async function tellProgress() {
  const box = document.getElementById("working");
  while (busy) {
    box.hidden = false;
    const { share } = await ask("progress").catch(() => ({ share: null }));
    document.getElementById("share").textContent =
      share === null ? "working" : `reading, ${Math.round(100 * share)} %`;
    await new Promise((resolve) => { setTimeout(resolve, 250); });
  }
}

function stay() { // what was moved ahead goes back where it was drawn
  for (const one of panes) one.picture.style.transform = "";
  moved = { x: 0, y: 0, factor: 1 };
}

function put({ facts, panels }) {
  app.state = { ...facts.state, kind: app.kind };
  app.frame = facts;
  const resized = layOut(facts.panels.length, !!facts.state.swiped);
  have = facts.picture;
  panels.forEach((panel, index) => {
    if (panel.planes && !panel.planes.length && !panel.afresh) return;
    const { rows, columns } = panel, one = panes[index], { picture, over } = one;
    if (picture.width !== columns || picture.height !== rows) {
      picture.width = over.width = columns;
      picture.height = over.height = rows;
    }
    one.pixels = pixelsOf(panel, one.pixels);
    picture.getContext("2d").putImageData(new ImageData(one.pixels, columns, rows), 0, 0);
  });
  stay();
  document.body.dataset.painted = facts.n;
  stage.dispatchEvent(new CustomEvent("painted", { detail: { facts, resized } }));
}

// A panel's pixels: as they come, or those that are there with some channels changed: one of them,
// or red, green and blue alike.
function pixelsOf({ rows, columns, pixels, planes, afresh }, before) {
  if (pixels) return pixels;
  const size = 4 * rows * columns, all = afresh ? new Uint8ClampedArray(size).fill(255) : before;
  for (const { channels, plane } of planes) {
    const [first] = channels, grey = channels.length === 3;
    for (let from = 0, to = first; to < size; from += 1, to += 4) {
      all[to] = plane[from];
      if (grey) all[to + 1] = all[to + 2] = plane[from];
    }
  }
  return all;
}

// Shows what is there already at its new place until the next picture comes.
let moved = { x: 0, y: 0, factor: 1 };
export function moveNow({ columns = 0, rows = 0, factor = 1, column = 0, row = 0 }) {
  moved = { x: (moved.x - column) * factor + column + columns,
    y: (moved.y - row) * factor + row + rows, factor: moved.factor * factor };
  for (const { picture } of panes) {
    picture.style.transformOrigin = "0 0";
    picture.style.transform = `translate(${moved.x}px, ${moved.y}px) scale(${moved.factor})`;
  }
}

// Where a position on the map lies in a panel.
export function onPane([x, y], { width, height } = panes[0].over) {
  const { center, pixel, up } = app.state;
  return [(x - center[0]) / pixel + width / 2, -(y - center[1]) / pixel * (up ? 1 : -1) + height / 2];
}

// Which panel an event is in, and where: swiped ones lie on one another.
export function positionOf(event) {
  const hit = event.target.closest ? event.target.closest(".pane") : null;
  let index = hit ? Number(hit.dataset.panel) : app.state ? app.state.panel : 0;
  if (!panes[index]) index = 0;
  const box = panes[index].box.getBoundingClientRect();
  return { panel: index, column: event.clientX - box.left, row: event.clientY - box.top };
}
