// The page: gestures become changes, changes come back as a state, a state is shown.
import { ask, drawn, made, post } from "./talk.js";
import { moveNow, now, paint, sizeOf } from "./picture.js";

const at = (id) => document.getElementById(id);
const stage = at("stage");
let state = null, words = null, counts = null, counting = 0;

function tell(text) { at("told").textContent = text || ""; }

function change(action, { together = false } = {}) {
  if (action.do === "pan" || action.do === "zoom") moveNow(action);
  return paint({ ...action, together });
}

const look = (fields, how) => change({ do: "look", ...fields }, how);
const active = () => state.layers[state.active];

// What is shown beside the picture.

function show() {
  const layer = active();
  at("undo").disabled = !state.undo;
  at("redo").disabled = !state.redo;
  at("command").value = state.command || "Several layers, or one that is no file: see the Python.";
  at("copy-command").disabled = !state.command;
  at("python").value = state.python;
  at("save-picture").disabled = at("save-look").disabled = !state.can_save && !canSave;
  at("keep").disabled = !layer.file;
  if (state.told) tell(state.told);
  showBar();
  showLayers();
  if (layer.look) showLook(layer);
}
let canSave = false;

function showBar() {
  at("scale").hidden = !state.bar;
  if (!state.bar) return;
  at("scale-line").style.width = `${state.bar.length}px`;
  at("scale-text").textContent = state.bar.text;
}

function setValue(input, value) { if (document.activeElement !== input) input.value = value; }

function showLook(layer) {
  const given = layer.look;
  setValue(at("rule"), Array.isArray(given.limits) ? given.limits.join(" ") : given.limits || "auto");
  at("from-view").checked = given.limits_from === "view";
  at("shared").checked = !!given.shared;
  at("invert").checked = !!given.invert;
  setValue(at("curve"), given.curve || "linear");
  for (const button of at("rules").children) {
    button.setAttribute("aria-pressed", String(button.textContent === (given.limits || "auto")));
  }
  showBands(layer);
  for (const input of at("adjust").querySelectorAll("input")) {
    setValue(input, given[input.dataset.field] ?? Number(input.dataset.plain));
    input.nextElementSibling.textContent = Number(input.value).toFixed(2);
  }
}

function shownBands(layer) {
  const scales = now.facts && now.facts.layers[state.order.indexOf(state.active)];
  if (scales && scales.length) return scales.slice(0, 3).map((one) => one.band);
  return layer.bands.slice(0, 1).map((one) => one.name);
}

function showBands(layer) {
  const names = shownBands(layer), single = names.length === 1;
  const box = at("bands");
  const labels = single ? ["grey"] : ["red", "green", "blue"];
  const key = JSON.stringify([labels, layer.bands, names]);
  if (box.dataset.key !== key) {
    box.dataset.key = key;
    box.replaceChildren(...labels.map((channel, index) => {
      const menu = made("select", { "aria-label": `${channel} channel`, onchange: () => {
        const chosen = [...box.querySelectorAll("select")].map((one) => one.value);
        look({ channels: chosen.length === 1 ? [chosen[0]] : chosen, colormap: null });
      } }, ...layer.bands.map((band) => made("option", { value: band.name },
        band.role && band.role !== band.name ? `${band.name} ${band.role}` : band.name)));
      menu.value = names[index];
      return made("label", {}, `${channel} `, menu);
    }), made("button", { onclick: () => {
      const band = layer.bands[0].name;
      if (single && layer.bands.length > 2) {
        look({ channels: layer.bands.slice(0, 3).map((one) => one.name), colormap: null });
      } else look({ channels: [names[0] || band] });
    } }, single ? "three bands" : "one band"));
  }
  at("maps").hidden = !single;
  const chosen = layer.look.colormap;
  for (const button of at("maps").children) {
    button.setAttribute("aria-pressed", String(button.title.startsWith(`${chosen}:`)));
  }
}

