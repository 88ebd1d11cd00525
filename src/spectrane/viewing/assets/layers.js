// Layers, their legends and thresholds, and the panels they are shown in.
import { app, at, change, shortly, tell } from "./app.js";
import { ask, drawn, made } from "./talk.js";

let spread = null, spreadOf = "";

export function showLayers() {
  const { state } = app;
  const list = at("layers");
  showPanels();
  if (list.contains(document.activeElement) && /range|number|text/.test(document.activeElement.type)) return;
  const focused = document.activeElement && list.contains(document.activeElement)
    ? document.activeElement.getAttribute("aria-label") : null;
  list.replaceChildren(...[...state.order].reverse().map((index) => rowOf(index)));
  if (focused) {
    const again = [...list.querySelectorAll("[aria-label]")]
      .find((one) => one.getAttribute("aria-label") === focused);
    if (again) again.focus();
  }
}

function rowOf(index) {
  const { state, words } = app;
  const layer = state.layers[index], place = state.order.indexOf(index);
  const moveTo = (other) => {
    const order = state.order.filter((one) => one !== index);
    order.splice(other, 0, index);
    change({ do: "order", order });
  };
  const say = (fields, how) => change({ do: "layer", layer: index, ...fields }, how);
  const mode = made("select", { "aria-label": `blend ${layer.title}`,
    onchange: (event) => say({ mode: event.target.value }) },
  ...words.modes.map((one) => made("option", { value: one, selected: one === layer.mode }, one)));
  return made("li", { "aria-current": String(index === state.active), draggable: state.kind !== "volume",
    ondragstart: (event) => event.dataTransfer.setData("text/plain", `layer ${index}`),
    ondragover: (event) => event.preventDefault(),
    ondrop: (event) => {
      const moved = /^layer (\d+)$/.exec(event.dataTransfer.getData("text/plain"));
      if (!moved) return;
      event.preventDefault();
      const order = state.order.filter((one) => one !== Number(moved[1]));
      order.splice(place, 0, Number(moved[1]));
      change({ do: "order", order });
    } },
  made("div", { className: "row" },
    made("input", { type: "checkbox", checked: layer.visible, "aria-label": `show ${layer.title}`,
      onchange: (event) => say({ visible: event.target.checked }) }),
    made("button", { className: "name", title: layer.file || layer.title,
      onclick: () => change({ do: "active", layer: index }) }, layer.title),
    ...(state.kind === "volume" ? [] : [
      made("button", { "aria-label": `${layer.title} up`, disabled: place === state.order.length - 1,
        onclick: () => moveTo(place + 1) }, "↑"),
      made("button", { "aria-label": `${layer.title} down`, disabled: place === 0,
        onclick: () => moveTo(place - 1) }, "↓")])),
  made("div", { className: "row" },
    made("input", { type: "range", min: 0, max: 1, step: 0.01, value: layer.opacity,
      "aria-label": `opacity ${layer.title}`,
      oninput: (event) => say({ opacity: Number(event.target.value) }, { together: true }) }),
    layer.look && state.kind !== "volume" ? mode : ""),
  legendOf(index, layer, place), index === state.active && layer.look ? thresholdOf(layer, say) : "");
}

function legendOf(index, layer, place) {
  const panel = app.frame && app.frame.panels[app.state.kind === "volume" ? 0 : app.state.panel];
  const legend = panel && panel.legends && panel.legends[place];
  if (!legend) return "";
  if (legend.classes) {
    return made("div", { className: "classes" }, ...legend.classes.map(([color, label]) => made("span", {},
      drawnSwatch(color), label)));
  }
  const bar = drawn("svg", { viewBox: `0 0 ${legend.colors.length} 1`, preserveAspectRatio: "none" });
  legend.colors.forEach((color, x) => bar.append(drawn("rect", { x, y: 0, width: 1.05, height: 1, fill: color })));
  const end = (name) => made("input", { type: "number", step: "any", value: shortly(legend[name]),
    "aria-label": `legend ${name} ${layer.title}`, onchange: (event) => {
      const ends = { ...legend, [name]: Number(event.target.value) };
      change({ do: "look", layer: index, limits: `fixed:${ends.low},${ends.high}` });
    } });
  return made("div", { className: "legend" }, bar, made("div", { className: "numbers" }, end("low"),
    made("span", {}, legend.title), end("high")));
}

