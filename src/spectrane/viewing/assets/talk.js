// Asking the server: everything is GET but what writes. Nothing it says is taken for HTML.
const token = new URLSearchParams(location.search).get("token");
const headers = token ? { "X-Spectrane-Token": token } : {};

let asking = 0;

// How many answers are under way, until they are read and taken, stands at the page, for whoever
// waits for it to rest.
function underWay(asks) {
  return async (...given) => {
    document.body.dataset.asking = (asking += 1);
    try { return await asks(...given); } finally {
      setTimeout(() => { document.body.dataset.asking = (asking -= 1); }, 0);
    }
  };
}

async function answered(...given) {
  const answer = await fetch(...given);
  if (answer.ok) return answer;
  let said = `${answer.status}`;
  try { said = (await answer.json()).error || said; } catch { /* the number must do */ }
  throw new Error(said);
}

export const ask = underWay(async (name, query = {}) => {
  const words = new URLSearchParams(query);
  return (await answered(`${name}?${words}`, { headers })).json();
});

// All bytes of an answer, put straight into their place: half the time of arrayBuffer().
async function bytesOf(answer) {
  const length = Number(answer.headers.get("Content-Length"));
  if (!length || !window.ReadableStreamBYOBReader) return answer.arrayBuffer();
  const reader = answer.body.getReader({ mode: "byob" });
  let all = new ArrayBuffer(length);
  for (let at = 0; at < length;) {
    const { done, value } = await reader.read(new Uint8Array(all, at));
    if (done) throw new Error("the answer broke off");
    all = value.buffer;
    at += value.length;
  }
  return all;
}

// The panels' facts, then of each the planes that have changed, one after another.
export const askFrame = underWay(async (query) => {
  const about = { headers, cache: "no-store", priority: "high" }; // never looked for in the cache
  const answer = await answered(`frame?${new URLSearchParams(query)}`, about);
  if (answer.status === 204) return null;
  const body = await bytesOf(answer);
  const length = new DataView(body).getUint32(0, true);
  const facts = JSON.parse(new TextDecoder().decode(new Uint8Array(body, 4, length)));
  let start = 4 + length;
  const taken = (length) => {
    start += length;
    return new Uint8ClampedArray(body, start - length, length);
  };
  const panels = facts.panels.map(({ rows, columns, planes, afresh }) => {
    const size = rows * columns;
    if (!planes) return { rows, columns, pixels: taken(4 * size) };
    return { rows, columns, afresh, planes: planes.map((channels) => ({ channels, plane: taken(size) })) };
  });
  return { facts, panels };
});

export const post = underWay(async (name, said) => {
  const answer = await answered(name, {
    method: "POST", headers: { ...headers, "Content-Type": "application/json" },
    body: JSON.stringify(said),
  });
  return answer.json();
});

// An element with properties, attributes and children; texts are texts.
export function made(name, given = {}, ...children) {
  const one = document.createElement(name);
  for (const [key, value] of Object.entries(given)) {
    if (key.startsWith("on")) one.addEventListener(key.slice(2), value);
    else if (key in one && !key.startsWith("aria")) one[key] = value;
    else one.setAttribute(key, value);
  }
  one.append(...children);
  return one;
}

export function drawn(name, given = {}) {
  const one = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(given)) {
    if (key.startsWith("on")) one.addEventListener(key.slice(2), value);
    else one.setAttribute(key, value);
  }
  return one;
}
