"use strict";
// The page shows what it is sent, and changes only what has changed: a held button, the focus and a screen reader stay where they are.
// It holds no token: that was in the link's fragment, and became a cookie. Nothing that is old is shown as well.
const parts = new Map();
let role = "look", stream = null, latest = 0, tries = 0;
const STALE = 8000;  // ms without news, from where on what is shown is called old
const $ = (id) => document.getElementById(id);
const MARKS = {"━": "on", "x": "dropped", "~": "odd", "-": "odd", ">": "odd", "?": "odd"};
const SIGNS = {on: "●", dropped: "✗", starting: "~", off: "·", stopped: "-", elsewhere: ">", "not known": "?"};

function make(tag, words, kind) {
  const made = document.createElement(tag);
  if (words !== undefined) made.textContent = words;
  if (kind) made.className = kind;
  return made;
}
function put(node, words) { if (node.textContent !== words) node.textContent = words; }
function kind(node, words) { if (node.className !== words) node.className = words; }
function part(node, name, tag, type) {  // the child of that name, made where it is not there yet
  let found = node.querySelector(`:scope > [data-part="${name}"]`);
  if (!found) { found = make(tag, undefined, type); found.dataset.part = name; node.append(found); }
  return found;
}
// the children of a node as the items say, each kept as long as its name stays
function list(node, items, name, tag, fill) {
  const old = new Map([...node.children].map((child) => [child.dataset.key, child]));
  items.forEach((item, n) => {
    const key = name(item);
    let child = old.get(key);
    if (!child) { child = make(tag); child.dataset.key = key; }
    old.delete(key);
    if (node.children[n] !== child && !child.contains(document.activeElement)) node.insertBefore(child, node.children[n] || null);
    else if (!child.parentNode) node.append(child);
    fill(child, item);
  });
  for (const child of old.values()) child.remove();
}
function clock(stamp) { return new Date(stamp).toLocaleTimeString([], {hour: "2-digit", minute: "2-digit", second: "2-digit", hourCycle: "h23"}); }
function span(ms) {
  const whole = Math.max(0, Math.round(ms / 1000)), h = Math.floor(whole / 3600), m = Math.floor(whole / 60) % 60, s = whole % 60;
  const two = (n) => String(n).padStart(2, "0");
  return h ? `${h}:${two(m)}:${two(s)}` : `${two(m)}:${two(s)}`;
}
function length(stamp) { return span(Date.now() - new Date(stamp)); }
function say(words, type) { put($("link"), words); kind($("link"), type || ""); }

async function ask(path, body) {
  return fetch(path, {method: "POST", credentials: "same-origin", headers: {"Content-Type": "application/json", "X-Direkt": "1"}, body: JSON.stringify(body)});
}
async function act(body) {
  try {
    const answer = await ask("/act", body);
    if (!answer.ok) alert((await answer.json()).error);
  } catch { alert("the watch does not answer: nothing was done"); }
}

async function begin() {
  const token = new URLSearchParams(location.hash.slice(1)).get("token");
  try {
    if (token) {
      history.replaceState(null, "", "/");
      const answer = await ask("/session", {token});
      if (!answer.ok) return say((await answer.json()).error, "fail");
    }
    const answer = await fetch("/board", {credentials: "same-origin"});
    if (answer.status === 401) return refused((await answer.json()).error);
    if (answer.ok) role = (await answer.json()).role;
  } catch { return again(); }
  listen();
}
// where the watch is gone it is asked for again and again, each time a little later
function again() { tries += 1; age(); setTimeout(begin, Math.min(10000, 1000 * tries)); }
function refused(words) { latest = 0; $("all").hidden = true; say(words, "fail"); }

function listen() {
  if (stream) stream.close();
  stream = new EventSource("/events");
  stream.addEventListener("board", (e) => { parts.clear(); take(JSON.parse(e.data)); });
  stream.addEventListener("change", (e) => take(JSON.parse(e.data)));
  // a browser gives up on an answer that is no stream (a watch that begins, a proxy): then it is begun anew
  stream.onerror = () => { age(); if (stream.readyState === EventSource.CLOSED) { stream.close(); again(); } };
}

function take(message) {
  tries = 0;
  for (const name of message.gone) parts.delete(name);
  for (const [name, one] of Object.entries(message.parts)) parts.set(name, one);
  latest = Date.now();
  draw();
}

// the line on top: green only while it is fresh, and nothing is bad or unknown
function age() {
  const head = parts.get("head"), old = latest ? Date.now() - latest : 0;
  const stale = !latest || old > STALE;
  document.body.classList.toggle("stale", Boolean(head) && stale);
  if (!head) return say(latest ? "" : "the watch does not answer; trying again", "fail");
  put($("as-of"), stale ? `as of ${span(old)} ago` : "");
  if (stale) {
    document.title = `? ${head.rig}`;
    return say("the watch does not answer; trying again", "fail");
  }
  document.title = `${head.well && !head.unknown ? "" : "✗ "}${head.rig}`;
  if (!head.well) return say("✗ something is off", "fail");
  if (head.unknown) return say(`? of ${head.unknown} that should be on nobody knows whether they are`, "advise");
  const warned = (parts.get("warnings") || []).length;
  return say(warned ? "✓ all that should be on is on; look at what is below" : "✓ all that should be on is on", warned ? "advise" : "well");
}

