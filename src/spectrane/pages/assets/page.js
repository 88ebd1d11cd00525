"use strict";
(() => {
  const held = JSON.parse(document.getElementById("content").textContent);
  const at = (id) => document.getElementById(id);
  const map = at("map"), stage = at("stage"), divider = at("divider"), cross = at("cross");
  const W = held.columns, H = held.rows;
  const view = { x: 0, y: 0, k: 1 };
  let share = 0.5;

  /* The layers: pictures on one another, each with its controls. */
  stage.style.width = W + "px";
  stage.style.height = H + "px";
  at("title").textContent = held.title;
  const MODES = { normal: "normal", multiply: "multiply", screen: "screen", hue: "color" };
  const layers = held.layers.map((layer, number) => {
    const image = new Image();
    image.alt = layer.name;
    image.draggable = false;
    image.src = "data:image/png;base64," + layer.png;
    image.style.mixBlendMode = MODES[layer.mode] || "normal";
    stage.append(image);
    return { ...layer, number, image, planes: null };
  });
  let based = false;
  for (const layer of layers) {
    if (layer.base) {
      layer.visible = layer.visible && !based;
      based = based || layer.visible;
    }
  }
  const make = (tag, given = {}, ...children) => {
    const made = document.createElement(tag);
    for (const [name, value] of Object.entries(given)) {
      if (name in made) made[name] = value; else made.setAttribute(name, value);
    }
    made.append(...children);
    return made;
  };
  for (const layer of [...layers].reverse()) at("layers").append(controls(layer));

  function controls(layer) {
    const tick = make("input", {
      type: layer.base ? "radio" : "checkbox", name: layer.base ? "base" : "", checked: layer.visible,
      id: "tick" + layer.number,
    });
    const slider = make("input", {
      type: "range", min: 0, max: 100, value: Math.round(layer.opacity * 100),
      id: "fade" + layer.number,
    });
    slider.setAttribute("aria-label", "Opacity of " + layer.name);
    const told = make("output", {}, slider.value + " %");
    tick.addEventListener("change", () => {
      if (layer.base) for (const one of layers) if (one.base) one.visible = one === layer;
      if (!layer.base) layer.visible = tick.checked;
      show();
    });
    slider.addEventListener("input", () => {
      layer.opacity = slider.value / 100;
      told.textContent = slider.value + " %";
      show();
    });
    const box = make("div", { className: "layer" }, make("label", {}, tick, layer.name),
      make("div", { className: "fade" }, "Opacity", slider, told));
    if (layer.legend) box.append(legend(layer.legend));
    return box;
  }

  function legend(said) {
    const box = make("div", { className: "legend" });
    if (said.colors) {
      const strip = make("div", { className: "strip" });
      strip.style.background = "linear-gradient(to right, " + said.colors.join(",") + ")";
      const ticks = make("div", { className: "ticks" });
      for (const [place, text] of said.ticks) {
        const mark = make("span", {}, text);
        mark.style.left = Math.min(96, Math.max(4, place * 100)) + "%";
        ticks.append(mark);
      }
      box.append(said.title, strip, ticks);
    }
    const list = make("ul");
    for (const [color, label] of said.classes || []) {
      const patch = make("b");
      patch.style.background = color;
      list.append(make("li", {}, patch, label));
    }
    for (const [channel, text] of said.channels || []) {
      list.style.columns = 1;
      list.append(make("li", {}, channel + " = " + text));
    }
    if (list.children.length) box.append(list);
    return box;
  }

  /* What is shown: ticked layers, or two under a divider. */
  const swiping = at("swiping"), left = at("left"), right = at("right");
  for (const choice of [left, right]) {
    for (const layer of layers) choice.append(make("option", { value: layer.number }, layer.name));
  }
  right.value = String(layers.length - 1);
  for (const one of [swiping, left, right]) one.addEventListener("change", show);
  if (layers.length < 2) at("swipe").hidden = true;

  function show() {
    const on = swiping.checked && layers.length > 1;
    divider.hidden = !on;
    const edge = Math.min(W, Math.max(0, (map.clientWidth * share - view.x) / view.k));
    for (const layer of layers) {
      const style = layer.image.style;
      style.opacity = layer.opacity;
      style.clipPath = "none";
      style.display = layer.visible ? "block" : "none";
      if (!on) continue;
      const sides = [Number(left.value) === layer.number, Number(right.value) === layer.number];
      style.display = sides[0] || sides[1] ? "block" : "none";
      if (sides[0] && !sides[1]) style.clipPath = `inset(0 ${W - edge}px 0 0)`;
      if (sides[1] && !sides[0]) style.clipPath = `inset(0 0 0 ${edge}px)`;
    }
    divider.style.left = share * 100 + "%";
    divider.setAttribute("aria-valuenow", Math.round(share * 100));
  }

  /* Moving about. */
  function place() {
    stage.style.transform = `translate(${view.x}px, ${view.y}px) scale(${view.k})`;
    stage.classList.toggle("near", view.k * window.devicePixelRatio > 1.99);
    show();
    measure();
  }
  function whole() {
    view.k = Math.min(map.clientWidth / W, map.clientHeight / H) || 1;
    view.x = (map.clientWidth - W * view.k) / 2;
    view.y = (map.clientHeight - H * view.k) / 2;
    place();
  }
  function zoom(factor, x = map.clientWidth / 2, y = map.clientHeight / 2) {
    const k = Math.min(64, Math.max(0.02, view.k * factor));
    view.x = x - (x - view.x) * (k / view.k);
    view.y = y - (y - view.y) * (k / view.k);
    view.k = k;
    place();
  }
  at("in").addEventListener("click", () => zoom(1.6));
  at("out").addEventListener("click", () => zoom(1 / 1.6));
  at("all").addEventListener("click", whole);
  map.addEventListener("wheel", (event) => {
    event.preventDefault();
    const box = map.getBoundingClientRect();
    zoom(Math.exp(-event.deltaY / 300), event.clientX - box.left, event.clientY - box.top);
  }, { passive: false });
  const fingers = new Map();
  map.addEventListener("pointerdown", (event) => {
    if (event.target.closest("button") || event.target.closest("#divider")) return;
    map.setPointerCapture(event.pointerId);
    fingers.set(event.pointerId, [event.clientX, event.clientY]);
  });
  map.addEventListener("pointermove", (event) => {
    const box = map.getBoundingClientRect();
    read(event.clientX - box.left, event.clientY - box.top);
    const before = fingers.get(event.pointerId);
    if (!before) return;
    const now = [event.clientX, event.clientY];
    const other = [...fingers].find(([id]) => id !== event.pointerId);
    if (other) {
      const [ox, oy] = other[1];
      const was = Math.hypot(before[0] - ox, before[1] - oy), is = Math.hypot(now[0] - ox, now[1] - oy);
      zoom(is / (was || 1), (now[0] + ox) / 2 - box.left, (now[1] + oy) / 2 - box.top);
    } else {
      view.x += now[0] - before[0];
      view.y += now[1] - before[1];
      place();
    }
    fingers.set(event.pointerId, now);
  });
  for (const end of ["pointerup", "pointercancel"]) {
    map.addEventListener(end, (event) => fingers.delete(event.pointerId));
  }
  map.addEventListener("keydown", (event) => {
    if (event.target !== map) return;
    const step = event.shiftKey ? 200 : 40;
    const moves = { ArrowLeft: [step, 0], ArrowRight: [-step, 0], ArrowUp: [0, step],
      ArrowDown: [0, -step] };
    if (moves[event.key]) {
      view.x += moves[event.key][0];
      view.y += moves[event.key][1];
      place();
    } else if (event.key === "+" || event.key === "=") zoom(1.25);
    else if (event.key === "-") zoom(0.8);
    else if (event.key === "0") whole();
    else return;
    event.preventDefault();
    cross.hidden = false;
    cross.style.left = map.clientWidth / 2 + "px";
    cross.style.top = map.clientHeight / 2 + "px";
    read(map.clientWidth / 2, map.clientHeight / 2);
  });
  map.addEventListener("blur", () => { cross.hidden = true; });

  /* The divider. */
  function slide(x) {
    share = Math.min(1, Math.max(0, x / map.clientWidth));
    show();
  }
  divider.addEventListener("pointerdown", (event) => divider.setPointerCapture(event.pointerId));
  divider.addEventListener("pointermove", (event) => {
    if (event.buttons) slide(event.clientX - map.getBoundingClientRect().left);
  });
  divider.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -0.02, ArrowRight: 0.02 }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    slide((share + step) * map.clientWidth);
  });

  const seen = (layer) => layer.image.style.display !== "none";

  /* Reading: where, and what each layer holds there. */
  const digits = (value, count) => Number(value.toPrecision(count)).toString();
  function lonlat(column, row) {
    if (!held.lonlat) return null;
    const n = Math.round(Math.sqrt(held.lonlat[0].length));
    const u = column / W * (n - 1), v = row / H * (n - 1);
    const c = Math.min(n - 2, Math.max(0, Math.floor(u))), r = Math.min(n - 2, Math.max(0, Math.floor(v)));
    const s = u - c, t = v - r;
    return held.lonlat.map((nodes) =>
      (nodes[r * n + c] * (1 - s) + nodes[r * n + c + 1] * s) * (1 - t)
      + (nodes[(r + 1) * n + c] * (1 - s) + nodes[(r + 1) * n + c + 1] * s) * t);
  }
  function read(x, y) {
    const column = (x - view.x) / view.k, row = (y - view.y) / view.k;
    const rows = at("values");
    rows.replaceChildren();
    if (!(column >= 0 && column < W && row >= 0 && row < H)) {
      at("where").textContent = "Outside the map";
      return;
    }
    const [a, b, c, d, e, f] = held.affine;
    const east = a * column + b * row + c, north = d * column + e * row + f;
    const lines = [`${held.placed ? "x" : "column"} ${digits(east, 10)}   `
      + `${held.placed ? "y" : "row"} ${digits(north, 10)}`, held.crs];
    const degrees = lonlat(column, row);
    if (degrees) {
      degrees[0] = ((degrees[0] + 180) % 360 + 360) % 360 - 180;  // nodes run on beyond 180
      lines.push(`${Math.abs(degrees[1]).toFixed(5)}° ${degrees[1] < 0 ? "S" : "N"}   `
        + `${Math.abs(degrees[0]).toFixed(5)}° ${degrees[0] < 0 ? "W" : "E"}`);
    }
    at("where").textContent = lines.join("\n");
    const place = Math.floor(row) * W + Math.floor(column);
    for (const layer of [...layers].reverse()) {
      if (!seen(layer)) continue;
      for (const plane of layer.planes || []) {
        const value = plane.value(place);
        let text = Number.isNaN(value) ? "no data" : digits(value, 6) + (plane.unit ? " " + plane.unit : "");
        if (plane.labels && plane.labels[String(value)]) text = plane.labels[String(value)];
        rows.append(make("tr", {}, make("td", {}, layer.name), make("td", {}, plane.name),
          make("td", {}, text)));
      }
    }
  }
  /* Numbers come byte by byte of each together, so that they pack well. */
  async function unpack(band) {
    const bytes = Uint8Array.from(atob(band.data), (letter) => letter.charCodeAt(0));
    const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate-raw"));
    const split = new Uint8Array(await new Response(stream).arrayBuffer());
    const count = W * H, size = band.bytes, joined = new Uint8Array(count * size);
    for (let k = 0; k < size; k++) {
      for (let i = 0; i < count; i++) joined[i * size + k] = split[k * count + i];
    }
    if (size === 4) {
      const floats = new Float32Array(joined.buffer);
      return (place) => floats[place];
    }
    const whole = new Uint16Array(joined.buffer);
    return (place) => (whole[place] ? whole[place] * band.scale + band.offset : NaN);
  }
  (async () => {
    for (const layer of layers) {
      const planes = [];
      for (const band of layer.bands || []) {
        planes.push({ name: band.name, unit: band.unit, labels: band.labels,
          value: await unpack(band) });
      }
      layer.planes = planes;
    }
    document.body.dataset.ready = "yes";
  })();

  /* The scale bar: the longest round length that fits. */
  function measure() {
    at("bar").hidden = !held.metres;
    if (!held.metres) return;
    const per = held.metres / view.k, most = per * Math.min(200, map.clientWidth / 3);
    const power = 10 ** Math.floor(Math.log10(most));
    const length = [5, 2, 1].map((m) => m * power).find((m) => m <= most) || power;
    at("barline").style.width = length / per + "px";
    at("barlength").textContent = length >= 1000 ? digits(length / 1000, 3) + " km"
      : length >= 1 ? digits(length, 3) + " m" : digits(length * 100, 3) + " cm";
  }

  at("fold").addEventListener("click", () => {
    const folded = at("panel").classList.toggle("folded");
    at("fold").setAttribute("aria-expanded", String(!folded));
    requestAnimationFrame(whole);
  });
  window.addEventListener("resize", whole);
  whole();
})();
