// The live page: asks the server for what is new, and for choices and thresholds.
"use strict";

const at = id => document.getElementById(id);
let look = null, known = null, asked = {metric: ""};

async function get(what, query) {
  const found = await fetch(what + "?" + new URLSearchParams(query), {cache: "no-store"});
  return found.json();
}

function fill(select, values, chosen) {
  if ([...select.options].map(o => o.value).join("\n") === values.join("\n")) return;
  const before = chosen || select.value;
  select.replaceChildren(...values.map(value => new Option(value, value)));
  if (values.includes(before)) select.value = before;
}

// The facts --------------------------------------------------------------------------------------

async function ask() {
  try {
    const found = await get("facts", {
      known: known ? known.version : "", written: known ? String(known.written).toUpperCase() : "",
      metric: asked.metric
    });
    if (found.error) at("view-note").textContent = found.error;
    else if (found.same) at("view-note").textContent = found.note;
    else show(found);
  } catch (e) {
    at("view-note").textContent = "The view was ended: this page shows what was read last.";
  }
  setTimeout(ask, 1000);
}

function show(found) {
  at("view-note").textContent = found.note || "";
  if (!found.facts) return;
  const before = known;
  known = found;
  document.title = at("view-title").textContent = found.title;
  at("view-bar").value = found.progress.done / Math.max(1, found.progress.all);
  at("view-progress").textContent = found.progress.text + timeLeft(before, found);
  fill(at("view-metric"), found.metrics);
  fill(at("view-rule"), found.rules, "one_se");
  at("view-threshold").hidden = !found.event;
  const s = found.facts.settings;
  const ranked = s.place.length > 0 && s.place[0] !== null;
  at("view-best").textContent = ranked ? "Best so far: " + found.facts.metric.label + " " +
    s.mean_text[0] + (s.sd_text[0] ? ", sd " + s.sd_text[0] : "") + ": " +
    found.facts.candidates[s.candidate[0]].name + (s.words[0] ? " (" + s.words[0] + ")" : "") :
    "No setting has all its scores yet.";
  if (look) look.update(found.facts); else look = openCloseLook("look", found.facts);
  if (ranked) choose();
  pairs(found.pairs);
}

let began = null;
function timeLeft(before, found) {
  const now = Date.now() / 1000, p = found.progress;
  if (!found.written || p.done >= p.all) return "";
  if (!began) began = {time: now, done: p.done};
  if (p.done <= began.done) return "";
  const left = (p.all - p.done) * (now - began.time) / (p.done - began.done);
  const rough = left < 90 ? Math.ceil(left) + " s" : Math.ceil(left / 60) + " min";
  return "; about " + rough + " left";
}

// Choices ----------------------------------------------------------------------------------------

// The slider's hundredths of the distance between the best and the middle setting.
function margin() {
  const means = known.facts.settings.mean.filter(v => v !== null);
  const span = Math.abs(means[0] - means[Math.floor(means.length / 2)]) || Math.abs(means[0]) || 1;
  return +(span * at("view-margin").value / 100).toPrecision(3);
}

async function choose() {
  const rule = at("view-rule").value;
  const takes = known.margins.includes(rule);
  at("view-margin-label").hidden = !takes;
  if (takes) at("view-margin-said").textContent = margin();
  const found = await get("choice", {
    rule: rule, margin: takes ? margin() : "", metric: asked.metric
  });
  const said = found.name + ": " + found.mean + ". " + found.reason;
  at("view-choice").textContent = found.error || said;
  at("choice-code").textContent = found.error ? "" : found.code + "\n\n" + found.plan;
}

async function decide() {
  const costs = {missed: at("view-missed").value, false_alarm: at("view-false_alarm").value};
  for (const one in costs) at("view-" + one + "-said").textContent = costs[one];
  at("view-threshold-said").textContent = "Working ...";
  const found = await get("threshold", {...costs, rule: at("view-rule").value});
  at("view-threshold-said").textContent = found.error || found.reason;
  at("threshold-code").textContent = found.error ? "" : found.code;
}

function pairs(rows) {
  at("view-pairs").hidden = rows.length === 0;
  const table = at("view-pairs-table");
  table.replaceChildren();
  const heads = ["first", "second", "difference", "low", "high", "answer"];
  const line = table.createTHead().insertRow();
  for (const head of heads) {
    const cell = document.createElement("th");
    cell.textContent = head;
    line.append(cell);
  }
  const body = table.createTBody();
  for (const row of rows) {
    const made = body.insertRow();
    for (const head of heads) made.insertCell().textContent = row[head];
  }
}

// What is zoomed to ------------------------------------------------------------------------------

// The range of the axis that is in sight, as code; nothing for places and seconds.
function refine() {
  if (!look || !look.state.x.includes("\n")) return;
  const [candidate, name] = look.state.x.split("\n");
  const axis = look.state.facts.candidates.find(one => one.name === candidate)
    .varied.find(one => one.name === name);
  const zoom = look.scores.getOption().dataZoom[0];
  if (!axis.number) return;
  const scaled = v => axis.log ? Math.log10(v) : v;
  const inside = axis.values.filter(v =>
    v !== null && scaled(v) >= zoom.startValue && scaled(v) <= zoom.endValue);
  if (inside.length === 0) return;
  const low = Math.min(...inside), high = Math.max(...inside);
  const log = axis.log ? ", spacing = \"log\"" : "";
  at("look-code").textContent = "# " + candidate + "\n" + (low === high ? name + " = " + low :
    name + " = from_to(" + low + ", " + high + log + ")") + "\n\n" + (low === high ?
    name + ": " + low : name + ": {from: " + low + ", to: " + high +
    (axis.log ? ", spacing: log" : "") + "}");
}

for (const [id, event, run] of [
  ["view-rule", "change", choose], ["view-margin", "input", choose],
  ["view-missed", "change", decide], ["view-false_alarm", "change", decide]
]) at(id).addEventListener(event, run);
at("view-metric").addEventListener("change", event => {
  asked.metric = event.target.value;
  known = null;
});
setInterval(refine, 500);
ask();
