import Alpine from "@alpinejs/csp";

// Second unit under a field: what was typed, in the other system, as it is typed. The
// server says it, so that the hint takes what the form takes. Only the newest answer counts.
const hints = new Map();

async function beside(input) {
  const { kind, bare } = input.dataset;
  const text = input.value.trim();
  if (!text) return { beside: "" };
  const url = `/second?${new URLSearchParams({ kind, bare: bare || "", text })}`;
  if (!hints.has(url)) {
    if (hints.size > 300) hints.clear();
    hints.set(url, fetch(url, { headers: { Accept: "application/json" } }).then((r) => (r.ok ? r.json() : { beside: "" })).catch(() => { hints.delete(url); return { beside: "" }; }));
  }
  return hints.get(url);
}

Alpine.data("quantity", () => ({
  beside: "",
  asked: 0,
  init() {
    this.beside = this.$root.querySelector(".beside").textContent;
    if (!this.beside) this.show(); // typed before this script was here
  },
  // Under the finger: a minus, which number pads leave out, and the units. The row lies over
  // what is below and moves nothing.
  offer() {
    const input = this.$root.querySelector("input");
    if (this.$root.querySelector(".pad")) return;
    const pad = document.createElement("div");
    pad.className = "pad";
    const key = (words, label, act) => {
      const b = Object.assign(document.createElement("button"), { type: "button", tabIndex: -1, textContent: words, ariaLabel: label });
      b.addEventListener("pointerdown", (e) => e.preventDefault()); // the field keeps the focus
      b.addEventListener("click", () => { input.value = act(input.value); input.dispatchEvent(new Event("input", { bubbles: true })); });
      pad.append(b);
    };
    key("±", "change the sign", (v) => (/^\s*[-−]/.test(v) ? v.replace(/^\s*[-−]\s*/, "") : `-${v.trimStart()}`));
    for (const u of input.dataset.units.split(" ")) key(u, `in ${u}`, (v) => `${(v.match(/^\s*[-+−]?[\d.,]*/) || [""])[0].trim()} ${u}`);
    this.$root.append(pad);
  },
  show() { return this.ask(() => ""); }, // half typed, a unit is not wrong yet
  check() { return this.ask((wrong) => (wrong ? "not understood" : "")); }, // one line: a longer word would push away the button being pressed
  async ask(refused) {
    const mine = ++this.asked;
    const said = await beside(this.$root.querySelector("input"));
    if (mine === this.asked) this.beside = said.beside || refused(said.wrong || "");
  },
}));

// A car the shop remembers fills the form when its plate is typed.
Alpine.data("plate", () => ({
  said: "",
  async recall() {
    const form = this.$root.closest("form");
    const plate = form.elements.plate.value.trim();
    if (!plate) return;
    const r = await fetch(`/vehicles?plate=${encodeURIComponent(plate)}`, { headers: { Accept: "application/json" } });
    if (!r.ok) { this.said = ""; return; }
    const v = await r.json();
    for (const k of ["make", "model", "year", "odometer", "tank", "metering", "archetype", "engine", "boost", "crankcase", "recirculation"]) {
      const f = form.elements[k];
      if (f && v[k] && (f.value === "" || f.tagName === "SELECT")) f.value = v[k];
    }
    form.querySelectorAll("input[data-kind]").forEach((i) => i.dispatchEvent(new Event("input", { bubbles: true })));
    this.said = `${v.make} ${v.model} is known here`;
  },
}));

// Codes tapped in by hand: a tap adds, a second tap takes away.
Alpine.data("codes", () => ({
  add() {
    const code = this.$event.currentTarget.dataset.code;
    const f = this.$root.querySelector("input[name=codes]");
    const have = f.value.split(/[\s,;]+/).filter(Boolean);
    const at = have.indexOf(code);
    if (at < 0) have.push(code); else have.splice(at, 1);
    f.value = have.join(" ");
    this.$event.currentTarget.setAttribute("aria-pressed", String(at < 0));
  },
}));