function showLayers() {
  const list = at("layers");
  const rows = [...state.order].reverse().map((index) => {
    const layer = state.layers[index];
    const place = state.order.indexOf(index);
    const swap = (other) => {
      const order = [...state.order];
      [order[place], order[other]] = [order[other], order[place]];
      change({ do: "order", order });
    };
    const name = made("button", { className: "name", title: layer.file || layer.title,
      onclick: () => change({ do: "active", layer: index }) }, layer.title);
    return made("li", { "aria-current": String(index === state.active) },
      made("div", { className: "row" },
        made("input", { type: "checkbox", checked: layer.visible, "aria-label": `show ${layer.title}`,
          onchange: (event) => change({ do: "layer", layer: index, visible: event.target.checked }) }),
        name,
        made("button", { "aria-label": `${layer.title} up`, disabled: place === state.order.length - 1,
          onclick: () => swap(place + 1) }, "↑"),
        made("button", { "aria-label": `${layer.title} down`, disabled: place === 0,
          onclick: () => swap(place - 1) }, "↓")),
      made("div", { className: "row" },
        made("input", { type: "range", min: 0, max: 1, step: 0.01, value: layer.opacity,
          "aria-label": `opacity ${layer.title}`, oninput: (event) => change(
            { do: "layer", layer: index, opacity: Number(event.target.value) }, { together: true }) }),
        layer.look ? made("select", { "aria-label": `blend ${layer.title}`, value: layer.mode,
          onchange: (event) => change({ do: "layer", layer: index, mode: event.target.value }) },
        ...words.modes.map((mode) => made("option", { value: mode, selected: mode === layer.mode }, mode)))
          : ""),
      layer.look && index === state.active ? made("label", { className: "row" }, "where ",
        made("input", { type: "text", value: layer.threshold || "", "aria-label": `threshold ${layer.title}`,
          placeholder: "an expression, such as nir > 0.3", spellcheck: false,
          onchange: (event) => change({ do: "layer", layer: index, threshold: event.target.value }) })) : "");
  });
  if (!list.contains(document.activeElement) || document.activeElement.type !== "range") {
    list.replaceChildren(...rows);
  }
}

// Limits on the histogram of what is in view.

function countSoon() {
  clearTimeout(counting);
  counting = setTimeout(async () => {
    try { counts = await ask("counts"); showCounts(); } catch (error) { tell(error.message); }
  }, 60);
}

const INKS = { red: "#b8423a", green: "#3d8a4f", blue: "#3c66ad", grey: "#6d757c" };

function limitsNow() { return counts.channels.map((one) => [one.low, one.high]); }

function setLimit(index, end, value, how) {
  const pairs = limitsNow();
  pairs[index][end] = value;
  counts.channels[index][end ? "high" : "low"] = value;
  const rules = pairs.map(([low, high]) => `fixed:${low},${high}`);
  look({ limits: rules.length === 1 ? rules[0] : rules }, how);
}

function showCounts() {
  const box = at("channels-limits");
  if (box.contains(document.activeElement)) { moveMarks(box); return; }
  box.replaceChildren(...counts.channels.map((one, index) => {
    const ink = INKS[one.channel] || INKS.grey;
    const most = Math.max(1, ...one.counts.slice(1, -1));
    const plot = drawn("svg", { viewBox: "0 0 160 54", preserveAspectRatio: "none", "aria-hidden": "true" });
    one.counts.forEach((count, bin) => {
      const high = Math.min(52, 52 * Math.sqrt(count / most));
      plot.append(drawn("rect", { x: bin, y: 54 - high, width: 1, height: high, fill: ink, opacity: 0.75 }));
    });
    for (const end of ["low", "high"]) {
      plot.append(drawn("line", { class: end, y1: 0, y2: 54, stroke: "currentColor", "stroke-width": 1 }));
    }
    const step = (one.stop - one.start) / 1000 || 1;
    const handle = (end, name) => made("input", { type: "range", min: one.start, max: one.stop, step,
      value: one[name], "aria-label": `${name} ${one.channel}`,
      oninput: (event) => setLimit(index, end, Number(event.target.value), { together: true }) });
    const box = (end, name) => made("input", { type: "number", step: "any", value: shortly(one[name]),
      "aria-label": `${name} ${one.channel} value`,
      onchange: (event) => setLimit(index, end, Number(event.target.value)) });
    const cut = `${percent(one.below)} below, ${percent(one.above)} above`;
    const unit = one.unit && one.unit !== "1" ? ` (${one.unit})` : "";
    return made("div", { className: "channel" },
      made("div", { className: "said" }, made("span", {}, `${one.channel}: ${one.band}${unit}`),
        made("span", { className: "cut" }, cut)), plot, handle(0, "low"), handle(1, "high"),
      made("div", { className: "numbers" }, box(0, "low"), box(1, "high")));
  }));
  moveMarks(box);
}

