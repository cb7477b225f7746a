// What every window on a live bench shares: the stream of what is new, presses, the bell, the
// voice, and the screen that stays on.

// hand is this window's own name: who drives is told apart by it.
export function hand() {
  let h = "";
  try { h = sessionStorage.getItem("hand") || ""; } catch (e) { /* for this page only */ }
  if (!h) {
    h = Array.from(crypto.getRandomValues(new Uint8Array(12)), (x) => x.toString(16).padStart(2, "0")).join("");
    try { sessionStorage.setItem("hand", h); } catch (e) { /* for this page only */ }
  }
  return h;
}

// kept remembers a choice on this computer.
export function kept(name, usual) {
  let v = usual;
  try { v = localStorage.getItem(name) || usual; } catch (e) { /* not kept */ }
  return { get: () => v, set: (x) => { v = x; try { localStorage.setItem(name, x); } catch (e) { /* for this page only */ } } };
}

// bell rings for somebody under the car: a tone made here.
export function bell() {
  const on = kept("bell", "on");
  let sound = null;
  const wake = () => { if (!sound && window.AudioContext) sound = new AudioContext(); if (sound && sound.state === "suspended") sound.resume(); };
  document.addEventListener("pointerdown", wake);
  document.addEventListener("keydown", wake);
  function ring() {
    document.body.dataset.rang = String(Number(document.body.dataset.rang || 0) + 1);
    if (on.get() === "off" || !sound) return;
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
  toggle(document.querySelector("[data-bell]"), on, "Bell");
  return ring;
}

// toggle lets a button switch something on and off.
function toggle(b, on, name) {
  if (!b) return;
  const show = () => { b.setAttribute("aria-pressed", String(on.get() === "on")); b.firstChild.textContent = `${name} ${on.get()} `; };
  b.addEventListener("click", () => { on.set(on.get() === "on" ? "off" : "on"); show(); });
  show();
}

// voice speaks what to do and what came out, by the browser's own speech; off until somebody
// turns it on. What is said is kept on the page, for whoever looks what was said last.
export function voice() {
  const on = kept("voice", "off");
  toggle(document.querySelector("[data-voice]"), on, "Voice");
  let last = "";
  return (words) => {
    if (on.get() !== "on" || !words || words === last) return;
    last = words;
    document.body.dataset.spoken = words;
    if (!window.speechSynthesis) return;
    const u = new SpeechSynthesisUtterance(words.replace(/inH2O/g, "inches of water").replace(/−/g, "minus "));
    u.lang = "en";
    speechSynthesis.cancel(); // what comes now matters more
    speechSynthesis.speak(u);
  };
}

// awake keeps the screen on while something is read: a tablet that sleeps is a browser that was
// closed.
export function awake() {
  let lock = null, wanted = false;
  async function set() {
    try {
      if (wanted && !lock && navigator.wakeLock) { lock = await navigator.wakeLock.request("screen"); lock.addEventListener("release", () => { lock = null; }); }
      if (!wanted && lock) await lock.release();
    } catch (e) { /* the system does not want to: the page says what happens when nobody looks */ }
  }
  document.addEventListener("visibilitychange", () => { if (document.visibilityState === "visible") set(); });
  return (on) => { wanted = on; set(); };
}

// sender posts presses to a bench; complain says what went wrong.
export function sender(id, form, screen, complain) {
  let presses = 0;
  return async (what, button) => {
    if (button) { if (button.getAttribute("aria-busy")) return false; button.setAttribute("aria-busy", "true"); }
    try {
      const words = new FormData(form);
      const body = what.photo instanceof File && what.photo.size > 0 ? words : new URLSearchParams(words);
      for (const [k, v] of Object.entries({ ...what, hand: hand(), screen })) body.set(k, v);
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
  };
}

// follow asks for what is new on a bench; what says what to do with it: news, silent, gone and back.
export function follow(id, what) {
  const stream = new EventSource(`/tests/${id}/live/stream?hand=${hand()}`);
  stream.onmessage = (e) => what.news(JSON.parse(e.data));
  let silent = 0;
  stream.onerror = () => {
    if (stream.readyState === EventSource.CLOSED) { what.gone(); return; }
    if (!silent) silent = setTimeout(what.silent, 1500);
  };
  stream.addEventListener("open", () => { clearTimeout(silent); silent = 0; what.back(); });
}

// outdated reports whether why a press was refused need not be shown any longer: a leg has begun
// or ended, or the instrument measures again. Until then it stays in view, since news of the
// bench comes several times a second and would wipe it out before anybody has read it.
export const outdated = (was, now) => Boolean(was) && (now.leg !== was.leg || (now.status === "on" && was.status !== "on"));

// clock says seconds as minutes and seconds.
export const clock = (s) => `${Math.floor(s / 60)}:${String(Math.floor(s % 60)).padStart(2, "0")}`;

// figure says a value of a column.
export function figure(column, v, over) {
  if (over) return "over";
  if (v === null || v === undefined) return "—";
  const text = v.toFixed(column.digits);
  return Number(text) === 0 ? text.replace("-", "") : text.replace("-", "−"); // no minus before a nought
}

// held is the clock of a stretch: how long it has been read of what is planned.
export function held(view, at) {
  if (!view || !view.leg) return 0;
  return view.held ? Math.max(at - view.from, 0) : 0;
}
