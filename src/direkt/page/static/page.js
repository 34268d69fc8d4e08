"use strict";
// The page shows what it is sent. It holds no token: that was in the link's fragment, and became a cookie.
const parts = new Map();
let role = "look", stream = null, latest = 0;
const $ = (id) => document.getElementById(id);
const MARKS = {"━": "on", "x": "dropped", "~": "odd", "-": "odd", ">": "odd", "?": "odd"};
const SIGNS = {on: "●", dropped: "✗", starting: "~", off: "·", stopped: "-", elsewhere: ">", "not known": "?"};

function make(tag, words, kind) {
  const made = document.createElement(tag);
  if (words !== undefined) made.textContent = words;
  if (kind) made.className = kind;
  return made;
}
function clock(stamp) { return new Date(stamp).toLocaleTimeString([], {hour: "2-digit", minute: "2-digit", second: "2-digit", hourCycle: "h23"}); }
function length(stamp) {
  const whole = Math.max(0, Math.round((Date.now() - new Date(stamp)) / 1000));
  const h = Math.floor(whole / 3600), m = Math.floor(whole / 60) % 60, s = whole % 60;
  const two = (n) => String(n).padStart(2, "0");
  return h ? `${h}:${two(m)}:${two(s)}` : `${two(m)}:${two(s)}`;
}
function say(words, kind) { $("link").textContent = words; $("link").className = kind || ""; }

async function ask(path, body) {
  return fetch(path, {method: "POST", credentials: "same-origin", headers: {"Content-Type": "application/json", "X-Direkt": "1"}, body: JSON.stringify(body)});
}

async function begin() {
  const token = new URLSearchParams(location.hash.slice(1)).get("token");
  if (token) {
    history.replaceState(null, "", "/");
    const answer = await ask("/session", {token});
    if (!answer.ok) return say((await answer.json()).error, "fail");
  }
  const answer = await fetch("/board", {credentials: "same-origin"});
  if (answer.status === 401) return say((await answer.json()).error, "fail");
  if (answer.ok) role = (await answer.json()).role;
  stream = new EventSource("/events");
  stream.addEventListener("board", (e) => { parts.clear(); take(JSON.parse(e.data)); });
  stream.addEventListener("change", (e) => take(JSON.parse(e.data)));
  stream.onerror = () => say("the watch does not answer; trying again", "fail");
}

function take(message) {
  for (const name of message.gone) parts.delete(name);
  for (const [name, part] of Object.entries(message.parts)) parts.set(name, part);
  latest = Date.now();
  draw();
}

function draw() {
  const head = parts.get("head");
  if (!head) return;
  $("all").hidden = false;
  $("rig").textContent = head.rig;
  document.title = `${head.well ? "" : "✗ "}${head.rig}`;
  say(head.well ? "✓ all that should be on is on" : "✗ something is off", head.well ? "well" : "fail");
  $("events").replaceChildren(...events());
  $("warnings").replaceChildren(...(parts.get("warnings") || []).map((w) =>
    make("p", `${w.weight === "fail" ? "✗" : "!"} ${w.name}: ${w.text}${w.advice ? ` Next: ${w.advice}` : ""}`, w.weight)));
  $("feeds").replaceChildren(...(parts.get("order") || []).map((name) => feed(parts.get(`feed ${name}`), (parts.get("strips") || {})[name] || "")));
  $("happenings").replaceChildren(...(parts.get("happenings") || []).map((h) => {
    const line = make("li", undefined, h.good ? "" : "advise");
    line.append(make("time", clock(h.at)), `${h.good ? "" : "! "}${h.name}: ${h.text}`);
    return line;
  }));
}

function events() {
  const out = (parts.get("events") || []).map((e) => {
    const line = make("p");
    const people = e.viewers === null ? "" : `, ${e.viewers} viewers`;
    line.append(make("strong", e.on_air ? "on air " : `${e.state} `, e.on_air ? "well" : "dim"), `${e.title} at ${e.platform} (${e.destination})${people} `);
    if (e.watch) { const link = make("a", "watch"); link.href = e.watch; link.rel = "noopener noreferrer"; line.append(link); }
    if (e.error) line.append(make("span", ` ${e.error}`, "advise"));
    return line;
  });
  const next = parts.get("next");
  if (!out.length && next) out.push(make("p", `next: ${next.title}, ${new Date(next.start).toLocaleString()}`));
  return out;
}

function feed(f, marks) {
  const kind = `s-${f.state.replace(" ", "-")}`;
  const card = make("article", undefined, `feed ${kind}`);
  card.dataset.feed = f.name;
  const top = make("div", undefined, "top");
  top.append(make("span", f.name + (f.role === "backup" ? " (backup)" : "")), make("span", `${SIGNS[f.state] || ""} ${f.state} ${length(f.since)}`, kind));
  const strip = make("div", undefined, "strip");
  strip.setAttribute("role", "img");
  strip.setAttribute("aria-label", "the last ten minutes");
  for (const mark of marks) strip.append(make("i", mark === "x" ? "x" : "", MARKS[mark] || ""));
  const m = f.measured, seen = [m["video.size"], m["video.frame_rate"] ? `${m["video.frame_rate"]} fps` : null, m["audio.silent"] === "yes" ? "silent" : null];
  const facts = [f.mbit_s === null ? null : `${f.mbit_s} Mbit/s`, ...seen, f.temperature === null ? null : `${f.temperature} °C`].filter(Boolean).join(", ");
  card.append(top, make("p", `${f.device}: ${f.push}; ingest: ${f.ingest}`));
  if (facts) card.append(make("p", facts, "dim"));
  if (f.text) card.append(make("p", f.text, f.state === "dropped" ? "fail" : "dim"));
  card.append(strip);
  if (f.drops) card.append(make("p", `${f.drops} ${f.drops === 1 ? "drop" : "drops"}, ${f.restarts} ${f.restarts === 1 ? "restart" : "restarts"}`, "dim"));
  if (role === "act" && f.push !== "by hand" && f.state !== "off") card.append(...buttons(f));
  return card;
}

function buttons(f) {
  return [["restart", "Start the push again", "This interrupts what viewers see for some seconds."], ["stop", "Stop the push", "Viewers see nothing then."]].map(([what, words, effect]) => {
    const button = make("button", words, what);
    button.disabled = f.mending;
    button.addEventListener("click", async () => {
      if (!confirm(`${words} of ${f.name}? ${effect}`)) return;
      const answer = await ask("/act", {what, feed: f.name});
      if (!answer.ok) alert((await answer.json()).error);
    });
    return button;
  });
}

setInterval(() => { if (latest && Date.now() - latest > 40000) say(`nothing new for ${Math.round((Date.now() - latest) / 1000)} s`, "fail"); }, 5000);
begin();
