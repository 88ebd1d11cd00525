// What the page leaves with: command, Python, files; and its address, which holds view and look.
import { active, app, at, change, tell } from "./app.js";
import { ask, post } from "./talk.js";

export function showLeaving() {
  const { state } = app;
  at("undo").disabled = !state.undo;
  at("redo").disabled = !state.redo;
  at("back").disabled = !state.back;
  at("forth").disabled = !state.forth;
  at("command").value = state.command || "A layer is no file: see the Python.";
  at("copy-command").disabled = !state.command;
  at("python").value = state.python;
  for (const button of document.querySelectorAll("[data-save]")) {
    button.disabled = !app.canSave;
    button.title = app.canSave ? "" : "begin with --save-to FOLDER to save from here";
  }
  at("keep").disabled = !active().file;
  keepAddress();
}

let keeping = 0;
function keepAddress() {
  clearTimeout(keeping);
  keeping = setTimeout(() => {
    history.replaceState(null, "", `#${encodeURIComponent(JSON.stringify(app.state.address))}`);
  }, 300);
}

// What the address says is to be shown; null where it says nothing, or nothing that can be read.
export function addressed() {
  if (location.hash.length < 2) return null;
  try { return JSON.parse(decodeURIComponent(location.hash.slice(1))); } catch { return null; }
}

async function copy(area) {
  try { await navigator.clipboard.writeText(area.value); } catch { area.select(); document.execCommand("copy"); }
  tell("copied");
}

// A text that stands nowhere on the page: it is told as well, for where nothing may be copied.
export async function copied(text) {
  try { await navigator.clipboard.writeText(text); tell(`copied: ${text}`); } catch { tell(`run: ${text}`); }
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

export function beginLeaving() {
  for (const name of ["undo", "redo", "back", "forth"]) at(name).onclick = () => change({ do: name });
  at("copy-command").onclick = () => copy(at("command"));
  at("copy-python").onclick = () => copy(at("python"));
  for (const button of document.querySelectorAll("[data-save]")) {
    button.onclick = () => save({ what: button.dataset.save, bits: Number(button.dataset.bits || 8) });
  }
  at("keep").onclick = keep;
  at("end").onclick = async () => { await post("end", {}); tell("ended; this page can be closed"); };
}
