// The part of a page that can be looked at closely: one table of settings and two charts that
// know of one another. `echarts` draws the charts, `Tabulator` the table; nothing is loaded from
// anywhere.
"use strict";

// shapes as they are drawn, and as characters beside names
const shapes = [
  "circle", "triangle", "rect", "diamond", "emptyRect", "path://M0 0L10 0L5 10Z",
  "path://M0 0L10 5L0 10Z", "emptyCircle"
];
const marks = ["\u25cf", "\u25b2", "\u25a0", "\u25c6", "\u25a1", "\u25bc", "\u25ba", "\u25cb"];
const dashes = ["solid", "dashed", "dotted", [12, 4], [2, 6], [12, 4, 2, 4], "solid", "dashed"];
const mostLines = 8;

function closeLook(root, facts) {
  const state = {
    facts: facts, hidden: new Set(), marked: firstMarks(facts), x: "place", y: "", near: true,
    when: false
  };
  const scores = chart(root.querySelector(".look-scores"));
  const splits = chart(root.querySelector(".look-splits"));
  const said = root.querySelector(".look-said");
  let table = null;

  // The chosen setting and the best of the other candidates.
  function firstMarks(facts) {
    const s = facts.settings;
    const marked = new Set(facts.marked);
    const seen = new Set([...marked].map(row => s.candidate[row]));
    for (let row = 0; row < s.mean.length && seen.size < 3; row++) {
      if (s.mean[row] === null || seen.has(s.candidate[row])) continue;
      seen.add(s.candidate[row]);
      marked.add(row);
    }
    return marked;
  }

  function chart(at) {
    const made = echarts.init(at, null, {renderer: "svg"});
    new ResizeObserver(() => made.resize()).observe(at);
    return made;
  }

  const n = () => state.facts.settings.mean.length;
  const colour = i => state.facts.colours[i % state.facts.colours.length];
  const nameOf = row => state.facts.candidates[state.facts.settings.candidate[row]].name;

  function called(row) {
    const words = state.facts.settings.words[row];
    return nameOf(row) + (words ? " (" + words + ")" : "");
  }

  // Elements with text, never text with markup: names of the data are shown as they are.
  function element(tag, text, name) {
    const made = document.createElement(tag);
    if (text !== undefined) made.textContent = text;
    if (name) made.className = name;
    return made;
  }

  function hint(row) {
    const s = state.facts.settings;
    const box = element("div", undefined, "look-hint");
    box.append(element("strong", called(row)));
    const place = s.place[row] === null ? "no place" : "place " + s.place[row];
    box.append(element("div", state.facts.metric.label + " " + s.mean_text[row] +
      (s.sd_text[row] ? ", sd " + s.sd_text[row] : "") + ", " + place));
    box.append(element("div", "splits: " + s.scores[row].slice(0, 12)
      .map(v => v === null ? "-" : +v.toPrecision(3)).join("  ") +
      (s.scores[row].length > 12 ? "  ..." : "")));
    return box;
  }

  // Every setting ------------------------------------------------------------------------------

  function axisOf(which) {
    for (const one of state.facts.candidates) {
      for (const axis of one.varied) if (one.name + "\n" + axis.name === which) return axis;
    }
    if (which === "") return null;
    const number = {number: true, log: false, levels: []};
    if (which === "seconds") {
      return {...number, name: "seconds of work", values: state.facts.settings.seconds};
    }
    if (which === "sd") {
      return {...number, name: "sd over the splits", values: state.facts.settings.sd};
    }
    if (which === "proposed") {
      return {...number, name: "in the order of proposal", values: state.facts.settings.proposed};
    }
    return {...number, name: "place", values: state.facts.settings.place};
  }

  // From the best to what is no worse than the middle, with room at either end.
  function reach() {
    const known = state.facts.settings.mean.filter((v, i) => v !== null && shown(i));
    if (known.length === 0) return {};
    known.sort((a, b) => a - b);
    const middle = known[Math.floor((known.length - 1) / 2)];
    let low = known[0], high = known[known.length - 1];
    if (state.near && state.facts.metric.higher) low = middle;
    if (state.near && !state.facts.metric.higher) high = middle;
    const room = (high - low || Math.abs(high) || 1) * 0.08;
    const digits = Math.max(0, 2 - Math.floor(Math.log10(high - low || 1)));
    const neat = (v, to) => to(v * 10 ** digits) / 10 ** digits;
    return {min: neat(low - room, Math.floor), max: neat(high + room, Math.ceil)};
  }

  const shown = row => !state.hidden.has(state.facts.settings.candidate[row]);

  function drawScores() {
    const axis = axisOf(state.x), second = axisOf(state.y);
    const s = state.facts.settings;
    const range = second ? {} : reach();
    const shade = state.when ? times() : second && shades(second.values);
    // logarithms on an even axis, so that zooming moves evenly along it
    const axisFor = one => ({
      type: one.number ? "value" : "category", data: one.levels, name: one.name, scale: true,
      axisLabel: {formatter: one.log ? v => String(+(10 ** v).toPrecision(2)) : null}
    });
    const valueOn = (one, row) => !one.number ? String(one.values[row]) :
      one.log ? Math.log10(one.values[row]) : one.values[row];
    const series = state.facts.candidates.map((one, i) => {
      const data = [];
      for (let row = 0; row < n(); row++) {
        if (s.candidate[row] !== i || !shown(row) || s.mean[row] === null) continue;
        if (axis.values[row] === null || (second && second.values[row] === null)) continue;
        if (s.mean[row] < range.min || s.mean[row] > range.max) continue;
        const big = state.marked.has(row);
        data.push({
          value: [valueOn(axis, row), second ? valueOn(second, row) : s.mean[row]], row: row,
          symbolSize: second ? 6 + 14 * shade(row) : big ? 17 : 9,
          itemStyle: {
            opacity: big ? 1 : shade ? 0.15 + 0.75 * shade(row) : 0.6,
            borderColor: big ? "#000" : "transparent", borderWidth: 2
          }
        });
      }
      return {
        name: one.name, type: "scatter", symbol: shapes[i % shapes.length], data: data,
        itemStyle: {color: colour(i)}
      };
    });
    scores.setOption({
      animation: false, aria: {enabled: true}, legend: {show: false}, series: series,
      grid: {left: 70, right: 24, top: 34, bottom: 66},
      tooltip: {confine: true, formatter: p => hint(p.data.row)},
      xAxis: {
        ...axisFor(axis), nameLocation: "middle", nameGap: 28, min: state.x === "place" ? 1 : null
      },
      yAxis: {
        ...(second ? {...axisFor(second), name: second.name +
            "; the larger and darker, the " + (state.when ? "later" : "better")} :
          {type: "value", name: state.facts.metric.axis, scale: true, ...range,
            axisLabel: {showMinLabel: false, showMaxLabel: false}}),
        nameLocation: "end", nameTextStyle: {align: "left"}
      },
      dataZoom: [
        {type: "inside", xAxisIndex: 0}, {type: "inside", yAxisIndex: 0, zoomOnMouseWheel: "shift"},
        {type: "slider", xAxisIndex: 0, height: 16, bottom: 8, showDataShadow: false}
      ],
      toolbox: {
        right: 20, top: 2, feature: {dataZoom: {title: {zoom: "zoom in", back: "zoom back"}},
          restore: {title: "whole range"}}
      }
    }, {replaceMerge: ["series", "xAxis", "yAxis"]});
  }

  // From 0, as bad as the middle of those with a value or worse, to 1, the best.
  function shades(values) {
    const s = state.facts.settings;
    const sign = state.facts.metric.higher ? 1 : -1;
    const good = s.mean.map((v, i) => v === null || values[i] === null ? -Infinity : sign * v);
    const known = good.filter(Number.isFinite).sort((a, b) => a - b);
    const middle = known[Math.floor(known.length / 2)], top = known[known.length - 1];
    return row => Math.max(0, (good[row] - middle) / (top - middle || 1));
  }

  // From 0, proposed first, to 1, proposed last.
  function times() {
    const all = state.facts.settings.proposed;
    const first = all.reduce((a, b) => Math.min(a, b), Infinity);
    const last = all.reduce((a, b) => Math.max(a, b), -Infinity);
    return row => (all[row] - first) / (last - first || 1);
  }

  // Split by split -----------------------------------------------------------------------------

  function drawSplits() {
    const s = state.facts.settings;
    const rows = [...state.marked].slice(0, mostLines);
    splits.setOption({
      animation: false, aria: {enabled: true},
      grid: {left: 70, right: 24, top: 34 + 22 * Math.min(rows.length, 4), bottom: 40},
      legend: {type: "scroll", orient: "vertical", left: 10, top: 4, height: 22 * 4,
        textStyle: {width: splits.getWidth() - 70, overflow: "truncate"}},
      tooltip: {trigger: "axis", confine: true, formatter: all => {
        const box = element("div", undefined, "look-hint");
        box.append(element("strong", "split " + all[0].axisValue));
        for (const p of all) {
          box.append(element("div", p.seriesName + ": " + (p.value === null ? "-" : p.value)));
        }
        return box;
      }},
      xAxis: {type: "category", data: state.facts.splits, name: "split", nameLocation: "middle",
        nameGap: 24},
      yAxis: {type: "value", scale: true, name: rows.length > 2 ? "" : state.facts.metric.axis,
        nameTextStyle: {align: "left"}},
      series: rows.map((row, k) => {
        const i = s.candidate[row];
        const before = rows.slice(0, k).filter(other => s.candidate[other] === i).length;
        return {
          name: called(row), type: "line", data: s.scores[row], symbolSize: 9,
          symbol: shapes[i % shapes.length], itemStyle: {color: colour(i)},
          lineStyle: {type: dashes[(i + 3 * before) % dashes.length], width: 2}
        };
      })
    }, {replaceMerge: ["series"]});
  }

  // The table ----------------------------------------------------------------------------------

  // All splits as ticks on one scale, with the mean as a longer one.
  function strip(row, ends) {
    const place = v => 3 + 144 * Math.min(1, Math.max(0, (v - ends[0]) / (ends[1] - ends[0] || 1)));
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("width", 150);
    svg.setAttribute("height", 18);
    svg.setAttribute("aria-hidden", "true");
    const tick = (v, from, to, width, ink) => {
      const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
      const at = {x1: place(v), x2: place(v), y1: from, y2: to, stroke: ink, "stroke-width": width};
      for (const key in at) line.setAttribute(key, at[key]);
      svg.append(line);
    };
    const s = state.facts.settings;
    s.scores[row].forEach(v => v !== null && tick(v, 5, 13, 1.5, "#8a8a8a"));
    if (s.mean[row] !== null) tick(s.mean[row], 1, 17, 3, "#000");
    return svg;
  }

  // Of the better half: what is far worse is drawn at the end.
  function ends() {
    const s = state.facts.settings;
    const all = s.scores.slice(0, Math.max(2, Math.ceil(n() / 2))).flat().filter(v => v !== null);
    return [all.reduce((a, b) => Math.min(a, b), Infinity),
      all.reduce((a, b) => Math.max(a, b), -Infinity)];
  }

  function records() {
    const s = state.facts.settings;
    return s.mean.map((mean, i) => ({
      id: i, place: s.place[i], candidate: nameOf(i), words: s.words[i], mean: mean, sd: s.sd[i],
      behind: s.behind[i], seconds: s.seconds[i], answer: s.answer[i]
    }));
  }

  function makeTable() {
    const scale = ends();
    const s = () => state.facts.settings;
    const texts = what => cell => s()[what][cell.getData().id];
    const number = {hozAlign: "right", headerHozAlign: "right", sorter: "number"};
    table = new Tabulator(root.querySelector(".look-table"), {
      data: records(), height: Math.min(34 * n() + 48, 420) + "px", layout: "fitColumns",
      placeholder: "No setting is like that.", columnDefaults: {headerSortTristate: true},
      columns: [
        {title: "place", field: "place", width: 86, ...number},
        {title: "candidate", field: "candidate", width: 140, formatter: cell => {
          const box = element("span");
          const i = s().candidate[cell.getData().id];
          const mark = element("span", marks[i % marks.length] + " ");
          mark.style.color = colour(i);
          box.append(mark, cell.getValue());
          return box;
        }},
        {title: "mean", field: "mean", width: 86, ...number, formatter: texts("mean_text")},
        {title: "sd", field: "sd", width: 76, ...number, formatter: texts("sd_text")},
        {title: "splits and mean", field: "mean_strip", width: 166, headerSort: false,
          formatter: cell => strip(cell.getData().id, scale)},
        {title: "setting", field: "words", minWidth: 180, formatter: "textarea"},
        {title: "behind", field: "behind", width: 100, ...number, formatter: texts("behind_text")},
        {title: "as good?", field: "answer", width: 112},
        {title: "seconds", field: "seconds", width: 108, ...number}
      ],
      rowFormatter: row => {
        const on = state.marked.has(row.getData().id);
        const at = row.getElement();
        at.tabIndex = 0;
        at.classList.toggle("look-marked", on);
        at.setAttribute("aria-selected", on);
      }
    });
    table.on("rowClick", (event, row) => mark(row.getData().id));
    table.on("dataFiltered", (filters, rows) => sayRows(rows.length));
    root.querySelector(".look-table").addEventListener("keydown", event => {
      const at = event.target.closest(".tabulator-row");
      if (!at) return;
      if (event.key === "Enter" || event.key === " ") {
        event.preventDefault();
        mark(table.getRow(at).getData().id);
      }
      const next = {ArrowDown: "nextElementSibling", ArrowUp: "previousElementSibling"}[event.key];
      if (next && at[next]) {
        event.preventDefault();
        at[next].focus();
      }
    });
  }

  function sayRows(count) {
    const all = state.facts.all;
    said.textContent = count + " of " + all + (all === 1 ? " setting" : " settings") +
      (n() < all ? " (the best " + state.facts.best + ", and of the others one in " +
        state.facts.step + ", are in this page)" : "");
  }

  function mark(row) {
    if (state.marked.has(row)) state.marked.delete(row);
    else {
      if (state.marked.size >= mostLines) state.marked.delete([...state.marked][0]);
      state.marked.add(row);
    }
    table.getRows("active").forEach(one => one.reformat());
    drawScores();
    drawSplits();
  }

  // Controls -----------------------------------------------------------------------------------

  function filter() {
    const text = root.querySelector(".look-search").value.trim().toLowerCase();
    const only = root.querySelector(".look-short").checked;
    table.setFilter(one => shown(one.id) && (!only || one.answer !== "worse") &&
      (one.candidate + " " + one.words).toLowerCase().includes(text));
  }

  function fillControls() {
    const names = root.querySelector(".look-candidates");
    names.replaceChildren();
    state.facts.candidates.forEach((one, i) => {
      const label = element("label");
      const box = element("input");
      box.type = "checkbox";
      box.checked = !state.hidden.has(i);
      box.addEventListener("change", () => {
        if (box.checked) state.hidden.delete(i); else state.hidden.add(i);
        filter();
        drawScores();
      });
      const sign = element("span", " " + marks[i % marks.length] + " ");
      sign.style.color = colour(i);
      label.append(box, sign, one.name + " (" + one.number + ")");
      names.append(label);
    });
    fillSelect(".look-x", [
      ["place", "place"], ["sd", "sd over the splits"], ["seconds", "seconds"],
      ["proposed", "order of proposal"], ...axes()
    ], state.x);
    fillSecond();
  }

  function axes() {
    return state.facts.candidates.flatMap(one => one.varied.map(axis =>
      [one.name + "\n" + axis.name, one.name + ": " + axis.name]));
  }

  // A second axis only of the same candidate.
  function fillSecond() {
    const mine = axes().filter(one => state.x.includes("\n") && one[0] !== state.x &&
      one[0].split("\n")[0] === state.x.split("\n")[0]);
    if (!mine.some(one => one[0] === state.y)) state.y = "";
    fillSelect(".look-y", [["", "nothing else"], ...mine], state.y);
  }

  function fillSelect(css, options, chosen) {
    const select = root.querySelector(css);
    select.replaceChildren(...options.map(one => new Option(one[1], one[0])));
    select.value = chosen;
  }

  function makeControls() {
    const listen = (css, event, run) => root.querySelector(css).addEventListener(event, run);
    listen(".look-x", "change", event => {
      state.x = event.target.value;
      fillSecond();
      drawScores();
    });
    listen(".look-y", "change", event => { state.y = event.target.value; drawScores(); });
    listen(".look-when", "change", event => { state.when = event.target.checked; drawScores(); });
    listen(".look-near", "change", event => { state.near = event.target.checked; drawScores(); });
    listen(".look-search", "input", filter);
    listen(".look-short", "change", filter);
  }

  // New facts of the same comparison: what was marked stays marked, by its words.
  function update(fresh) {
    const kept = new Set([...state.marked].map(called));
    state.facts = fresh;
    state.marked = new Set();
    for (let row = 0; row < n(); row++) if (kept.has(called(row))) state.marked.add(row);
    if (state.marked.size === 0) state.marked = firstMarks(fresh);
    fillControls();
    table.replaceData(records());
    filter();
    drawScores();
    drawSplits();
  }

  scores.on("click", p => mark(p.data.row));
  fillControls();
  makeControls();
  makeTable();
  table.on("tableBuilt", () => sayRows(n()));
  drawScores();
  drawSplits();
  return {update: update, state: state, scores: scores, splits: splits, table: () => table};
}

// Shows the close look in the place of what stands there without scripts.
function openCloseLook(id, facts) {
  const root = document.getElementById(id);
  root.hidden = false;
  document.querySelectorAll(".replaced").forEach(one => one.classList.add("gone"));
  return closeLook(root, facts);
}
