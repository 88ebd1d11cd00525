// Limits on the histogram of what is in view, rules, curves, and a tone curve drawn by hand.
import { active, app, at, look, percent, setValue, shortly, tell } from "./app.js";
import { showDoubts } from "./reading.js";
import { ask, drawn, made } from "./talk.js";

const INKS = { red: "#b8423a", green: "#3d8a4f", blue: "#3c66ad", grey: "#6d757c" };
const REST = 160, LONG = 350; // ms: what takes longer than drawing waits until the hand rests, between turns of a wheel too
let counting = 0;

export function countSoon() {
  clearTimeout(counting);
  counting = setTimeout(async () => {
    try {
      app.counts = await ask("counts");
      showCounts();
      counting = setTimeout(() => showDoubts().catch((error) => tell(error.message)), LONG);
    } catch (error) { tell(error.message); }
  }, REST);
}

// Where no value is valid there are no limits yet: they begin at the ends.
export function limitsNow() {
  return app.counts.channels.map((one) => [one.low ?? one.start, one.high ?? one.stop]);
}

const said = (limit) => (limit === null ? "" : shortly(limit));

export function fixed(pairs) {
  const rules = pairs.map(([low, high]) => `fixed:${low},${high}`);
  return rules.length === 1 ? rules[0] : rules;
}

function windows(pairs) { // the same as centre and width
  const rules = pairs.map(([low, high]) => `window:${(low + high) / 2},${high - low}`);
  return rules.length === 1 ? rules[0] : rules;
}

function setLimit(index, end, value, how) {
  const pairs = limitsNow();
  pairs[index][end] = value;
  look({ limits: fixed(pairs), shared: null }, how);
  app.counts.channels[index][end ? "high" : "low"] = value;
}

function showCounts() {
  const box = at("channels-limits");
  if (box.contains(document.activeElement)) { moveMarks(box); return; }
  box.replaceChildren(...app.counts.channels.map(channelOf));
  moveMarks(box);
}

function channelOf(one, index) {
  const ink = INKS[one.channel] || INKS.grey;
  const most = Math.max(1, ...one.counts.slice(1, -1));
  const plot = drawn("svg", { viewBox: "0 0 160 54", preserveAspectRatio: "none", "aria-hidden": "true" });
  one.counts.forEach((count, bin) => {
    const high = Math.min(52, 52 * Math.sqrt(count / most));
    plot.append(drawn("rect", { x: bin, y: 54 - high, width: 1, height: high, fill: ink, opacity: 0.6 }));
  });
  plot.append(drawn("polyline", { class: "curve", fill: "none" }));
  for (const name of ["ghost-low", "ghost-high", "low", "high"]) {
    plot.append(drawn("line", { class: name, y1: 0, y2: 54, stroke: "currentColor" }));
  }
  const step = (one.stop - one.start) / 1000 || 1;
  const handle = (end, name) => made("input", { type: "range", min: one.start, max: one.stop, step,
    value: one[name] ?? [one.start, one.stop][end], "aria-label": `${name} ${one.channel}`,
    oninput: (event) => setLimit(index, end, Number(event.target.value), { together: true }) });
  const box = (end, name) => made("input", { type: "number", step: "any", value: said(one[name]),
    "aria-label": `${name} ${one.channel} value`,
    onchange: (event) => setLimit(index, end, Number(event.target.value)) });
  const unit = one.unit && one.unit !== "1" ? ` (${one.unit})` : "";
  return made("div", { className: "channel" },
    made("div", { className: "said" }, made("span", {}, `${one.channel}: ${one.band}${unit}`),
      made("span", { className: "cut" })), plot, handle(0, "low"), handle(1, "high"),
    made("div", { className: "numbers" }, box(0, "low"), box(1, "high")));
}

