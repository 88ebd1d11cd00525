// Channels: menus, presets, thumbnails, colour maps, adjustments.
import { active, app, at, look, setValue, tell } from "./app.js";
import { ask, drawn, made } from "./talk.js";

let fitted = "", listed = "", known = { key: "", levels: new Map() };

function keyOf(layer) { return JSON.stringify([app.state.active, layer.bands]); }

function pictureOf(levels) {
  const rows = levels.length, columns = levels[0].length;
  const picture = made("canvas", { width: columns, height: rows });
  const image = new ImageData(columns, rows);
  levels.flat().forEach((level, k) => image.data.set([level, level, level, level < 0 ? 0 : 255], 4 * k));
  picture.getContext("2d").putImageData(image, 0, 0);
  return picture;
}

function shownBands(layer) {
  const panel = app.frame && app.frame.panels[app.state.panel];
  const scales = panel && panel.layers[app.state.order.indexOf(app.state.active)];
  if (scales && scales.length) return scales.slice(0, 3).map((one) => one.band);
  return layer.bands.slice(0, 1).map((one) => one.name);
}

export function showBands(layer) {
  const names = shownBands(layer), single = names.length === 1;
  const box = at("bands");
  const labels = single ? ["grey"] : ["red", "green", "blue"];
  const key = JSON.stringify([labels, layer.bands, names]);
  if (box.dataset.key !== key) {
    box.dataset.key = key;
    box.replaceChildren(...labels.map((channel, index) => menuOf(layer, channel, names[index])),
      made("div", { className: "row" }, ...swaps(layer, names, single)));
    if (layer.bands.length > 1) showChosen(layer, names).catch((error) => tell(error.message));
  }
  at("presets").hidden = layer.bands.length < 3;
  at("thumbs").hidden = layer.bands.length < 2;
  at("maps").hidden = at("fitting").hidden = !single;
  showMaps(layer.look);
  if (single) fit(JSON.stringify([app.state.active, names]));
  if (at("thumbs").open) showThumbs();
}

// What the band in each menu looks like by itself.
async function showChosen(layer, names) {
  const key = keyOf(layer);
  if (known.key !== key) known = { key, levels: new Map() };
  const held = known.levels, missing = names.filter((name) => !held.has(name));
  if (missing.length) {
    missing.forEach((name) => held.set(name, null));
    try {
      const { bands } = await ask("thumbnails", { of: JSON.stringify(missing) });
      bands.forEach(({ band, levels }) => held.set(band, levels));
    } catch (error) { missing.forEach((name) => held.delete(name)); throw error; }
  }
  for (const label of at("bands").querySelectorAll("label")) {
    const levels = held.get(label.querySelector("select").value);
    label.querySelector("canvas")?.remove();
    if (levels) label.append(pictureOf(levels));
  }
}

export function showMaps({ colormap }) {
  for (const button of at("maps").children) {
    button.setAttribute("aria-pressed", String(button.dataset.map === colormap));
  }
}

function menuOf(layer, channel, name) {
  const menu = made("select", { "aria-label": `${channel} channel`, onchange: () => {
    const chosen = [...at("bands").querySelectorAll("select")].map((one) => one.value);
    look({ channels: chosen.length === 1 ? [chosen[0]] : chosen, colormap: null });
  } }, ...layer.bands.map((band) => made("option", { value: band.name },
    band.role && band.role !== band.name ? `${band.name} ${band.role}` : band.name)));
  menu.value = name;
  return made("label", {}, `${channel} `, menu);
}

function swaps(layer, names, single) {
  const toggle = made("button", { onclick: () => {
    if (single) look({ channels: layer.bands.slice(0, 3).map((one) => one.name), colormap: null });
    else look({ channels: [names[0] || layer.bands[0].name] });
  } }, single ? "three bands" : "one band");
  const swap = (a, b, text) => made("button", { onclick: () => {
    const turned = [...names];
    [turned[a], turned[b]] = [turned[b], turned[a]];
    look({ channels: turned });
  } }, text);
  if (single && layer.bands.length < 3) return [];
  return single ? [toggle] : [toggle, swap(0, 2, "swap red and blue"), swap(0, 1, "swap red and green")];
}

async function fit(key) { // the colour map that fits stands first, and why
  if (key === fitted) return;
  fitted = key;
  try {
    const { colormap, why } = await ask("fitting");
    at("fitting").textContent = colormap ? `${colormap} fits: ${why}` : why || "";
    const first = [...at("maps").children].find((one) => one.dataset.map === colormap);
    if (first) at("maps").prepend(first);
  } catch (error) { tell(error.message); }
}

async function showThumbs() {
  const layer = active(), key = keyOf(layer);
  if (key === listed) return;
  const { bands } = await ask("thumbnails");
  listed = key;
  at("thumb-list").replaceChildren(...bands.map(({ band, levels }) => {
    const put = (index, label, name) => made("button", { "aria-label": `${band} as ${name}`, onclick: () => {
      const names = [...shownBands(active())];
      while (names.length < 3) names.push(names[0]);
      names[index] = band;
      look({ channels: names, colormap: null });
    } }, label);
    return made("figure", {}, pictureOf(levels), made("figcaption", {}, band), put(0, "R", "red"), put(1, "G", "green"),
      put(2, "B", "blue"), made("button", { "aria-label": `${band} alone`,
        onclick: () => look({ channels: [band] }) }, "1"));
  }));
}

export function showAdjustments(given) {
  for (const input of at("adjust").querySelectorAll("input")) {
    const held = given[input.dataset.field];
    const value = Array.isArray(held) ? held[1] : held;
    setValue(input, value ?? Number(input.dataset.plain));
    input.nextElementSibling.textContent = Number(input.value).toFixed(2);
  }
}

// What the colour maps look like; asked when the first picture is there.
export async function showSwatches() {
  const colours = await ask("swatches");
  for (const button of at("maps").children) {
    const some = colours[button.dataset.map];
    const swatch = drawn("svg", { viewBox: `0 0 ${some.length} 1`, preserveAspectRatio: "none" });
    some.forEach((fill, x) => swatch.append(drawn("rect", { x, y: 0, width: 1.05, height: 1, fill })));
    button.prepend(swatch);
  }
}

export function beginBands() {
  at("presets").replaceChildren(...app.words.presets.map((one) => made("button", {
    onclick: () => look({ channels: one, colormap: null }) }, one)));
  at("maps").replaceChildren(...Object.entries(app.words.colormaps).map(([name, purpose]) => made("button", {
    title: `${name}: ${purpose}`, "data-map": name, "aria-label": `colour map ${name}`,
    onclick: () => look({ colormap: name }) }, name)));
  const ranges = [["brightness", -1, 1, 0], ["contrast", 0, 4, 1], ["saturation", 0, 3, 1],
    ["local_contrast", 0, 4, 0], ["sharpen", 0, 3, 0]];
  at("adjust").replaceChildren(...ranges.map(([field, min, max, plain]) => made("label", {},
    field.replace("_", " "), made("input", { type: "range", min, max, step: 0.02, value: plain,
      "aria-label": field.replace("_", " "), "data-field": field, "data-plain": plain,
      oninput: (event) => {
        const value = Number(event.target.value);
        const whole = field === "sharpen" ? (value ? [1, value] : null) : value;
        look({ [field]: whole }, { together: true });
      } }),
    made("span", {}, String(plain)))));
  at("thumbs").ontoggle = () => { if (at("thumbs").open) showThumbs().catch((error) => tell(error.message)); };
}
