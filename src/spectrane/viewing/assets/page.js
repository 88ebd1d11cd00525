// The page: gestures become changes, changes come back as a state, a state is shown.
import { active, app, at, change, isVolume, tell } from "./app.js";
import { beginBands, showAdjustments, showBands, showMaps, showSwatches } from "./bands.js";
import { beginGestures } from "./gestures.js";
import { beginInset, showInset } from "./inset.js";
import { beginLayers, showLayers } from "./layers.js";
import { addressed, beginLeaving, showLeaving } from "./leaving.js";
import { beginLimits, countSoon, showLimits } from "./limits.js";
import { drawOver, readNumbers } from "./over.js";
import { countFrom, layOut, paint, panes, sizeOf } from "./panes.js";
import { beginReading, showMarks, showOutlines } from "./reading.js";
import { ask } from "./talk.js";
import { beginVolume, showVolume } from "./volume.js";

const stage = at("stage");

function show() {
  const { state } = app, layer = active();
  if (state.told) tell(state.told);
  showBar();
  showLeaving();
  showLayers();
  if (isVolume()) {
    if (layer.look) { showLimits(layer.look); showMaps(layer.look); showAdjustments(layer.look); }
    return;
  }
  panes.forEach(({ box, title }, index) => {
    box.classList.toggle("active", index === state.panel && state.panels > 1);
    title.textContent = state.panels > 1 ? state.titles[index] : "";
  });
  if (layer.look) { showLimits(layer.look); showBands(layer); showAdjustments(layer.look); }
}

function showBar() {
  const { bar } = app.state;
  at("scale").hidden = !bar;
  if (!bar) return;
  at("scale-line").style.width = `${bar.length}px`;
  at("scale-text").textContent = bar.text;
}

stage.addEventListener("painted", ({ detail }) => {
  show();
  showMarks().catch((error) => tell(error.message));
  if (isVolume()) showVolume();
  else {
    drawOver();
    showInset();
    readNumbers().catch((error) => tell(error.message));
    showOutlines();
  }
  countSoon();
  if (detail.resized) paint({ do: "size", ...sizeOf() });
});
stage.addEventListener("failed", (event) => tell(event.detail));

function begin() {
  beginLimits();
  beginBands();
  beginLayers();
  beginReading();
  beginLeaving();
  if (app.kind === "volume") beginVolume();
  else { beginInset(); beginGestures(); }
  at("going").onsubmit = async (event) => {
    event.preventDefault();
    if (await change({ do: "goto", text: at("goto").value })) stage.focus();
  };
  at("stop").onclick = () => ask("stop");
}

async function start() {
  try {
    const first = await ask("state", { words: "yes" });
    app.words = first.words;
    app.kind = first.kind;
    app.canSave = first.can_save;
    document.body.dataset.kind = first.kind;
    const kept = addressed();
    const panels = kept && (kept.panels.length || kept.panels);
    layOut(panels || first.panels, !!(kept ? kept.swiped : first.swiped));
    countFrom(first.newest);
    const from = kept ? [{ do: "restore", ...kept }] : first.undo ? [] : [{ do: "whole", together: true }];
    const shown = paint({ do: "size", ...sizeOf() }, ...from); // asked first: it is drawn meanwhile
    begin();
    await shown;
    document.body.dataset.ready = "yes";
    await showSwatches();
  } catch (error) { tell(error.message); }
}
new ResizeObserver(() => { if (app.state) paint({ do: "size", ...sizeOf() }); }).observe(stage);
start();