function moveMarks(box) {
  app.counts.channels.forEach((one, index) => {
    const held = box.children[index];
    if (!held) return;
    const x = (value) => 160 * (value - one.start) / (one.stop - one.start || 1);
    const place = (name, value) => {
      const line = held.querySelector(`line.${name}`);
      line.setAttribute("x1", x(value)); line.setAttribute("x2", x(value));
    };
    const ghost = app.ghost && app.ghost.length === app.counts.channels.length ? app.ghost[index] : null;
    ["low", "high"].forEach((name, end) => {
      const limit = one[name] ?? [one.start, one.stop][end];
      place(name, limit);
      place(`ghost-${name}`, ghost?.[end] ?? limit);
      setValue(held.querySelector(`input[type=number][aria-label^="${name} "]`), said(one[name]));
      setValue(held.querySelector(`input[type=range][aria-label^="${name} "]`), limit);
    });
    const points = one.curve.map((t, k) => `${160 * k / (one.curve.length - 1)},${53 - 52 * t}`);
    held.querySelector(".curve").setAttribute("points", points.join(" "));
    held.querySelector(".cut").textContent = one.low === null ? "no valid value"
      : `${percent(one.below)} below, ${percent(one.above)} above`;
  });
}

export function showLimits(given) {
  const rule = Array.isArray(given.limits) ? given.limits.join(" ") : given.limits || "auto";
  setValue(at("rule"), rule);
  at("from-view").checked = given.limits_from === "view";
  at("shared").checked = !!given.shared;
  at("invert").checked = !!given.invert;
  const curve = given.curve || "linear";
  const menu = at("curve");
  if (![...menu.options].some((one) => one.value === curve)) {
    menu.append(made("option", { value: curve }, curve.length > 24 ? `${curve.slice(0, 22)} …` : curve));
  }
  setValue(menu, curve);
  for (const button of at("rules").querySelectorAll("button")) {
    button.setAttribute("aria-pressed", String(button.textContent === rule));
  }
  const deviation = /^deviation:([\d.]+)$/.exec(rule), cut = /^percentile:([\d.]+),/.exec(rule);
  if (deviation) setValue(at("deviations"), deviation[1]);
  if (cut) setValue(at("cut"), cut[1]);
  showTones(curve);
}

// A tone curve drawn by hand: points on a square, moved by pointer or arrows.

let tones = null;

function tonesOf(curve) {
  if (!curve.startsWith("points:")) return null;
  return curve.slice(7).split(",").map((pair) => pair.split("/").map(Number));
}

function begun() {
  const one = app.counts && app.counts.channels[0];
  const shape = (u) => {
    if (!one) return u;
    const value = one.low + u * (one.high - one.low);
    const place = (value - one.start) / (one.stop - one.start || 1) * (one.curve.length - 1);
    const before = Math.max(0, Math.min(one.curve.length - 2, Math.floor(place)));
    return one.curve[before] + (place - before) * (one.curve[before + 1] - one.curve[before]);
  };
  return [0, 0.25, 0.5, 0.75, 1].map((u) => [u, u === 0 ? 0 : u === 1 ? 1 : Number(shape(u).toFixed(2))]);
}

function setTones(points, how) {
  tones = points;
  drawTones();
  const text = points.map(([u, t]) => `${Number(u.toFixed(4))}/${Number(t.toFixed(4))}`).join(",");
  look({ curve: `points:${text}` }, how);
}

function showTones(curve) {
  at("tone").hidden = !(tones = tonesOf(curve));
  at("by-hand").setAttribute("aria-pressed", String(!!tones));
  if (tones) drawTones();
}

function drawTones() {
  const plot = at("tones"), focused = [...plot.querySelectorAll("circle")].indexOf(document.activeElement);
  const spots = tones.map(([u, t], index) => drawn("circle", { cx: 100 * u, cy: 100 - 100 * t, r: 3.4,
    role: "slider", tabindex: 0, "aria-label": `tone point ${index + 1}`, "aria-valuenow": t.toFixed(3),
    "aria-valuetext": `${u.toFixed(3)} to ${t.toFixed(3)}`, "data-point": index, onkeydown: toneKey }));
  plot.replaceChildren(drawn("polyline", { fill: "none",
    points: tones.map(([u, t]) => `${100 * u},${100 - 100 * t}`).join(" ") }), ...spots);
  if (focused >= 0 && spots[focused]) spots[focused].focus();
}