function moveMarks(box) {
  counts.channels.forEach((one, index) => {
    const held = box.children[index];
    if (!held) return;
    for (const name of ["low", "high"]) {
      const x = 160 * (one[name] - one.start) / (one.stop - one.start || 1);
      const line = held.querySelector(`line.${name}`);
      line.setAttribute("x1", x); line.setAttribute("x2", x);
      setValue(held.querySelector(`input[type=number][aria-label^="${name} "]`), shortly(one[name]));
    }
    held.querySelector(".cut").textContent = `${percent(one.below)} below, ${percent(one.above)} above`;
  });
}

const shortly = (value) => Number(Number(value).toPrecision(6));
const percent = (share) => `${(100 * share).toFixed(share < 0.1 ? 1 : 0)} %`;

// Reading values.

let reading = false, unread = null;
async function read(position) {
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

function showValues(found) {
  const place = state.placed ? `  x ${shortly10(found.x)}, y ${shortly10(found.y)}` : "";
  const degrees = found.lon === undefined ? "" : `  ${found.lon.toFixed(6)}, ${found.lat.toFixed(6)}`;
  at("where").textContent = `row ${found.row}, column ${found.column}${place}${degrees}`;
  const head = ["band", "stored", "physical", "unit", "level"];
  const rows = found.rows.map((one) => made("tr", {}, ...[one.band, one.why || one.stored,
    one.physical === null ? "" : shortly(one.physical), one.unit && one.unit !== "1" ? one.unit : "",
    one.level ?? ""].map((cell) => made("td", {}, String(cell ?? "")))));
  at("values").replaceChildren(found.rows.length
    ? made("table", {}, made("tr", {}, ...head.map((one) => made("th", {}, one))), ...rows)
    : made("p", {}, "outside the rasters"));
}
const shortly10 = (value) => Number(Number(value).toPrecision(10));

const LINES = ["#1f6f78", "#b8423a", "#6f52a0", "#a3761b", "#3d8a4f", "#3c66ad"];
let markedAs = "";
async function showMarks() {
  const key = JSON.stringify([state.marks, state.active]);
  if (key === markedAs) return;
  markedAs = key;
  const box = at("marks");
  at("forget").disabled = !state.marks.length;
  if (!state.marks.length) { box.replaceChildren(); return; }
  const { marks, bands, wavelengths } = await ask("spectra");
  const known = wavelengths.every((one) => one !== null);
  const along = known ? wavelengths : bands.map((_, index) => index + 1);
  const values = marks.flat().filter((one) => one !== null);
  if (!values.length) { box.replaceChildren(made("p", {}, "no values under the marks")); return; }
  const [left, right] = [Math.min(...along), Math.max(...along)];
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const plot = drawn("svg", { viewBox: "0 0 290 130" });
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
  const said = [[8, 126, "start", known ? `${left} nm` : bands[0]], [8, 10, "start", String(shortly(high))],
    [282, 126, "end", known ? `${right} nm` : bands[bands.length - 1]], [282, 10, "end",
      `${marks.length} marked, from ${shortly(low)}`]];
  for (const [left_, top, anchor, text] of said) {
    const one = drawn("text", { x: left_, y: top, "text-anchor": anchor });
    one.textContent = text;
    plot.append(one);
  }
  box.replaceChildren(plot);
}

function showWarnings(facts) {
  const box = at("warnings");
  box.hidden = !facts.warnings.length;
  box.replaceChildren(...facts.warnings.map((text) => {
    const cure = [];
    if (/saturated|nearly black|nearly white|nearly one grey|limits/.test(text)) {
      cure.push(made("button", { onclick: () => look({ limits: "percentile:2,98" }) }, "limits percentile:2,98"));
    }
    return made("p", {}, text, " ", ...cure);
  }));
}

// Gestures.

function positionOf(event) {
  const box = stage.getBoundingClientRect();
  return { column: event.clientX - box.left, row: event.clientY - box.top };
}

stage.addEventListener("wheel", (event) => {
  event.preventDefault();
  const factor = Math.exp(-event.deltaY * (event.deltaMode ? 0.05 : 0.0018));
  change({ do: "zoom", factor, ...positionOf(event) }, { together: true });
}, { passive: false });

let drag = null;
stage.addEventListener("pointerdown", (event) => {
  if (event.button) return;
  stage.focus();
  stage.setPointerCapture(event.pointerId);
  drag = { ...positionOf(event), moved: false, shift: event.shiftKey, first: null };
  if (drag.shift && counts) drag.first = limitsNow();
});
stage.addEventListener("pointermove", (event) => {
  const here = positionOf(event);
  if (!drag) { read(here); return; }
  const columns = here.column - drag.column, rows = here.row - drag.row;
  if (!drag.moved && Math.hypot(columns, rows) < 3) return;
  if (drag.first) { moveWindow(columns, rows); drag.moved = true; return; }
  change({ do: "pan", columns, rows }, { together: drag.moved });
  Object.assign(drag, here, { moved: true });
});
stage.addEventListener("pointerup", (event) => {
  if (drag && !drag.moved) change({ do: "mark", ...positionOf(event) });
  drag = null;
});

// Shift and drag: to the right widens, up moves to higher values.
function moveWindow(columns, rows) {
  const { columns: wide, rows: high } = sizeOf();
  const rules = drag.first.map(([low, top]) => {
    const width = (top - low) * Math.exp(2 * columns / wide);
    const middle = (low + top) / 2 - rows / high * (top - low) * 2;
    return `fixed:${middle - width / 2},${middle + width / 2}`;
  });
  look({ limits: rules.length === 1 ? rules[0] : rules }, { together: true });
}

const KEYS = {
  "+": () => change({ do: "zoom", factor: 1.5 }), "=": () => change({ do: "zoom", factor: 1.5 }),
  "-": () => change({ do: "zoom", factor: 1 / 1.5 }), 0: () => change({ do: "whole" }),
  1: () => change({ do: "one" }), u: () => change({ do: "undo" }), r: () => change({ do: "redo" }),
  m: () => change({ do: "mark", column: sizeOf().columns / 2, row: sizeOf().rows / 2 }),
  ArrowLeft: () => change({ do: "pan", columns: 80, rows: 0 }),
  ArrowRight: () => change({ do: "pan", columns: -80, rows: 0 }),
  ArrowUp: () => change({ do: "pan", columns: 0, rows: 80 }),
  ArrowDown: () => change({ do: "pan", columns: 0, rows: -80 }),
  PageUp: () => change({ do: "active", layer: (state.active + 1) % state.layers.length }),
  PageDown: () => change({ do: "active",
    layer: (state.active + state.layers.length - 1) % state.layers.length }),
};
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (/^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName)) return;
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (key === "b" && !event.repeat) { now.before = true; paint(); }
  else if (key in KEYS) { event.preventDefault(); KEYS[key](); }
});
document.addEventListener("keyup", (event) => {
  if (event.key.toLowerCase() === "b" && now.before) { now.before = false; paint(); }
});

