// What is drawn over rasters: marks, outlines, the edges and numbers of pixels, what is cut off.
import { app } from "./app.js";
import { now, onPane, panes } from "./panes.js";
import { ask } from "./talk.js";

const MARK = "#ffd23f";
let numbers = null, numbersOf = null;

export function drawOver() {
  if (!app.state || app.state.kind === "volume") return;
  panes.forEach(({ over }, index) => {
    const pen = over.getContext("2d");
    pen.clearRect(0, 0, over.width, over.height);
    if (now.flash && now.flash.on && index === app.state.panel) pen.drawImage(now.flash.picture, 0, 0);
    if (index === app.state.panel) drawNumbers(pen);
    drawOutlines(pen);
    drawMarks(pen);
    if (now.cursor && now.cursor.panel !== index && panes.length > 1) drawCursor(pen, now.cursor);
  });
}

export async function readNumbers() {
  const side = app.state.own_pixel / app.state.pixel;
  if (side < 16) { numbers = null; document.body.dataset.numbers = "no"; return; }
  const state = app.state;
  const found = (await ask("numbers")).numbers;
  if (app.state !== state) return;
  numbers = found;
  numbersOf = state;
  document.body.dataset.numbers = side >= 48 ? JSON.stringify(numbers.slice(0, 400)) : "no";
  drawOver();
}

function drawNumbers(pen) {
  if (!numbers || numbersOf !== app.state) return;
  const side = app.state.own_pixel / app.state.pixel;
  pen.lineWidth = 1;
  pen.strokeStyle = "rgba(255,255,255,.28)";
  for (const [x, y] of numbers) pen.strokeRect(x - side / 2, y - side / 2, side, side);
  if (side < 48) return;
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
}

function twice(pen, path, wide = 2) { // dark below, so that a line is seen on any ground
  for (const [ink, width] of [["rgba(0,0,0,.8)", wide + 2], [MARK, wide]]) {
    pen.strokeStyle = ink; pen.lineWidth = width;
    pen.beginPath(); path(); pen.stroke();
  }
}

function drawMarks(pen) {
  pen.textAlign = "start";
  pen.textBaseline = "alphabetic";
  app.state.marks.forEach((at, index) => {
    const [column, row] = onPane(at, pen.canvas);
    twice(pen, () => pen.arc(column, row, 6, 0, 7));
    pen.fillStyle = MARK;
    pen.font = "12px system-ui, sans-serif";
    pen.fillText(String(index + 1), column + 9, row - 7);
  });
}

function drawOutlines(pen) {
  app.state.outlines.forEach((ring, index) => {
    const corners = ring.map((at) => onPane(at, pen.canvas));
    twice(pen, () => { corners.forEach(([x, y]) => pen.lineTo(x, y)); pen.closePath(); });
    pen.fillStyle = MARK;
    pen.font = "12px system-ui, sans-serif";
    pen.fillText(`outline ${index + 1}`, corners[0][0] + 6, corners[0][1] - 6);
  });
  if (!now.drawing) return;
  twice(pen, () => now.drawing.forEach(({ column, row }) => pen.lineTo(column, row)));
  for (const { column, row } of now.drawing) twice(pen, () => pen.arc(column, row, 3, 0, 7));
}

function drawCursor(pen, { column, row }) {
  twice(pen, () => {
    pen.moveTo(column - 9, row); pen.lineTo(column + 9, row);
    pen.moveTo(column, row - 9); pen.lineTo(column, row + 9);
  }, 1);
}
