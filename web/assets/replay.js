// A run looked at again, at any speed: its readings, and what the test's own code made of them.
import uPlot from "uplot";
import { clock, figure } from "./follow.js";
import { axis, css, line, notes } from "./trace.js";

const root = document.querySelector("[data-replay]");
const $ = (name) => document.querySelector(`[data-${name}]`);
if (root) load(root.dataset.replay);

async function load(id) {
  let run;
  try {
    const r = await fetch(`/runs/${id}/replay.json`);
    run = await r.json();
  } catch (e) {
    $("now").textContent = "The readings could not be loaded. Load the page again.";
    return;
  }
  const end = run.t.length ? run.t[run.t.length - 1] : 0;
  let at = 0, playing = false, shown = 0, last = 0, plot = null;

  const others = run.columns.map((c, i) => {
    const b = Object.assign(document.createElement("button"), { type: "button", className: "figurebtn" });
    b.setAttribute("aria-pressed", String(i === 0));
    b.append(Object.assign(document.createElement("small"), { textContent: `${c.name}, ${c.by}` }), Object.assign(document.createElement("span"), { className: "fig", textContent: "—" }));
    b.addEventListener("click", () => {
      shown = i;
      for (const [k, x] of others.entries()) x.setAttribute("aria-pressed", String(k === i));
      draw(true);
      show();
    });
    return b;
  });
  $("others").replaceChildren(...others);
  const within = run.columns.filter((c) => c.within_s > 0).map((c) => `${c.name} to ${c.within_s.toFixed(2)} s`);
  $("foot").textContent = [run.says, run.stride > 1 ? `One reading of ${run.stride} is drawn.` : "", within.length ? `Moments are known: ${within.join(", ")}.` : ""].filter(Boolean).join(" ");

  // Up to the moment: the last index at or before it.
  const before = (list, x) => { let lo = 0, hi = list.length; while (lo < hi) { const m = (lo + hi) >> 1; if (list[m] <= x) lo = m + 1; else hi = m; } return lo - 1; };
  const value = (i, c) => { for (let k = i; k >= 0 && k > i - 50; k--) if (c.read[k] !== null) return c.read[k]; return null; };
  function show() {
    const i = before(run.t, at);
    const c = run.columns[shown];
    $("big").textContent = c && i >= 0 ? figure(c, value(i, c)) : "—";
    $("unit").textContent = c ? c.unit : "";
    for (const [k, b] of others.entries()) b.lastChild.textContent = `${i >= 0 ? figure(run.columns[k], value(i, run.columns[k])) : "—"} ${run.columns[k].unit}`;
    $("timer").textContent = clock(at);
    const m = run.moments[before(run.moments.map((x) => x.t), at)];
    $("word").textContent = m ? m.word : "";
    $("now").textContent = m ? m.now : "";
    $("place").value = String(end ? Math.round(1000 * at / end) : 0);
    if (plot) plot.redraw(false);
  }
  function draw(anew) {
    const box = $("trace"), c = run.columns[shown];
    box.hidden = !c;
    if (!c || !box.clientWidth) return;
    const height = Math.max(200, Math.min(340, window.innerHeight - 480));
    if (plot && !anew && plot.width === box.clientWidth && plot.height === height) return;
    if (plot) plot.destroy();
    plot = new uPlot({ width: box.clientWidth, height, legend: { show: false }, cursor: { show: false }, padding: [8, 8, 0, 0], scales: { x: { time: false } }, axes: [{ ...axis(), size: 34 }, { ...axis(), size: 52 }],
      series: [{}, { stroke: css("--color-measured"), width: 1.6, points: { show: false }, spanGaps: true }], hooks: { draw: [overlay] } }, [run.t, c.read], box);
    box.querySelector(".u-over").addEventListener("click", (e) => { at = Math.min(Math.max(plot.posToVal(e.offsetX, "x"), 0), end); show(); });
  }
  function overlay(u) {
    notes(u, run.marks, run.gaps);
    line(u, at, "", css("--color-ink"), 0);
  }
  function play(on) {
    playing = on;
    if (on && at >= end) at = 0;
    last = performance.now();
    $("play").firstChild.textContent = on ? "Pause " : "Play ";
    root.dataset.playing = String(on);
  }
  $("play").addEventListener("click", () => play(!playing));
  $("place").addEventListener("input", () => { at = end * Number($("place").value) / 1000; show(); });
  (function frame(now) {
    if (playing) {
      at = Math.min(at + (now - last) / 1000 * Number($("speed").value), end);
      last = now;
      show();
      if (at >= end) play(false);
    }
    requestAnimationFrame(frame);
  })(performance.now());
  new ResizeObserver(() => draw(false)).observe($("trace"));
  new MutationObserver(() => draw(true)).observe(document.documentElement, { attributeFilter: ["data-scheme"] });
  draw(true);
  show();
}
