// A case's car, live: the adapter's data in a table and, for a simulated car, pressures
// beside the volumes, blades as they stand and smoke where it has come.
const root = document.querySelector("[data-car]");
if (root && root.dataset.adapter) start();

function start() {
  const $ = (name) => root.querySelector(`[data-${name}]`);
  const svg = root.querySelector("svg.map");
  const drawn = JSON.parse(root.dataset.drawn || "{}");
  const ns = "http://www.w3.org/2000/svg";
  const part = (key) => svg && svg.querySelector(`[data-part="${CSS.escape(key)}"]`);

  // Where a volume stands on the drawing, its figure goes on a strip below its middle.
  const labels = new Map();
  const volumes = new Set((root.dataset.volumes || "").split(" "));
  const said = (v, tiny) => Math.abs(v) < tiny ? "0.00" : `${v < 0 ? "−" : ""}${Math.abs(v).toFixed(Math.abs(v) < 9.95 ? 2 : Math.abs(v) < 99.5 ? 1 : 0)}`;
  const inH2O = 249.08891; // Pa
  function label(key, pa) {
    if (!volumes.has(key)) return;
    let g = labels.get(key);
    if (!g) {
      const el = part(key), shape = el && el.querySelector("rect.m-line");
      if (!shape) return;
      const b = shape.getBBox();
      if (b.width < 40) return;
      g = document.createElementNS(ns, "g");
      g.setAttribute("class", "m-live");
      const strip = document.createElementNS(ns, "rect");
      strip.setAttribute("x", b.x + b.width / 2 - 28);
      const low = b.height < 36; // no room inside: above it
      const y = low ? b.y - 31 : b.y + b.height - (b.height < 60 ? 9 : 24);
      strip.setAttribute("y", y);
      strip.setAttribute("width", 56);
      strip.setAttribute("height", 32);
      g.append(strip);
      for (const [n, size] of [[0, 14], [1, 12]]) {
        const t = document.createElementNS(ns, "text");
        t.setAttribute("x", b.x + b.width / 2);
        t.setAttribute("y", y + 14 + 14 * n);
        t.setAttribute("text-anchor", "middle");
        if (size < 14) t.setAttribute("class", "second");
        g.append(t);
      }
      svg.append(g);
      labels.set(key, g);
    }
    g.children[1].textContent = said(pa / inH2O, 0.02);
    g.children[2].textContent = said(pa / 1000, 0.005);
  }

  function turn(key, open) {
    const el = part(key), blade = el && el.querySelector(".m-blade"), disc = el && el.querySelector("circle.m-line");
    if (!blade || !disc || !drawn[key]) return;
    const from = drawn[key] === "open" ? 1 : 0;
    blade.setAttribute("transform", `rotate(${(90 * (from - open)).toFixed(1)} ${disc.getAttribute("cx")} ${disc.getAttribute("cy")})`);
    el.dataset.open = open.toFixed(2);
  }

  function state(s) {
    for (const [k, pa] of Object.entries(s.pressure_pa)) label(k, pa);
    for (const [k, o] of Object.entries(s.open)) turn(k, o);
    const smoky = [];
    if (svg) svg.querySelectorAll("[data-part]").forEach((el) => {
      const has = (s.smoke[el.dataset.part] || 0) > 0.15;
      el.classList.toggle("smoky", has);
      if (has) smoky.push(el.getAttribute("aria-label").split(",")[0]);
    });
    $("smoke").textContent = smoky.length ? `Smoke has come to: ${smoky.slice(0, 8).join(", ")}.` : "";
    const speed = s.live["0C"] || 0;
    $("now").textContent = s.stalled ? "the engine has died" : s.running ? `engine runs, ${Math.round(speed)} rpm` : s.mode === "key" ? "key on, engine off" : "key off";
    root.querySelectorAll("[data-mode]").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.mode === s.mode)));
    const codes = [s.stored.length ? `stored ${s.stored.join(" ")}` : "", s.pending.length ? `pending ${s.pending.join(" ")}` : ""].filter(Boolean).join("; ");
    $("codes").textContent = (codes ? `Codes: ${codes}.` : "No codes.") + (s.blocked ? ` Leak check: ${s.blocked}.` : "");
  }

  const rows = root.querySelector("[data-live-rows]");
  const cells = new Map();
  function table(live) {
    if (!live.length) return;
    const want = live.map((v) => v.name).join("|");
    if (rows.dataset.of !== want) {
      rows.dataset.of = want;
      rows.replaceChildren();
      cells.clear();
      for (const v of live) {
        const tr = rows.insertRow(), th = document.createElement("th");
        th.scope = "row";
        th.textContent = v.name;
        tr.append(th);
        const td = tr.insertCell();
        if (v.trim) th.append(trimBar(v.name));
        td.className = v.unit || /^[-\d.]+$/.test(v.value) ? "fig" : "";
        cells.set(v.name, td);
      }
    }
    for (const v of live) {
      cells.get(v.name).textContent = `${v.value} ${v.unit}`.trim();
      if (v.trim) moveTrim(v.name, Number(v.value.replace("−", "-").replace(",", ".")));
    }
  }

  // A fuel trim is a bar from zero, on the scale and with the stops of a saved scan's drawing.
  const scale = Number(root.dataset.trimScale), stop = Number(root.dataset.trimStop);
  const trims = new Map();
  const at = (v) => 50 + 50 * Math.max(-1, Math.min(1, v / scale));
  function shape(svg, kind, cls, set) {
    const e = document.createElementNS(ns, kind);
    e.setAttribute("class", cls);
    for (const [k, v] of Object.entries(set)) e.setAttribute(k, v);
    svg.append(e);
    return e;
  }
  function trimBar(name) {
    const svg = document.createElementNS(ns, "svg");
    svg.setAttribute("class", "trimlive");
    svg.setAttribute("aria-hidden", "true");
    shape(svg, "rect", "t-stop", { x: 0, y: 2, width: `${at(-stop)}%`, height: 14 });
    shape(svg, "rect", "t-stop", { x: `${at(stop)}%`, y: 2, width: `${100 - at(stop)}%`, height: 14 });
    trims.set(name, shape(svg, "rect", "t-bar", { x: "50%", y: 5, width: 0, height: 8 }));
    shape(svg, "line", "t-zero", { x1: "50%", x2: "50%", y1: 0, y2: 18 });
    return svg;
  }
  function moveTrim(name, v) {
    const bar = trims.get(name);
    if (!bar || Number.isNaN(v)) return;
    bar.setAttribute("x", `${Math.min(50, at(v))}%`);
    bar.setAttribute("width", `${Math.abs(at(v) - 50)}%`);
    bar.classList.toggle("t-at", Math.abs(v) >= stop);
  }

  const failed = $("failed");
  const say = (text) => { failed.textContent = text; failed.hidden = !text; };
  const events = new EventSource(`/cases/${root.dataset.car}/car/stream?adapter=${encodeURIComponent(root.dataset.adapter)}`);
  events.onmessage = (e) => {
    const n = JSON.parse(e.data);
    if (n.failed) { say(n.failed); return; }
    table(n.live);
    if (n.state) state(n.state);
    document.body.dataset.lived = String(Number(document.body.dataset.lived || 0) + 1);
  };
  events.onerror = () => { if (events.readyState === EventSource.CLOSED) say("The adapter is no longer heard. Load the page again."); };
  addEventListener("pagehide", () => events.close());

  // Commands go without leaving the page, so that nothing on it blinks.
  root.querySelectorAll("form[action$='/car/do']").forEach((f) => f.addEventListener("submit", async (e) => {
    e.preventDefault();
    e.stopPropagation();
    const b = f.querySelector("button");
    b.setAttribute("aria-busy", "true");
    try {
      const r = await fetch(f.action, { method: "POST", body: new URLSearchParams(new FormData(f)), headers: { Accept: "application/json" } });
      const j = await r.json();
      say(j.failed || "");
    } catch (err) {
      say("It could not be sent: is Wexter still running?");
    }
    b.removeAttribute("aria-busy");
  }));
}