stage.addEventListener("painted", (event) => {
  state = now.state;
  show();
  showWarnings(event.detail);
  showMarks();
  countSoon();
});
stage.addEventListener("failed", (event) => tell(event.detail));

// What is there to choose from.

function begin() {
  at("rules").replaceChildren(...words.limits.map((rule) => made("button", {
    onclick: () => look({ limits: rule }) }, rule)));
  at("curve").replaceChildren(...words.curves.map((one) => made("option", { value: one }, one)));
  at("presets").replaceChildren(...words.presets.map((one) => made("button", {
    onclick: () => look({ channels: one, colormap: null }) }, one)));
  at("maps").replaceChildren(...Object.entries(words.colormaps).map(([name, colors]) => {
    const swatch = drawn("svg", { viewBox: `0 0 ${colors.length} 1`, preserveAspectRatio: "none" });
    colors.forEach((color, x) => swatch.append(drawn("rect", { x, y: 0, width: 1.05, height: 1, fill: color })));
    return made("button", { title: `${name}: ${words.purposes[name] || ""}`, "aria-label": `colour map ${name}`,
      onclick: () => look({ colormap: name }) }, swatch, name);
  }));
  const ranges = [["brightness", -1, 1, 0], ["contrast", 0, 4, 1], ["saturation", 0, 3, 1],
    ["local_contrast", 0, 4, 0]];
  at("adjust").replaceChildren(...ranges.map(([field, min, max, plain]) => made("label", {},
    field.replace("_", " "), made("input", { type: "range", min, max, step: 0.02, value: plain,
      "aria-label": field.replace("_", " "), "data-field": field, "data-plain": plain,
      oninput: (event) => look({ [field]: Number(event.target.value) }, { together: true }) }),
    made("span", {}, String(plain)))));
  at("from-view").onchange = (event) => look({ limits_from: event.target.checked ? "view" : null });
  at("shared").onchange = (event) => look({ shared: event.target.checked || null });
  at("invert").onchange = (event) => look({ invert: event.target.checked || null });
  at("curve").onchange = (event) => look({ curve: event.target.value });
  at("rule").onchange = (event) => {
    const rules = event.target.value.trim().split(/\s+/);
    look({ limits: rules.length === 1 ? rules[0] : rules });
  };
  at("going").onsubmit = async (event) => {
    event.preventDefault();
    if (await change({ do: "goto", text: at("goto").value })) stage.focus();
  };
  at("forget").onclick = () => change({ do: "mark" });
  at("undo").onclick = () => change({ do: "undo" });
  at("redo").onclick = () => change({ do: "redo" });
  at("copy-command").onclick = () => copy(at("command"));
  at("copy-python").onclick = () => copy(at("python"));
  at("save-picture").onclick = () => save({ what: "picture" });
  at("save-look").onclick = () => save({ what: "look" });
  at("keep").onclick = keep;
  at("end").onclick = async () => { await post("end", {}); tell("ended; this page can be closed"); };
}

async function copy(area) {
  try { await navigator.clipboard.writeText(area.value); } catch { area.select(); document.execCommand("copy"); }
  tell("copied");
}
async function save(said) {
  try { tell(`saved ${(await post("save", said)).saved}`); } catch (error) { tell(error.message); }
}
async function keep() {
  try {
    const { text } = await ask("changes");
    if (!confirm(`Keep this with the file?\n\n${text}`)) return;
    tell(`kept in ${(await post("keep", { agreed: true })).saved}`);
  } catch (error) { tell(error.message); }
}

async function start() {
  try {
    const first = await ask("state", { words: "yes" });
    words = first.words;
    canSave = first.can_save;
    begin();
    await paint({ do: "size", ...sizeOf() }, ...(first.undo ? [] : [{ do: "whole" }]));
    document.body.dataset.ready = "yes";
  } catch (error) { tell(error.message); }
}
new ResizeObserver(() => { if (state) paint({ do: "size", ...sizeOf() }); }).observe(stage);
start();
