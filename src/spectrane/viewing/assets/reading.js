// Values under the pointer, marks and their spectra, outlines drawn by hand, and warnings.
import { app, at, change, shortly, tell } from "./app.js";
import { copied } from "./leaving.js";
import { drawOver } from "./over.js";
import { now } from "./panes.js";
import { ask, drawn, made } from "./talk.js";

let reading = false, unread = null;

export async function read(position) {
  unread = position;
  if (reading) return;
  reading = true;
  while (unread) {
    const { column, row } = unread;
    unread = null;
    try { showValues(await ask("values", { column, row })); } catch (error) { tell(error.message); }
  }
  reading = false;
}

const shortly10 = (value) => Number(Number(value).toPrecision(10));

function showValues(found) {
  const place = app.state.placed ? `  x ${shortly10(found.x)}, y ${shortly10(found.y)}` : "";
  const degrees = found.lon === undefined ? "" : `  ${found.lon.toFixed(6)}, ${found.lat.toFixed(6)}`;
  const drawnOnes = found.rows.filter((one) => one.level !== null && one.level !== undefined).slice(-3)
    .map((one) => `${one.band} ${one.why || shortly(one.physical)}`).join("  ");
  at("where").textContent = `row ${found.row}, column ${found.column}${place}${degrees}  ${drawnOnes}`;
  const many = new Set(found.rows.map((one) => one.layer)).size > 1;
  const head = ["band", "stored", "physical", "unit", "level"];
  let last = null;
  const rows = found.rows.flatMap((one) => {
    const cells = [one.band, one.why && one.why !== "masked" ? one.why : one.stored,
      one.physical === null ? "" : shortly(one.physical), one.unit && one.unit !== "1" ? one.unit : "",
      one.why === "masked" ? "masked" : one.level ?? ""];
    const row = made("tr", {}, ...cells.map((cell) => made("td", {}, String(cell ?? ""))));
    const named = many && one.layer !== last ? [made("tr", {}, made("th", { colSpan: 5 }, one.layer))] : [];
    last = one.layer;
    return [...named, row];
  });
  at("values").replaceChildren(found.rows.length
    ? made("table", {}, made("tr", {}, ...head.map((one) => made("th", {}, one))), ...rows)
    : made("p", {}, "outside the rasters"));
}

const LINES = ["#1f6f78", "#b8423a", "#6f52a0", "#a3761b", "#3d8a4f", "#3c66ad"];
let markedAs = "", outlinedAs = "";

// A line per mark: band by band, or over time where the bands are frames with times.
export async function showMarks() {
  const { state } = app;
  const key = JSON.stringify([state.marks, state.active, state.address.nodata]);
  if (key === markedAs) return;
  markedAs = key;
  const box = at("marks");
  at("forget").disabled = !state.marks.length && !state.outlines.length;
  if (!state.marks.length) { box.replaceChildren(); return; }
  const { marks, bands, wavelengths, times, nearest } = await ask("spectra");
  const timed = times && times.every((one) => one !== null) && new Set(times).size > 1;
  const known = wavelengths && wavelengths.every((one) => one !== null);
  const along = timed ? times : known ? wavelengths : bands.map((_, index) => index + 1);
  const values = marks.flat().filter((one) => one !== null);
  if (!values.length) { box.replaceChildren(made("p", {}, "no values under the marks")); return; }
  const ends = timed ? [`${shortly(Math.min(...along))} s`, `${shortly(Math.max(...along))} s`]
    : known ? [`${Math.min(...along)} nm`, `${Math.max(...along)} nm`] : [bands[0], bands[bands.length - 1]];
  box.replaceChildren(linesOf(marks, along, ends, values), ...marks.flatMap((_, index) => {
    const near = (nearest && nearest[index]) || [];
    if (!near.length) return [];
    const said = near.map(([name, angle]) => `${name} ${angle.toFixed(1)}°`).join(", ");
    return [made("p", { className: "near" }, `${index + 1}: nearest ${said}`)];
  }));
}