function moveTone(index, u, t, how) {
  const least = index ? tones[index - 1][0] + 0.01 : 0;
  const most = index < tones.length - 1 ? tones[index + 1][0] - 0.01 : 1;
  const points = tones.map((one) => [...one]);
  points[index] = [Math.min(most, Math.max(least, u)), Math.min(1, Math.max(0, t))];
  setTones(points, how);
}

function toneKey(event) {
  const index = Number(event.target.dataset.point), [u, t] = tones[index];
  const step = { ArrowUp: [0, 0.02], ArrowDown: [0, -0.02], ArrowLeft: [-0.02, 0], ArrowRight: [0.02, 0] }[event.key];
  if (step) moveTone(index, u + step[0], t + step[1]);
  else if (event.key === "Delete" && tones.length > 2) setTones(tones.filter((_, k) => k !== index));
  else return;
  event.preventDefault();
  event.stopPropagation();
}

function beginTones() {
  const plot = at("tones");
  const spot = (event) => {
    const box = plot.getBoundingClientRect();
    return [(event.clientX - box.left) / box.width, 1 - (event.clientY - box.top) / box.height];
  };
  let held = null, first = false;
  plot.onpointerdown = (event) => {
    const [u, t] = spot(event);
    if (event.target.dataset.point) held = Number(event.target.dataset.point);
    else {
      held = tones.filter((one) => one[0] < u).length;
      setTones([...tones.slice(0, held), [u, t], ...tones.slice(held)]);
    }
    first = true;
    plot.setPointerCapture(event.pointerId);
  };
  plot.onpointermove = (event) => {
    if (held === null) return;
    moveTone(held, ...spot(event), { together: !first });
    first = false;
  };
  plot.onpointerup = () => { held = null; };
  plot.ondblclick = (event) => {
    const index = event.target.dataset.point;
    if (index && tones.length > 2) setTones(tones.filter((_, k) => k !== Number(index)));
  };
  at("by-hand").onclick = () => {
    if (tones) look({ curve: null });
    else { at("tone").hidden = false; setTones(begun()); }
  };
}

export function beginLimits() {
  at("rules").replaceChildren(...app.words.limits.map((rule) => made("button", {
    onclick: () => look({ limits: rule }) }, rule)),
  made("button", { onclick: () => look({ limits: fixed(limitsNow()) }) }, "fixed"),
  made("button", { onclick: () => look({ limits: windows(limitsNow()) }) }, "window"),
  made("label", {}, "σ ", made("input", { id: "deviations", type: "number", min: 0.5, step: 0.5, value: 2,
    "aria-label": "standard deviations",
    onchange: (event) => look({ limits: `deviation:${Number(event.target.value)}` }) })),
  made("label", {}, "cut % ", made("input", { id: "cut", type: "number", min: 0, max: 49, step: 0.5, value: 2,
    "aria-label": "percent cut at either end", onchange: (event) => look({
      limits: `percentile:${Number(event.target.value)},${100 - Number(event.target.value)}` }) })));
  at("rule").title = app.words.limit_forms;
  at("curve").replaceChildren(...app.words.curves.map((one) => made("option", { value: one }, one)));
  at("curve").title = app.words.curve_forms;
  at("from-view").onchange = (event) => look({ limits_from: event.target.checked ? "view" : null });
  at("shared").onchange = (event) => look({ shared: event.target.checked || null });
  at("invert").onchange = (event) => look({ invert: event.target.checked || null });
  at("curve").onchange = (event) => look({ curve: event.target.value });
  at("rule").onchange = (event) => {
    const rules = event.target.value.trim().split(/\s+/);
    look({ limits: rules.length === 1 ? rules[0] : rules });
  };
  beginTones();
}

// Shift and drag in the picture: to the right widens, up moves to higher values.
export function moveWindow(first, columns, rows, { columns: wide, rows: high }) {
  const pairs = first.map(([low, top]) => {
    const width = (top - low) * Math.exp(2 * columns / wide);
    const middle = (low + top) / 2 - rows / high * (top - low) * 2;
    return [middle - width / 2, middle + width / 2];
  });
  look({ limits: fixed(pairs) }, { together: true });
}

export const hasLook = () => !!(app.state && active() && active().look);
