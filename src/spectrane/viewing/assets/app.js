// What all parts of the page share: the state as it was told last, and how changes are asked for.
import { moveNow, paint } from "./panes.js";

export const app = { state: null, words: null, frame: null, counts: null, canSave: false, ghost: null };

export const at = (id) => document.getElementById(id);
export const active = () => app.state.layers[app.state.active];
export const isVolume = () => app.state && app.state.kind === "volume";

// What is too long for its line stands above it, whole, until the next thing is told.
export function tell(text) {
  const told = at("told");
  told.classList.remove("long");
  told.textContent = text || "";
  told.classList.toggle("long", told.scrollWidth > told.clientWidth);
}

export function change(action, { together = false } = {}) {
  if (!isVolume() && (action.do === "pan" || action.do === "zoom")) moveNow(action);
  return paint({ ...action, together });
}

let dragging = false;
export function look(fields, how = {}) {
  if ("limits" in fields && !dragging && app.counts) {
    app.ghost = app.counts.channels.map((one) => [one.low, one.high]);
  }
  dragging = !!how.together;
  return change({ do: "look", ...fields }, how);
}
document.addEventListener("pointerup", () => { dragging = false; });

export function setValue(input, value) {
  if (document.activeElement !== input) input.value = value;
}

export const shortly = (value) => Number(Number(value).toPrecision(6));
export const percent = (share) => (share > 0 && share < 0.0005 ? "under 0.1 %"
  : `${(100 * share).toFixed(share < 0.1 ? 1 : 0)} %`);

export function bytesOf(text) {
  return Uint8Array.from(atob(text), (one) => one.charCodeAt(0));
}