function linesOf(marks, along, ends, values) {
  const [left, right] = [Math.min(...along), Math.max(...along)];
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const plot = drawn("svg", { viewBox: "0 0 290 130", role: "img", "aria-label": "Marks, band by band" });
  const x = (value) => 8 + 274 * (right > left ? (value - left) / (right - left) : 0.5);
  const y = (value) => 112 - 98 * (high > low ? (value - low) / (high - low) : 0.5);
  marks.forEach((one, index) => {
    const points = one.map((value, band) => (value === null ? null : `${x(along[band])},${y(value)}`));
    const ink = LINES[index % LINES.length];
    plot.append(drawn("polyline", { points: points.filter(Boolean).join(" "), fill: "none", stroke: ink,
      "stroke-width": 1.6 }));
    for (const point of points.filter(Boolean)) {
      const [cx, cy] = point.split(",");
      plot.append(drawn("circle", { cx, cy, r: 2.2, fill: ink }));
    }
  });
  const said = [[8, 126, "start", ends[0]], [8, 10, "start", String(shortly(high))],
    [282, 126, "end", ends[1]], [282, 10, "end", `${marks.length} marked, from ${shortly(low)}`]];
  for (const [left_, top, anchor, text] of said) {
    const one = drawn("text", { x: left_, y: top, "text-anchor": anchor });
    one.textContent = text;
    plot.append(one);
  }
  return plot;
}

// Statistics within outlines, and the histogram of the last one.
export async function showOutlines() {
  const { state } = app;
  const key = JSON.stringify([state.outlines, state.active, state.address.nodata]);
  if (key === outlinedAs) return;
  outlinedAs = key;
  const box = at("outlined");
  if (!state.outlines.length) { box.replaceChildren(); return; }
  try {
    const { rows, counts } = await ask("outlines");
    const head = ["", "n", "mean", "σ", "min", "max"];
    box.replaceChildren(made("table", {}, made("tr", {}, ...head.map((one) => made("th", {}, one))),
      ...rows.map((one) => made("tr", {}, ...(one.note ? [one.zone, one.note]
        : [`${one.zone.replace("outline ", "")} ${one.frame}`, one.count,
          ...["mean", "std", "min", "max"].map((name) => (one[name] === null ? "" : Number(one[name].toPrecision(4))))])
        .map((cell) => made("td", {}, String(cell)))))), counts ? barsOf(counts) : "");
  } catch (error) { tell(error.message); }
}

function barsOf({ band, counts, start, stop }) {
  const plot = drawn("svg", { viewBox: `0 0 ${counts.length} 40`, preserveAspectRatio: "none", role: "img",
    "aria-label": `Histogram of ${band} within the last outline` });
  const most = Math.max(1, ...counts);
  counts.forEach((count, x) => plot.append(drawn("rect", { x, y: 40 - 38 * Math.sqrt(count / most), width: 1,
    height: 38 * Math.sqrt(count / most), fill: LINES[0] })));
  return made("div", {}, plot, made("div", { className: "said" }, made("span", {}, String(shortly(start))),
    made("span", {}, band), made("span", {}, String(shortly(stop)))));
}

// Drawing an outline: corners by clicks, or by M in the middle; Enter ends it, Escape forgets it.
export function drawing(on) {
  now.drawing = on ? [] : null;
  at("draw").setAttribute("aria-pressed", String(!!on));
  tell(on ? "click its corners; Enter ends it, Escape forgets it" : "");
  drawOver();
}

export function corner({ column, row }) {
  now.drawing.push({ column, row });
  drawOver();
}

export function endOutline() {
  const points = now.drawing.map(({ column, row }) => [column, row]);
  drawing(false);
  return change({ do: "outline", points });
}

// What is to be looked at twice, each with what cures it.
const dismissed = new Set();

export async function showDoubts() {
  showAgain((await ask("doubts")).doubts);
}

function showAgain(found) {
  const box = at("warnings"), doubts = found.filter((one) => !dismissed.has(one.text));
  box.hidden = !doubts.length;
  box.replaceChildren(...doubts.map(({ text, cures }) => made("p", {}, text, " ",
    ...cures.map(({ label, change: what, copy }) => made("button", {
      onclick: () => copy ? copied(copy) : change(what) }, label)),
    made("button", { className: "quiet", "aria-label": `dismiss: ${text.slice(0, 60)}`,
      onclick: () => { dismissed.add(text); showAgain(found); } }, "seen"))));
}

export function beginReading() {
  at("forget").onclick = () => change({ do: "mark" });
  at("draw").onclick = () => { drawing(!now.drawing); at("stage").focus(); };
}

