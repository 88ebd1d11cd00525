// The picture: frames as they come, moved at once while the next is drawn; numbers in large pixels.
import { ask, askFrame } from "./talk.js";

const stage = document.getElementById("stage");
const picture = document.getElementById("picture");
const over = document.getElementById("over");
let number = 0, busy = false, again = false;
let waiting = [];
export const now = { facts: null, painted: 0, state: null, before: false };

export function sizeOf() {
  const box = stage.getBoundingClientRect();
  return { columns: Math.max(16, Math.round(box.width)), rows: Math.max(16, Math.round(box.height)) };
}

// Asks for the picture after some changes. While one is under way changes gather, and go together
// with the next, so that dragging never queues. Resolves to whether the changes could be made.
export function paint(...actions) {
  return new Promise((resolve) => {
    waiting.push({ actions, resolve });
    again = true;
    if (!busy) work();
  });
}

async function work() {
  busy = true;
  while (again) {
    const batch = waiting;
    waiting = [];
    again = false;
    number += 1;
    const query = { n: number, actions: JSON.stringify(batch.flatMap((one) => one.actions)) };
    let problems = [];
    try {
      const frame = await askFrame(now.before ? { ...query, before: "yes" } : query);
      if (frame) {
        problems = frame.facts.problems;
        now.state = frame.facts.state;
        put(frame);
      }
    } catch (error) { problems = [error.message]; }
    if (problems.length) stage.dispatchEvent(new CustomEvent("failed", { detail: problems.join("; ") }));
    for (const one of batch) one.resolve(!problems.length);
  }
  busy = false;
}

function put({ facts, pixels }) {
  picture.width = over.width = facts.columns;
  picture.height = over.height = facts.rows;
  const pen = picture.getContext("2d");
  pen.putImageData(new ImageData(pixels, facts.columns, facts.rows), 0, 0);
  picture.style.transform = "";
  moved = { x: 0, y: 0, factor: 1 };
  now.facts = facts;
  now.painted = facts.n;
  document.body.dataset.painted = facts.n;
  stage.dispatchEvent(new CustomEvent("painted", { detail: facts }));
  drawOver();
}

// Shows what is there already at its new place until the next picture comes.
let moved = { x: 0, y: 0, factor: 1 };
export function moveNow({ columns = 0, rows = 0, factor = 1, column = 0, row = 0 }) {
  moved = { x: (moved.x - column) * factor + column + columns,
    y: (moved.y - row) * factor + row + rows, factor: moved.factor * factor };
  picture.style.transformOrigin = "0 0";
  picture.style.transform = `translate(${moved.x}px, ${moved.y}px) scale(${moved.factor})`;
}

async function drawOver() {
  const state = now.state;
  if (!state) return;
  const pen = over.getContext("2d");
  pen.clearRect(0, 0, over.width, over.height);
  drawMarks(pen, state);
  const side = state.own_pixel / state.pixel;
  if (side < 16) { document.body.dataset.numbers = "no"; return; }
  const { numbers } = await ask("numbers");
  if (now.state !== state) return;
  pen.clearRect(0, 0, over.width, over.height);
  pen.strokeStyle = "rgba(255,255,255,.28)";
  for (const [x, y] of numbers) pen.strokeRect(x - side / 2, y - side / 2, side, side);
  if (side >= 48) {
    pen.font = `${Math.min(15, side / 4.4)}px ui-monospace, monospace`;
    pen.textAlign = "center";
    pen.textBaseline = "middle";
    pen.lineWidth = 3;
    for (const [x, y, value] of numbers) {
      const text = value === null ? "no-data" : `${Number(value.toPrecision(6))}`;
      pen.strokeStyle = "rgba(0,0,0,.75)";
      pen.strokeText(text, x, y);
      pen.fillStyle = "#fff";
      pen.fillText(text, x, y);
    }
    document.body.dataset.numbers = JSON.stringify(numbers.slice(0, 400));
  }
  drawMarks(pen, state);
}

function drawMarks(pen, state) {
  const up = state.up ? 1 : -1;
  state.marks.forEach(([x, y], index) => {
    const column = (x - state.center[0]) / state.pixel + over.width / 2;
    const row = -(y - state.center[1]) / state.pixel * up + over.height / 2;
    pen.lineWidth = 2;
    for (const [ink, wide] of [["#000", 4], ["#ffd23f", 2]]) {
      pen.strokeStyle = ink; pen.lineWidth = wide;
      pen.beginPath(); pen.arc(column, row, 6, 0, 7); pen.stroke();
    }
    pen.fillStyle = "#ffd23f";
    pen.font = "12px system-ui, sans-serif";
    pen.fillText(String(index + 1), column + 9, row - 7);
  });
}
