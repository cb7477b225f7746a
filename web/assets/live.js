import uPlot from "uplot";
import { awake, bell, clock, figure, follow, held, outdated, sender, voice } from "./follow.js";
import { axis, css, line, notes } from "./trace.js";

const root = document.querySelector("[data-live]");
const id = root && root.dataset.live;
const $ = (name) => document.querySelector(`[data-${name}]`);
const legNames = { rig: "rig check", zero: "zero", drift: "drift leg", hold: "hold", vacuum: "vacuum hold", reference: "known orifice" };

if (id) start();

function start() {
  let view = null, refused = "", nextShown = "";
  let drives = false;
  let run = "";
  let t = [], cols = []; // of the stretch: times, and a list of each column
  let before = null; // the trace before this one
  let large = 0, shown = 0; // the column that is large, and the one that is drawn
  let limit = null, fit = null;
  const mostGhosts = 3;
  let foretold = { leg: "", list: [] }; // what suspects would show in a leg
  let bellSeen = -1;
  let moving = false;
  let dirty = false;
  let at = 0;
  const ring = bell(), say = voice(), stayAwake = awake();

  // The trace.
  let plot = null;
  function draw() {
    const box = $("trace");
    if (box.hidden || !box.clientWidth) return;
    const height = Math.max($("picture").hidden ? 200 : 170, Math.min(320, window.innerHeight - 530 - ($("picture").hidden ? 0 : $("picture").clientHeight - 60)));
    const size = { width: box.clientWidth, height };
    const tables = [own(drawn())];
    const all = ghosts();
    for (let i = 0; i < mostGhosts; i++) tables.push(all[i] ? [all[i].t, all[i].v] : [[], []]);
    tables.push(limit && shown === 0 ? [limit.t, limit.p] : [[], []], fit && shown === 0 ? [fit.t, fit.p] : [[], []]);
    const data = uPlot.join(tables);
    if (plot && plot.width === size.width && plot.height === size.height) {
      plot.setData(data);
      return;
    }
    if (plot) plot.destroy();
    plot = new uPlot({
      ...size, legend: { show: false }, cursor: { show: false }, padding: [8, 8, 0, 0],
      scales: { x: { time: false, range: (u, lo, hi) => [0, Math.max(30, view && view.planned && view.held ? view.from + view.planned : 0, (hi || 0) * 1.02)] },
        y: { range: (u, lo, hi) => { if (shown) { const pad = Math.max((hi - lo) / 10, Math.abs(hi) / 1000, 0.01) || 1; return [lo - pad, hi + pad]; } const top = Math.max(hi || 0, 0.5), low = Math.min(lo || 0, 0); return [low < -0.3 ? low * 1.08 : Math.min(low, -0.2), top * 1.08]; } } },
      axes: [{ ...axis(), size: 34, incrs: [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600, 7200], values: (u, list) => list.map((x) => (u.scales.x.max > 5400 ? `${clock(x / 60)} h` : x)) }, { ...axis(), size: shown ? 66 : 46 }],
      series: [{}, { stroke: css("--color-measured"), width: 1.6, points: { show: false }, spanGaps: false },
        ...Array.from({ length: mostGhosts }, (_, i) => ({ stroke: css("--color-suspect"), width: 2.4, dash: [[10, 6], [3, 5], [16, 4, 2, 4]][i], points: { show: false }, spanGaps: true })),
        { stroke: css("--color-found"), width: 1.8, dash: [8, 5], points: { show: false }, spanGaps: true },
        { stroke: css("--color-ink"), width: 1.5, dash: [2, 4], points: { show: false }, spanGaps: true }],
      hooks: { draw: [marks] },
    }, data, box);
    box.querySelector(".u-over").addEventListener("click", (e) => {
      if (!moving) return;
      const x = plot.posToVal(e.offsetX, "x");
      move(Math.max(0, x).toFixed(1));
    });
  }
  // Between legs the trace of the last one stays; one of a moment, in which something was only
  // let go, does not take the place of the one before.
  const lasts = (t) => t.length > 0 && t[t.length - 1] - t[0] >= 5;
  const drawn = () => (view && !view.leg && before && before.cols.length === cols.length && !lasts(t) ? before : { t, cols });
  // A column's own readings: rows of other instruments do not break its line, gaps do.
  function own({ t, cols }) {
    const at = [], values = [], column = cols[shown];
    for (let i = 0; column && i < t.length; i++) if (column[i] !== null || cols.every((c) => c[i] === null)) { at.push(t[i]); values.push(column[i]); }
    return [at, values];
  }
  // What suspects would show in the leg that is read. What is held counts from the last stroke, and has
  // none before.
  function ghosts() {
    if (!view || foretold.leg !== view.leg) return [];
    return foretold.list.filter((g) => g.column === shown && (!g.held || view.shut)).map((g) => (g.held ? { ...g, t: g.t.map((x) => x + view.from) } : g));
  }
  // The names of the suspects stand at the ends of their traces, one below the other where they meet.
  function ghostNames(u) {
    const list = ghosts();
    if (!list.length) return;
    const c = u.ctx, k = devicePixelRatio, taken = [];
    c.save();
    c.font = `500 ${13 * k}px Text, sans-serif`;
    c.fillStyle = css("--color-suspect-word");
    c.strokeStyle = css("--color-sheet");
    c.lineWidth = 4 * k;
    c.setLineDash([]);
    c.textAlign = "right";
    for (const g of list) {
      const end = g.t.findLastIndex((x) => x <= u.scales.x.max);
      if (end < 0) continue;
      let y = u.valToPos(g.v[end], "y", true) - 6 * k;
      y = Math.max(u.bbox.top + 14 * k, Math.min(u.bbox.top + u.bbox.height - 4 * k, y));
      const step = y > u.bbox.top + u.bbox.height / 2 ? -15 * k : 15 * k; // away from the nearer edge
      while (taken.some((q) => Math.abs(q - y) < 14 * k)) y += step;
      taken.push(y);
      c.strokeText(g.name, Math.min(u.valToPos(g.t[end], "x", true), u.bbox.left + u.bbox.width) - 4 * k, y); // a rim, where it lies on a line
      c.fillText(g.name, Math.min(u.valToPos(g.t[end], "x", true), u.bbox.left + u.bbox.width) - 4 * k, y);
    }
    c.restore();
  }
  // What the likeliest suspects would show in the leg that is read is worked out beside it.
  async function foretell(leg) {
    if (!leg || foretold.leg === leg) return;
    foretold = { leg, list: [] };
    try {
      const r = await fetch(`/tests/${id}/foretold?leg=${encodeURIComponent(leg)}`, { headers: { Accept: "application/json" } });
      if (r.ok && foretold.leg === leg) foretold.list = (await r.json()).slice(0, mostGhosts);
    } catch { /* the readings go on without */ }
    dirty = true;
  }
  const traceName = $("trace").getAttribute("aria-label");
  function marks(u) {
    if (!view) return;
    ghostNames(u);
    if (view.shut && view.leg) line(u, view.moved || view.from, view.moved ? "start, moved" : "shut off", css("--color-ink"), 0);
    notes(u, view.marks, view.gaps);
    // A drawing says nothing to a reader of screens: its marks stand in its name.
    $("trace").setAttribute("aria-label", `${traceName}${(view.marks || []).length ? `; marked: ${view.marks.map((m) => m.text).join(", ")}` : ""}`);
  }
  new ResizeObserver(() => { dirty = true; }).observe($("trace"));
  new MutationObserver(() => { if (plot) { plot.destroy(); plot = null; } dirty = true; }).observe(document.documentElement, { attributeFilter: ["data-scheme"] });
  (function frame() { if (dirty) { dirty = false; draw(); } requestAnimationFrame(frame); })();

  // What the bench says.
  const tapping = () => Boolean(view && view.leg && (view.taps || []).length);
  function show(v) {
    if (outdated(view, v)) refused = "";
    view = v;
    dirty = true;
    const words = v.result ? `${v.result} ${v.next}` : v.next;
    if (words !== nextShown) hint(nextShown = words); // else a hint about a press stays
    const beside = v.seats.slice(1).filter((s) => s.status !== "on" && s.said).map((s) => `${s.name}: ${s.said}`);
    const say = v.disk || [refused, v.said || beside.join(" ")].filter(Boolean).join(" ");
    const problem = $("say");
    problem.hidden = !say;
    if (problem.textContent !== say) problem.textContent = say;
    instruments(v);
    $("rig").hidden = !v.rig;
    const main = $("main");
    const next = v.steps.find((s) => s.state === "next");
    const name = (v.holds && legNames[v.start]) || (next ? next.name.charAt(0).toLowerCase() + next.name.slice(1) : "");
    const label = v.leg ? (v.onward ? "Done, go on " : v.holds && ["hold", "vacuum", "reference"].includes(v.leg) ? "Stop and keep " : "Stop ") : v.start ? `Start: ${name} ` : "";
    main.hidden = !label;
    $("done").hidden = Boolean(label) || v.status === "looking";
    main.firstChild.textContent = label;
    $("mark").hidden = !v.leg;
    if ($("placeform")) $("placeform").hidden = !v.leg;
    $("move").hidden = !v.leg || !v.holds;
    taps();
    if (!v.leg) { $("moveform").hidden = $("markform").hidden = true; moving = false; }
    figures(v);
    steps(v);
    if (bellSeen >= 0 && v.bell > bellSeen) ring();
    bellSeen = v.bell;
    speak(nextShown);
    driving();
  }
  function speak(words) { say(words); }
  // The instruments, each with its lamp.
  function instruments(v) {
    const doing = (s) => (s.status === "on" ? (s.rate ? `${s.rate} Hz` : "reads") : s.status === "looking" ? "looking for it" : "not measuring");
    $("module").replaceChildren(...v.seats.flatMap((s) => {
      const lamp = Object.assign(document.createElement("span"), { className: "lamp" });
      lamp.dataset.state = s.status;
      const out = [Object.assign(document.createElement("span"), { textContent: `${s.name}, ${doing(s)}` }), lamp];
      if (s.past) out.push(Object.assign(document.createElement("b"), { className: "warn", textContent: `past its date of ${s.past}` }));
      if (s.lacks && s.lacks.length) out.push(Object.assign(document.createElement("b"), { className: "warn", textContent: `does not measure ${s.lacks.join(", ")}` }));
      return out;
    }));
  }
  // The figures: one is large, all stand below; a press draws one.
  let figuresShown = "";
  function figures(v) {
    const key = JSON.stringify([v.large, v.columns]);
    if (key === figuresShown) return;
    figuresShown = key;
    const first = v.columns[v.large];
    const several = v.columns.some((c) => c.by !== first.by); // one instrument stands at the top already
    if (large !== v.large) { // what counts in this leg is large, and drawn
      large = shown = v.large;
      if (plot) { plot.destroy(); plot = null; }
    }
    $("unit").textContent = first ? first.unit : "";
    $("figure").hidden = !first;
    $("others").replaceChildren(...v.columns.map((c, i) => {
      const b = Object.assign(document.createElement("button"), { type: "button", className: "figurebtn" });
      b.setAttribute("aria-pressed", String(i === shown));
      b.hidden = c.absent;
      b.append(Object.assign(document.createElement("small"), { textContent: several ? `${c.name}, ${c.by}` : c.name }), Object.assign(document.createElement("span"), { className: "fig", textContent: "—" }));
      b.addEventListener("click", () => {
        shown = i;
        if (plot) { plot.destroy(); plot = null; }
        dirty = true;
        for (const [k, x] of [...$("others").children].entries()) x.setAttribute("aria-pressed", String(k === i));
      });
      return b;
    }));
    $("others").classList.toggle("many", v.columns.length > 6);
    $("others").hidden = v.columns.filter((c) => !c.absent).length < 2;
  }
  // What a hand marks while a stretch is read: the space bar puts the first one down.
  function taps() {
    for (const b of document.querySelectorAll("[data-tap]")) {
      const tap = tapping() && view.taps.find((t) => t.key === b.dataset.tap);
      b.hidden = !tap;
      if (tap) b.firstChild.textContent = `${tap.name} `;
    }
    const space = $("main").querySelector("kbd");
    space.textContent = tapping() ? "e" : "space";
    $("main").dataset.key = tapping() ? "e" : " ";
  }
  // Who drives.
  function driving() {
    const watching = view && !drives && view.driver;
    $("watching").hidden = !watching;
    if (watching) $("driver").textContent = view.driver;
    document.body.toggleAttribute("data-watches", Boolean(watching)); // a name of its own: what is looked for by data-watching is the sentence
  }
  $("over").addEventListener("click", () => send({ do: "over" }, $("over")));
  let stepsShown = "";
  function steps(v) {
    const key = JSON.stringify([v.steps, v.leg]);
    const list = $("steps");
    if (key === stepsShown || list.querySelector("[data-holding]")) return; // a button held down stays until it is let go
    stepsShown = key;
    const focused = document.activeElement && list.contains(document.activeElement) ? document.activeElement.dataset.step : "";
    list.replaceChildren(...v.steps.map((s, i) => {
      const li = document.createElement("li");
      li.className = s.state;
      const dot = Object.assign(document.createElement("i"), { textContent: s.state === "done" ? "✓" : String(i + 1), ariaHidden: "true" });
      const text = document.createElement("span");
      const detail = Object.assign(document.createElement("span"), { className: "detail" });
      detail.append(Object.assign(document.createElement("small"), { textContent: s.detail }));
      text.append(Object.assign(document.createElement("b"), { textContent: s.name }), detail);
      if (s.state === "now") li.setAttribute("aria-current", "step");
      li.append(dot, text);
      if (s.leg && !v.leg && s.state !== "next") {
        const b = Object.assign(document.createElement("button"), { type: "button", className: "again", textContent: s.state === "done" ? "again" : "make" });
        b.dataset.step = s.key;
        b.setAttribute("aria-label", `${s.state === "done" ? "make again" : "make"}: ${s.name}`);
        meant(b, () => s.energises, () => send({ do: s.state === "done" ? "redo" : "start", leg: s.leg }, b));
        const both = Object.assign(document.createElement("span"), { className: "redo" });
        both.append(b);
        (v.holds ? li : detail).append(both);
        if (s.state === "done" && !v.holds) {
          const back = Object.assign(document.createElement("button"), { type: "button", className: "again", textContent: "take back" });
          back.setAttribute("aria-label", `take back: ${s.name}`);
          back.addEventListener("click", () => send({ do: "back", leg: s.leg }, back));
          both.append(back);
        }
      }
      return li;
    }));
    if (focused) { const b = list.querySelector(`[data-step="${focused}"]`); if (b) b.focus(); }
  }
  // The level on the gauge; beyond what the system is permitted it says so.
  const gauge = $("gauge"), bar = $("level");
  function level(now) {
    if (!gauge) return;
    const [low, high, least, most] = ["low", "high", "least", "most"].map((k) => Number(gauge.dataset[k]));
    const x = (v) => 100 * (Math.max(low, Math.min(high, v)) - low) / (high - low);
    const v = now ? (now.over ? high : now.inh2o) : 0;
    bar.setAttribute("x", `${Math.min(x(0), x(v))}%`);
    bar.setAttribute("width", `${Math.abs(x(v) - x(0))}%`);
    gauge.classList.toggle("beyond", v > most || v < Math.min(least, 0) - 0.5);
  }
  function news(n) {
    drives = n.drives;
    if (n.view) { show(n.view); foretell(n.view.leg); stayAwake(Boolean(n.view.leg)); } else driving();
    if (n.points) {
      if (n.points.run && (n.points.run !== run || n.points.from === 0)) {
        if (lasts(t)) before = { t, cols };
        run = n.points.run; t = []; cols = n.points.c.map(() => []); limit = fit = null; delete later.estimate;
        $("trace").hidden = n.points.c.length === 0;
      }
      for (let i = 0; i < n.points.t.length; i++) {
        if (t.length && n.points.t[i] - t[t.length - 1] > 1.5 && (view.gaps || []).some((g) => g.to_s > t[t.length - 1] && g.from_s < n.points.t[i])) { t.push(t[t.length - 1] + 0.001); for (const c of cols) c.push(null); }
        t.push(n.points.t[i]);
        for (const [k, c] of cols.entries()) c.push(n.points.c[k][i]);
      }
      if (t.length > 2400) { // the oldest half is thinned, the newest stays whole
        const half = t.length >> 1;
        const keep = (x, i) => i >= half || i % 2 === 0 || cols.every((c) => c[i] === null);
        const kept = cols.map((c) => c.filter(keep));
        t = t.filter(keep);
        cols = kept;
      }
      if (n.points.t.length) dirty = true;
    }
    numbers(n.now);
    if (view) {
      $("timer").textContent = clock(held(view, at));
      $("timerword").textContent = !view.leg ? "" : !view.held ? view.word : view.planned ? `of ${clock(view.planned)}` : view.word;
      const disk = $("disk");
      disk.textContent = view.leg && n.disk > 0 ? `on disk to ${clock(n.disk)}.${Math.floor((n.disk % 1) * 10)}` : "";
    }
    if (n.picture !== undefined) later.picture = n.picture;
    if (n.estimate) later.estimate = { ...n.estimate, limit: n.estimate.limit || limit, fit: n.estimate.fit || fit };
    if (!pressing) settle();
  }
  // What gives the page another height waits while a button is held down: it must not slide
  // away from under the finger, or the press is lost.
  let later = {}, pressing = false;
  document.addEventListener("pointerdown", () => { pressing = true; }, { capture: true });
  for (const type of ["pointerup", "pointercancel"]) document.addEventListener(type, () => { pressing = false; setTimeout(settle); }, { capture: true });
  function settle() {
    if (pressing) return;
    const { picture, estimate } = later;
    later = {};
    if (picture !== undefined) {
      const at = document.activeElement && $("picture").contains(document.activeElement) ? document.activeElement.dataset.part : "";
      $("picture").innerHTML = picture;
      if (at) { const again = $("picture").querySelector(`[data-part="${at}"]`); if (again) again.focus({ preventScroll: true }); } // who goes through the parts by key stays where he was
      $("picture").hidden = !picture;
      dirty = true; // the trace has another height beside it
    }
    if (estimate) {
      ({ limit, fit } = estimate);
      $("verdict").innerHTML = estimate.html;
      $("scale").innerHTML = estimate.scale || "";
      if (view && !view.leg) speak(estimate.says);
      dirty = true;
    }
  }
  // The readings of this moment.
  function numbers(now) {
    const columns = view ? view.columns : [];
    const text = (i) => (now ? figure(columns[i], now.v[i], now.over[i]) : "—");
    if (now) at = now.at;
    const first = columns[large];
    $("inches").textContent = first ? text(large) : "";
    const kpa = first && { inH2O: 0.249089, inHg: 3.38639 }[first.unit];
    $("second").hidden = !kpa;
    if (kpa) $("kpa").textContent = now && now.v[large] !== null && !now.over[large] ? figure({ digits: 3 }, now.v[large] * kpa) : now && now.over[large] ? "over" : "—";
    for (const [i, b] of [...$("others").children].entries()) b.lastChild.textContent = `${text(i)} ${columns[i] ? columns[i].unit : ""}`;
    if (kpa) level(now && now.v[large] !== null ? { inh2o: now.v[large], over: now.over[large] } : null);
  }

  // What charges or draws wants a hand that means it: the button is held down for a moment,
  // or its key is followed by another. With the seal list open it asks first. Stop and
  // opening to the air never wait.
  const heldFor = 800, armedFor = 5000, deadFor = 2000;
  const open = Number(root.dataset.open || 0);
  const moves = (leg) => Boolean(view && view.steps.some((s) => s.leg === leg && s.energises));
  async function sealed() {
    if (!open) return true;
    const d = $("unsealed");
    d.showModal();
    return new Promise((ok) => d.addEventListener("close", () => ok(d.returnValue === "go"), { once: true }));
  }
  let armed = null; // what the second key would do, and until when
  function meant(button, needed, act) {
    let timer = 0, fired = false; // fired: the click that ends the holding is none of its own
    const off = () => { clearTimeout(timer); timer = 0; button.removeAttribute("data-holding"); };
    const go = async () => {
      off();
      armed = null;
      hint(nextShown);
      if (root.dataset.quiet !== undefined) { hint("A moment: the rig was told to charge just now. Press again in two seconds."); return; }
      if (!await sealed()) return;
      root.dataset.quiet = "";
      setTimeout(() => delete root.dataset.quiet, deadFor);
      act();
    };
    button.addEventListener("pointerdown", (e) => {
      fired = false;
      if (!needed() || e.button) return;
      button.setAttribute("data-holding", "");
      hint("Keep holding.");
      timer = setTimeout(() => { fired = true; go(); }, heldFor);
    });
    for (const type of ["pointerup", "pointerleave", "pointercancel"]) button.addEventListener(type, () => { if (timer) { off(); hint(`Hold the button down: it ${view && view.holds ? "charges the car" : "charges or moves something on the car"}.`); } });
    button.addEventListener("click", (e) => {
      if (fired) { fired = false; return; }
      if (!needed()) { act(); return; }
      if (e.detail) return; // by hand: the holding counts
      armed = { go, until: Date.now() + armedFor };
      hint(`Press c within five seconds: it ${view && view.holds ? "charges the car" : "charges or moves something on the car"}.`);
    });
    button.addEventListener("contextmenu", (e) => e.preventDefault()); // a long touch
  }
  document.addEventListener("keydown", (e) => {
    if (e.key !== "c" || !armed || /INPUT|TEXTAREA|SELECT/.test(e.target.tagName)) return;
    e.preventDefault();
    if (Date.now() < armed.until) armed.go();
  });
  function hint(words) { const n = $("next"); n.textContent = words; }

  // Pressing a button.
  const post = sender(id, $("sender"), "bench", complain);
  function send(what, button) {
    refused = "";
    return post(what, button);
  }
  function complain(words) {
    refused = words;
    const b = $("say");
    b.hidden = false;
    b.textContent = words;
  }
  meant($("main"), () => view && !view.leg && moves(view.start), () => {
    if (view && view.leg) return send({ do: view.onward ? "onward" : "stop" }, $("main"));
    return send({ do: "start", leg: view ? view.start : "" }, $("main"));
  });
  // While something is heard or felt, the space bar marks it whatever was clicked last.
  document.addEventListener("keydown", (e) => {
    if (e.key !== " " || !tapping() || /INPUT|TEXTAREA|SELECT/.test(e.target.tagName)) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    if (!e.repeat) send({ do: "mark", tap: view.taps[0].key }, null);
  }, { capture: true });
  for (const b of document.querySelectorAll("[data-tap]")) b.addEventListener("click", () => send({ do: "mark", tap: b.dataset.tap }, null));
  document.querySelectorAll("[data-command]").forEach((b) => meant(b, () => b.dataset.command === "charge" || b.dataset.command === "draw", () => send({ do: "rig", command: b.dataset.command }, b)));
  // A place: tapped on the picture or chosen, then what is seen there.
  const placeform = $("placeform");
  if (placeform) {
    $("picture").addEventListener("click", (e) => {
      const a = e.target.closest("a[data-part]");
      if (!a) return;
      e.preventDefault();
      placeform.elements.part.value = a.dataset.part;
      if (placeform.elements.part.value) placeform.querySelector("button").focus({ preventScroll: true });
    });
    placeform.addEventListener("submit", async (e) => {
      e.preventDefault();
      const photo = placeform.elements.photo;
      const what = { do: "place", part: placeform.elements.part.value, what: e.submitter.value };
      if (photo.files[0]) what.photo = photo.files[0];
      if (await send(what, e.submitter)) { photo.value = ""; placeform.elements.part.value = ""; }
    });
  }
  $("mark").addEventListener("click", () => { const f = $("markform"); f.hidden = !f.hidden; if (!f.hidden) f.elements.words.focus(); });
  $("markform").addEventListener("submit", async (e) => {
    e.preventDefault();
    if (await send({ do: "mark", words: e.target.elements.words.value }, e.submitter)) { e.target.elements.words.value = ""; e.target.hidden = true; $("mark").focus(); }
  });
  $("move").addEventListener("click", () => {
    const f = $("moveform");
    f.hidden = !f.hidden;
    moving = !f.hidden;
    $("move").setAttribute("aria-expanded", String(moving));
    $("trace").classList.toggle("moving", moving);
    if (moving) { f.elements.at.value = view && view.shut ? (view.moved || view.from).toFixed(1) : ""; f.elements.at.focus(); }
  });
  async function move(x) {
    $("moveform").elements.at.value = x;
    if (await send({ do: "move", at: x }, null)) { $("moveform").hidden = true; moving = false; $("trace").classList.remove("moving"); }
  }
  $("moveform").addEventListener("submit", (e) => { e.preventDefault(); move(e.target.elements.at.value); });
  $("again").addEventListener("click", () => move("0"));

  follow(id, {
    news,
    gone() {
      if (!view) { location.reload(); return; } // let go while the page was on its way: it then offers a module
      complain("This bench was let go. Load the page to take a module again.");
    },
    silent() { complain("Wexter does not answer. What was on disk is kept; this page goes on by itself when it is back."); numbers(null); },
    back() { if (view) { view = null; refused = nextShown = stepsShown = figuresShown = ""; } },
  });
}