function draw() {
  const head = parts.get("head");
  if (!head) return;
  $("all").hidden = false;
  put($("rig"), head.rig);
  age();
  list($("events"), events(), (e) => e.key, "p", event);
  list($("warnings"), parts.get("warnings") || [], (w) => `${w.kind} ${w.name}`, "div", warning);
  list($("feeds"), (parts.get("order") || []).map((name) => parts.get(`feed ${name}`)).filter(Boolean), (f) => f.name, "article", feed);
  list($("happenings"), parts.get("happenings") || [], (h) => `${h.at} ${h.name} ${h.text}`, "li", (line, h) => {
    kind(line, h.good ? "" : "advise");
    put(part(line, "at", "time"), clock(h.at));
    put(part(line, "text", "span"), `${h.good ? "" : "! "}${h.name}: ${h.text}`);
  });
}

function events() {
  const out = (parts.get("events") || []).map((e) => ({...e, key: `${e.title} ${e.destination}`}));
  const next = parts.get("next");
  return out.length || !next ? out : [{key: "next", next}];
}
function event(line, e) {
  const state = part(line, "state", "strong"), text = part(line, "text", "span"), link = part(line, "link", "a"), error = part(line, "error", "span", "advise");
  if (e.next) {
    put(state, ""); put(text, `next: ${e.next.title}, ${new Date(e.next.start).toLocaleString()}`); put(error, ""); link.hidden = true;
    return;
  }
  put(state, e.on_air ? "on air " : `${e.state} `); kind(state, e.on_air ? "well" : "dim");
  put(text, `${e.title} at ${e.platform} (${e.destination})${e.viewers === null ? "" : `, ${e.viewers} viewers`} `);
  link.hidden = !e.watch;
  if (e.watch && link.href !== e.watch) { link.href = e.watch; link.rel = "noopener noreferrer"; put(link, "watch"); }
  put(error, e.error ? ` ${e.error}` : "");
}

function warning(box, w) {
  kind(box, `warning ${w.weight}${w.seen ? " seen" : ""}`);
  const notes = [w.seen ? `seen at ${clock(w.seen)}` : null, w.muted ? "muted" : null].filter(Boolean).join(", ");
  put(part(box, "text", "p"), `${w.weight === "fail" ? "✗" : "!"} ${w.name}: ${w.text}${notes ? ` (${notes})` : ""}`);
  put(part(box, "advice", "p", "advice"), w.advice ? `Next: ${w.advice}` : "");
  if (role !== "act") return;
  const row = part(box, "buttons", "div", "buttons"), on = {kind: w.kind, name: w.name};
  button(row, "seen", w.seen ? null : `I have seen it`, false, () => act({what: "seen", ...on}));
  button(row, "mute", w.muted ? "Remind again" : "Mute for an hour", false, () => act({what: w.muted ? "unmute" : "mute", ...on}));
}
// a button that stays the same node; null: it is not offered now
function button(row, name, words, off, press) {
  const found = part(row, name, "button", name);
  found.hidden = words === null;
  if (words !== null) put(found, words);
  if (found.disabled !== off) found.disabled = off;
  found.onclick = press;
}

function feed(card, f) {
  const state = `s-${f.state.replace(" ", "-")}`;
  kind(card, `feed ${state}`);
  if (card.dataset.feed !== f.name) card.dataset.feed = f.name;
  const top = part(card, "top", "div", "top");
  put(part(top, "name", "span"), f.name + (f.role === "backup" ? " (backup)" : ""));
  const how = part(top, "state", "span"), since = part(how, "for", "span");
  kind(how, state);
  put(part(how, "sign", "b"), `${SIGNS[f.state] || ""} ${f.state} `);
  how.append(since);
  since.dataset.since = f.since;
  put(since, length(f.since));
  put(part(card, "push", "p"), `${f.device}: ${f.push}; ingest: ${f.ingest}`);
  const m = f.measured, seen = [m["video.size"], m["video.frame_rate"] ? `${m["video.frame_rate"]} fps` : null, m["audio.silent"] === "yes" ? "silent" : null];
  const facts = [f.mbit_s === null ? null : `${f.mbit_s} Mbit/s`, ...seen, f.temperature === null ? null : `${f.temperature} °C`].filter(Boolean).join(", ");
  put(part(card, "facts", "p", "dim"), facts);
  const text = part(card, "text", "p");
  put(text, f.text || ""); kind(text, f.state === "dropped" ? "fail" : "dim");
  strip(part(card, "strip", "div", "strip"), (parts.get("strips") || {})[f.name] || "");
  put(part(card, "drops", "p", "dim"), f.drops ? `${f.drops} ${f.drops === 1 ? "drop" : "drops"}, ${f.restarts} ${f.restarts === 1 ? "restart" : "restarts"}` : "");
  if (role !== "act" || f.push === "by hand") return;
  const row = part(card, "buttons", "div", "buttons"), off = f.state === "off";
  const sure = (words, effect, what) => () => { if (confirm(`${words} of ${f.name}? ${effect}`)) act({what, feed: f.name}); };
  button(row, "restart", off ? null : "Start the push again", f.mending, sure("Start the push again", "This interrupts what viewers see for some seconds.", "restart"));
  button(row, "stop", off ? null : "Stop the push", f.mending, sure("Stop the push", "Viewers see nothing then.", "stop"));
  button(row, "undo", f.undo ? "Undo: start it again" : null, f.mending, () => act({what: "start", feed: f.name}));
}

function strip(node, marks) {
  if (node.dataset.marks === marks) return;
  node.dataset.marks = marks;
  node.setAttribute("role", "img");
  node.setAttribute("aria-label", "the last ten minutes");
  list(node, [...marks].map((mark, n) => ({mark, n})), (one) => String(one.n), "i", (cell, one) => {
    put(cell, one.mark === "x" ? "x" : ""); kind(cell, MARKS[one.mark] || "");
  });
}

setInterval(() => {
  age();
  for (const node of document.querySelectorAll("[data-since]")) put(node, length(node.dataset.since));
}, 1000);
begin();