function drawnSwatch(color) {
  const swatch = drawn("svg", { viewBox: "0 0 1 1", class: "chip" });
  swatch.append(drawn("rect", { width: 1, height: 1, fill: color }));
  return swatch;
}

// Where a layer is shown: an expression; one that compares with a number has a slider for it.
function thresholdOf(layer, say) {
  const text = made("input", { type: "text", value: layer.threshold || "", spellcheck: false,
    "aria-label": `threshold ${layer.title}`, placeholder: layer.test || "an expression, such as nir > 0.3",
    onchange: (event) => say({ threshold: event.target.value }) });
  const box = made("div", {}, made("label", { className: "row" }, "where ", text));
  if (!layer.tested) return box;
  const [before, value] = layer.tested;
  const left = before.replace(/[<>]=?\s*$/, "");
  seek(left);
  const known = spreadOf === left && spread && spread.low !== undefined ? spread : null;
  const set = (to, how) => say({ threshold: `${before}${Number(to.toPrecision(7))}` }, how);
  const low = Math.min(value, known ? known.low : 0), high = Math.max(value, known ? known.high : 2 * value);
  box.append(made("div", { className: "row" },
    made("input", { type: "range", min: low, max: high, step: (high - low) / 500 || 1, value,
      "aria-label": `threshold value ${layer.title}`,
      oninput: (event) => set(Number(event.target.value), { together: true }) }),
    made("button", { "aria-label": "threshold times 10", onclick: () => set(value * 10) }, "×10"),
    made("button", { "aria-label": "threshold divided by 10", onclick: () => set(value / 10) }, "÷10")));
  return box;
}

async function seek(left) {
  if (left === spreadOf) return;
  spreadOf = left;
  try { spread = await ask("spread", { text: left }); showLayers(); } catch { spread = null; }
}

// Panels, and what each shows.
function showPanels() {
  const { state } = app;
  if (state.kind === "volume") return;
  for (const button of at("panel-counts").children) {
    const pressed = state.swiped ? button.value === "swipe" : button.value === String(state.panels);
    button.setAttribute("aria-pressed", String(pressed));
  }
  at("alike").hidden = state.panels < 2;
  const box = at("panel-files");
  const key = JSON.stringify([state.titles, state.panel, state.layers.map((one) => [one.title, one.visible])]);
  if (box.dataset.key === key || box.contains(document.activeElement)) return;
  box.dataset.key = key;
  box.replaceChildren(...(state.panels < 2 ? [] : state.titles.map((title, panel) => made("label",
    { className: "row" }, made("button", { "aria-pressed": String(panel === state.panel),
      "aria-label": `change panel ${panel + 1}`, onclick: () => change({ do: "panel", panel }) },
    `panel ${panel + 1}`), made("select", { "aria-label": `panel ${panel + 1} shows`,
      onchange: (event) => event.target.value !== "" && change({ do: "panel", panel,
        only: Number(event.target.value) }) },
    made("option", { value: "" }, title), ...state.layers.map((layer, index) => made("option",
      { value: index }, `${layer.title} alone`)))))));
}

export function beginLayers() {
  const ways = [["1", "one"], ["2", "two"], ["4", "four"], ["swipe", "swipe"]];
  at("panel-counts").replaceChildren(...ways.map(([value, text]) => made("button", { value,
    "aria-label": value === "swipe" ? "two panels with a swipe divider" : `${text} panel${value === "1" ? "" : "s"}`,
    onclick: () => change({ do: "panels", count: value === "swipe" ? 2 : Number(value),
      swiped: value === "swipe" }) }, text)));
  at("alike").onclick = async () => { if (await change({ do: "alike" })) tell("one look, one pair of limits for all"); };
}
