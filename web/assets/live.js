// A live bench: what the module reads, ten times a second, over server-sent events.
import uPlot from "uplot";

const root = document.querySelector("[data-live]");
const id = root && root.dataset.live;
const $ = (name) => document.querySelector(`[data-${name}]`);
// A canvas takes no colour that depends on the scheme: an element is asked what it comes to.
const probe = document.createElement("i");
probe.hidden = true;
document.body.append(probe);
const css = (name) => { probe.style.color = `var(${name})`; return getComputedStyle(probe).color; };
const clock = (s) => `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, "0")}`;
const legNames = { rig: "rig check", zero: "zero", drift: "drift leg", hold: "hold", vacuum: "vacuum hold", reference: "known orifice" };

if (id) start();

function start() {
  let view = null;
  let run = "";
  let t = [], p = [];
  let limit = null, fit = null;
  let bellSeen = -1;
  let moving = false;
  let dirty = false;
  let at = 0;

  // The bell: a tone made here, for somebody under the car.
  let bellOn = true;
  try { bellOn = localStorage.getItem("bell") !== "off"; } catch (e) { /* not kept */ }
  let sound = null;
  const wake = () => { if (!sound && window.AudioContext) sound = new AudioContext(); if (sound && sound.state === "suspended") sound.resume(); };
  document.addEventListener("pointerdown", wake);
  document.addEventListener("keydown", wake);
  function ring() {
    document.body.dataset.rang = String(Number(document.body.dataset.rang || 0) + 1);
    if (!bellOn || !sound) return;
    for (const [k, f] of [880, 1175].entries()) {
      const o = sound.createOscillator(), g = sound.createGain(), from = sound.currentTime + 0.28 * k;
      o.frequency.value = f;
      g.gain.setValueAtTime(0.0001, from);
      g.gain.exponentialRampToValueAtTime(0.4, from + 0.02);
      g.gain.exponentialRampToValueAtTime(0.0001, from + 0.9);
      o.connect(g).connect(sound.destination);
      o.start(from);
      o.stop(from + 1);
    }
  }
  function showBell() {
    const b = $("bell");
    b.setAttribute("aria-pressed", String(bellOn));
    b.firstChild.textContent = bellOn ? "Bell on " : "Bell off ";
  }
  $("bell").addEventListener("click", () => {
    bellOn = !bellOn;
    try { localStorage.setItem("bell", bellOn ? "on" : "off"); } catch (e) { /* for this page only */ }
    showBell();
  });
  showBell();

  // The trace.
  let plot = null;
  function draw() {
    const box = $("trace");
    if (box.hidden || !box.clientWidth) return;
    const height = Math.max(200, Math.min(320, window.innerHeight - 530));
    const size = { width: box.clientWidth, height };
    const tables = [[t, p]];
    tables.push(limit ? [limit.t, limit.p] : [[], []], fit ? [fit.t, fit.p] : [[], []]);
    const data = uPlot.join(tables);
    if (plot && plot.width === size.width && plot.height === size.height) {
      plot.setData(data);
      return;
    }
    if (plot) plot.destroy();
    const ink = css("--color-ink"), grid = css("--color-grid");
    const axis = { stroke: ink, font: "14px Figures, monospace", grid: { stroke: grid, width: 1 }, ticks: { stroke: grid, width: 1 } };
    plot = new uPlot({
      ...size, legend: { show: false }, cursor: { show: false }, padding: [8, 8, 0, 0],
      scales: { x: { time: false, range: (u, lo, hi) => [0, Math.max(30, view && view.planned && view.shut_at ? view.shut_at + view.planned : 0, (hi || 0) * 1.02)] },
        y: { range: (u, lo, hi) => { const top = Math.max(hi || 0, 0.5), low = Math.min(lo || 0, 0); return [low < -0.3 ? low * 1.08 : Math.min(low, -0.2), top * 1.08]; } } },
      axes: [{ ...axis, size: 34 }, { ...axis, size: 46 }],
      series: [{}, { stroke: css("--color-measured"), width: 1.6, points: { show: false }, spanGaps: false },
        { stroke: css("--color-found"), width: 1.8, dash: [8, 5], points: { show: false }, spanGaps: true },
        { stroke: ink, width: 1.5, dash: [2, 4], points: { show: false }, spanGaps: true }],
      hooks: { draw: [marks] },
    }, data, box);
    box.querySelector(".u-over").addEventListener("click", (e) => {
      if (!moving) return;
      const x = plot.posToVal(e.offsetX, "x");
      move(Math.max(0, x).toFixed(1));
    });
  }
  function marks(u) {
    if (!view) return;
    const c = u.ctx, k = devicePixelRatio;
    const line = (x, words, colour, row) => {
      const px = u.valToPos(x, "x", true);
      c.save();
      c.strokeStyle = c.fillStyle = colour;
      c.lineWidth = 1.5 * k;
      c.setLineDash([]);
      c.textAlign = "left";
      c.textBaseline = "alphabetic";
      c.beginPath();
      c.moveTo(px, u.bbox.top);
      c.lineTo(px, u.bbox.top + u.bbox.height);
      c.stroke();
      c.font = `500 ${14 * k}px Text, sans-serif`;
      const w = c.measureText(words).width;
      c.fillText(words, Math.min(px + 5 * k, u.bbox.left + u.bbox.width - w), u.bbox.top + (14 + 16 * row) * k);
      c.restore();
    };
    if (view.shut_at > 0 && view.leg) line(view.moved || view.shut_at, view.moved ? "start, moved" : "shut off", css("--color-ink"), 0);
    (view.marks || []).forEach((m, i) => line(m.t_s, m.text, css("--color-second"), 1 + (i % 3)));
    for (const g of view.gaps || []) {
      const a = u.valToPos(g.from_s, "x", true), b = u.valToPos(g.to_s, "x", true);
      c.save();
      c.fillStyle = css("--color-grid");
      c.fillRect(a, u.bbox.top, b - a, u.bbox.height);
      c.fillStyle = css("--color-ink");
      c.textAlign = "left";
      c.font = `500 ${14 * k}px Text, sans-serif`;
      c.fillText("nothing read", a + 4 * k, u.bbox.top + u.bbox.height - 8 * k);
      c.restore();
    }
  }
  new ResizeObserver(() => { dirty = true; }).observe($("trace"));
  new MutationObserver(() => { if (plot) { plot.destroy(); plot = null; } dirty = true; }).observe(document.documentElement, { attributeFilter: ["data-scheme"] });
  (function frame() { if (dirty) { dirty = false; draw(); } requestAnimationFrame(frame); })();

  // What the bench says.
  function show(v) {
    view = v;
    dirty = true;
    const words = $("next");
    if (words.textContent !== v.next) words.textContent = v.next;
    const say = v.disk || v.said || "";
    const problem = $("say");
    problem.hidden = !say;
    if (problem.textContent !== say) problem.textContent = say;
    $("module").textContent = v.module ? `${v.module}, ${v.status === "on" ? `${v.rate} Hz` : v.status === "looking" ? "looking for it" : "not measuring"}` : "";
    const lamp = $("lamp");
    lamp.hidden = !v.module;
    lamp.dataset.state = v.status;
    $("rig").hidden = !(v.commands || []).includes("charge");
    const main = $("main");
    const label = v.leg ? (v.leg === "hold" || v.leg === "vacuum" || v.leg === "reference" ? "Stop and keep " : "Stop ") : v.start ? `Start: ${legNames[v.start]} ` : "";
    main.hidden = !label;
    $("done").hidden = Boolean(label) || v.status === "looking";
    main.firstChild.textContent = label;
    $("mark").hidden = $("move").hidden = !v.leg;
    if (!v.leg) { $("moveform").hidden = $("markform").hidden = true; moving = false; }
    steps(v);
    if (bellSeen >= 0 && v.bell > bellSeen) ring();
    bellSeen = v.bell;
    if (v.result) $("next").textContent = `${v.result} ${v.next}`;
  }
  let stepsShown = "";
  function steps(v) {
    const key = JSON.stringify([v.steps, v.leg]);
    if (key === stepsShown) return;
    stepsShown = key;
    const list = $("steps");
    const focused = document.activeElement && list.contains(document.activeElement) ? document.activeElement.dataset.step : "";
    list.replaceChildren(...v.steps.map((s, i) => {
      const li = document.createElement("li");
      li.className = s.state;
      const dot = Object.assign(document.createElement("i"), { textContent: s.state === "done" ? "✓" : String(i + 1), ariaHidden: "true" });
      const text = document.createElement("span");
      text.append(Object.assign(document.createElement("b"), { textContent: s.name }), Object.assign(document.createElement("small"), { textContent: s.detail }));
      if (s.state === "now") li.setAttribute("aria-current", "step");
      li.append(dot, text);
      if (s.leg && !v.leg && s.state !== "next") {
        const b = Object.assign(document.createElement("button"), { type: "button", className: "again", textContent: s.state === "done" ? "again" : "make" });
        b.dataset.step = s.key;
        b.setAttribute("aria-label", `${s.state === "done" ? "make again" : "make"}: ${s.name}`);
        meant(b, () => moves(s.leg), () => send({ do: s.state === "done" ? "redo" : "start", leg: s.leg }, b));
        li.append(b);
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
  // While a leg is read the screen stays on: a tablet that sleeps is a browser that was closed.
  let awake = null;
  async function stayAwake(on) {
    try {
      if (on && !awake && navigator.wakeLock) { awake = await navigator.wakeLock.request("screen"); awake.addEventListener("release", () => { awake = null; }); }
      if (!on && awake) await awake.release();
    } catch (e) { /* the system does not want to: the page says what happens when nobody looks */ }
  }
  document.addEventListener("visibilitychange", () => { if (document.visibilityState === "visible") stayAwake(Boolean(view && view.leg)); });

  function news(n) {
    if (n.view) { show(n.view); stayAwake(Boolean(n.view.leg)); }
    if (n.points) {
      // Between legs the trace of the last one stays.
      if (n.points.run && (n.points.run !== run || n.points.from === 0)) {
        run = n.points.run; t = []; p = []; limit = fit = null;
        $("trace").hidden = false;
      }
      for (let i = 0; i < n.points.t.length; i++) {
        if (t.length && n.points.t[i] - t[t.length - 1] > 1.5 && (view.gaps || []).some((g) => g.to_s > t[t.length - 1] && g.from_s < n.points.t[i])) { t.push(t[t.length - 1] + 0.001); p.push(null); }
        t.push(n.points.t[i]);
        p.push(n.points.p[i]);
      }
      if (t.length > 2400) { // the oldest half is thinned, the newest stays whole
        const half = t.length >> 1;
        const keep = (x, i) => i >= half || i % 2 === 0 || p[i] === null;
        const q = p.filter((x, i) => keep(x, i));
        t = t.filter((x, i) => keep(x, i));
        p = q;
      }
      if (n.points.t.length) dirty = true;
    }
    const big = $("inches");
    level(n.now);
    if (n.now) {
      at = n.now.at;
      big.textContent = n.now.over ? "over" : n.now.inh2o.toFixed(2).replace("-", "−");
      $("kpa").textContent = n.now.over ? "over" : n.now.kpa.toFixed(3).replace("-", "−");
    } else {
      big.textContent = $("kpa").textContent = "—";
    }
    if (view) {
      const held = view.shut_at > 0 && view.phase !== "charge" ? at - view.shut_at : view.leg === "drift" || view.leg === "zero" ? at : 0;
      $("timer").textContent = clock(view.leg ? Math.max(held, 0) : 0);
      $("timerword").textContent = !view.leg ? "" : view.phase === "charge" ? "charging" : `of ${clock(view.planned)}`;
      const disk = $("disk");
      disk.textContent = view.leg && n.disk > 0 ? `on disk to ${clock(n.disk)}.${Math.floor((n.disk % 1) * 10)}` : "";
    }
    if (n.estimate) {
      limit = n.estimate.limit || limit;
      fit = n.estimate.fit || fit;
      $("verdict").innerHTML = n.estimate.html;
      $("scale").innerHTML = n.estimate.scale || "";
      dirty = true;
    }
  }

  // What charges or draws wants a hand that means it: the button is held down for a moment,
  // or its key is followed by another. With the seal list open it asks first. Stop and
  // opening to the air never wait.
  const heldFor = 800, armedFor = 5000, deadFor = 2000;
  const charging = ["rig", "hold", "vacuum", "reference"];
  const open = Number(root.dataset.open || 0);
  const moves = (leg) => (view && (view.commands || []).includes("charge") && charging.includes(leg));
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
      timer = setTimeout(() => { fired = true; go(); }, heldFor);
    });
    for (const type of ["pointerup", "pointerleave", "pointercancel"]) button.addEventListener(type, () => { if (timer) { off(); hint("Hold the button down: it charges the car."); } });
    button.addEventListener("click", (e) => {
      if (fired) { fired = false; return; }
      if (!needed()) { act(); return; }
      if (e.detail) return; // by hand: the holding counts
      armed = { go, until: Date.now() + armedFor };
      hint("Press c within five seconds: it charges the car.");
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
  let presses = 0;
  async function send(what, button) {
    if (button) { if (button.getAttribute("aria-busy")) return; button.setAttribute("aria-busy", "true"); }
    try {
      const body = new URLSearchParams(new FormData($("sender")));
      for (const [k, v] of Object.entries(what)) body.set(k, v);
      body.set("press", `${Date.now()}.${presses++}`);
      const r = await fetch(`/tests/${id}/live`, { method: "POST", body, signal: AbortSignal.timeout(15000) });
      if (r.status === 204) return true;
      const said = await r.json().catch(() => ({ say: "That was not done. Load the page again." }));
      complain(said.say);
    } catch (e) {
      complain("Wexter does not answer. What was on disk is kept; start it again and load this page.");
    } finally {
      if (button) button.removeAttribute("aria-busy");
    }
    return false;
  }
  function complain(words) {
    const b = $("say");
    b.hidden = false;
    b.textContent = words;
  }
  meant($("main"), () => view && !view.leg && moves(view.start), () => send(view && view.leg ? { do: "stop" } : { do: "start", leg: view ? view.start : "" }, $("main")));
  document.querySelectorAll("[data-command]").forEach((b) => meant(b, () => b.dataset.command === "charge" || b.dataset.command === "draw", () => send({ do: "rig", command: b.dataset.command }, b)));
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
    if (moving) { f.elements.at.value = view && view.shut_at ? (view.moved || view.shut_at).toFixed(1) : ""; f.elements.at.focus(); }
  });
  async function move(x) {
    $("moveform").elements.at.value = x;
    if (await send({ do: "move", at: x }, null)) { $("moveform").hidden = true; moving = false; $("trace").classList.remove("moving"); }
  }
  $("moveform").addEventListener("submit", (e) => { e.preventDefault(); move(e.target.elements.at.value); });
  $("again").addEventListener("click", () => move("0"));

  const stream = new EventSource(`/tests/${id}/live/stream`);
  stream.onmessage = (e) => news(JSON.parse(e.data));
  let silent = 0;
  stream.onerror = () => {
    if (stream.readyState === EventSource.CLOSED) {
      if (!view) { location.reload(); return; } // let go while the page was on its way: it then offers a module
      complain("This bench was let go. Load the page to take a module again.");
      return;
    }
    if (!silent) silent = setTimeout(() => { complain("Wexter does not answer. What was on disk is kept; this page goes on by itself when it is back."); $("inches").textContent = $("kpa").textContent = "—"; }, 1500);
  };
  stream.addEventListener("open", () => { clearTimeout(silent); silent = 0; if (view) { view = null; stepsShown = ""; } });
}