// The words of an intake suggest chips: they are offered in a row of their own, and pressed by
// a person or not at all. A part that was replaced has no chip before it is offered.
Alpine.data("intake", () => ({
  asked: 0, timer: 0,
  init() { this.words(); },
  words() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.ask(), 200);
  },
  async ask() {
    const f = this.$root, of = (n) => f.elements[n].value;
    const mine = ++this.asked;
    const q = new URLSearchParams({ text: of("complaint"), work: of("recent_work") });
    q.set("text", `${of("complaint")}. ${of("recent_work")}`);
    for (const n of ["archetype", "engine", "boost", "crankcase", "recirculation", "metering"]) q.set(n, of(n));
    const found = await fetch(`/suggest?${q}`, { headers: { Accept: "application/json" } }).then((r) => (r.ok ? r.json() : [])).catch(() => []);
    if (mine !== this.asked) return;
    const row = f.querySelector("[data-offers]");
    const box = (tap) => [...f.querySelectorAll("input[name=seen]")].find((i) => i.value === tap);
    // What was pressed here stays; the rest of the row is what the words suggest now.
    row.querySelectorAll(".chip").forEach((l) => { const i = l.querySelector("input"); if (!i || !i.checked) l.remove(); });
    row.querySelectorAll("button").forEach((b) => b.remove());
    for (const o of found) {
      const there = box(o.tap);
      if (there && there.checked) continue;
      if (there) {
        const b = Object.assign(document.createElement("button"), { type: "button", className: "chip", textContent: o.name, title: `from “${o.said}”` });
        b.addEventListener("click", () => { there.checked = true; there.dispatchEvent(new Event("input", { bubbles: true })); b.remove(); this.none(); });
        row.append(b);
      } else {
        const l = document.createElement("label"), i = Object.assign(document.createElement("input"), { type: "checkbox", name: "seen", value: o.tap });
        l.className = "chip";
        l.append(i, o.name);
        row.append(l);
      }
    }
    this.none();
  },
  none() { this.$root.querySelector("[data-offered]").hidden = !this.$root.querySelector("[data-offers]").children.length; },
}));

// Start and end of the hold, dragged on the plot or typed.
Alpine.data("cut", () => ({
  which: "",
  px(event) {
    const svg = this.$root.querySelector("svg");
    const p = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
    const d = this.$root.dataset;
    const u = (p.x - Number(d.x)) / Number(d.w);
    return Math.min(Math.max(Number(d.min) + u * (Number(d.max) - Number(d.min)), Number(d.min)), Number(d.max));
  },
  down() {
    const t = this.px(this.$event);
    const [a, b] = ["start", "end"].map((n) => Number(this.field(n).value));
    const near = (Number(this.$root.dataset.max) - Number(this.$root.dataset.min)) / 25;
    if (Math.min(Math.abs(t - a), Math.abs(t - b)) > near) return;
    this.which = Math.abs(t - a) <= Math.abs(t - b) ? "start" : "end";
    this.$event.preventDefault();
  },
  move() {
    if (!this.which) return;
    this.field(this.which).value = this.px(this.$event).toFixed(1);
    this.draw();
  },
  up() {
    if (!this.which) return;
    this.which = "";
    this.$root.querySelector("form").requestSubmit();
  },
  field(n) { return this.$root.querySelector(`input[name=${n}]`); },
  draw() {
    const d = this.$root.dataset;
    for (const n of ["start", "end"]) {
      const x = Number(d.x) + ((Number(this.field(n).value) - Number(d.min)) / (Number(d.max) - Number(d.min))) * Number(d.w);
      const g = this.$root.querySelector(`[data-handle=${n}]`);
      if (g) g.setAttribute("transform", `translate(${x} 0)`);
    }
  },
}));

// A scan that is being taken: how far it is, until it leads to what was read.
Alpine.data("job", () => ({
  say: "calling the adapter", count: "0", since: "",
  async init() {
    for (;;) {
      const r = await fetch(this.$root.dataset.url).then((x) => x.json()).catch(() => null);
      if (r && r.done) {
        if (r.failed) { this.say = r.failed + (r.scan ? " What came before is kept." : ""); this.since = ""; this.$root.querySelector("form").remove(); this.$root.querySelector("h2").textContent = "The scan ended early";
          const a = Object.assign(document.createElement("a"), { className: "btn main mt-3", textContent: r.scan ? "See what came" : "Try again", href: r.scan ? `/scans/${r.scan}` : location.href });
          this.$root.append(a);
        } else location.replace(r.scan ? `/scans/${r.scan}` : location.href);
        return;
      }
      if (r) { this.say = r.say; this.count = String(r.count); this.since = `${r.seconds} s`; }
      await new Promise((ok) => setTimeout(ok, 300));
    }
  },
}));

Alpine.start();
