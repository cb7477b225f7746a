// The bay view: a running bench for whoever is under the car. One figure as large as the screen,
// what to do now, the verdict, and one button that any key presses. It follows the run, and drives
// only after it was taken over.
import { awake, bell, clock, figure, follow, held, outdated, sender, voice } from "./follow.js";

const root = document.querySelector("[data-bay]");
const $ = (name) => document.querySelector(`[data-${name}]`);
const open = Number(root.dataset.open || 0);
const bounceFor = 800, armedFor = 8000; // ms: a second press sooner is the first one's bounce
let view = null, refused = "", nextShown = "", drives = false, at = 0, bellSeen = -1, armed = null;

if (root.dataset.bay) start(root.dataset.bay);

function start(id) {
  const ring = bell(), speak = voice(), stayAwake = awake();
  const send = sender(id, $("sender"), "bay", complain);

  function complain(words) {
    refused = words;
    tell(words);
  }
  function tell(words) {
    const say = $("say");
    say.hidden = !words;
    if (say.textContent === words) return; // said already
    say.textContent = words;
    speak(words);
  }
  // What the button does now, in words, and whether it wants a second press.
  function what() {
    if (!view) return null;
    if (!drives && view.driver) return { label: "Take over", act: () => send({ do: "over" }) };
    const tap = view.leg && view.taps && view.taps[0];
    if (tap) return { label: tap.name, act: () => send({ do: "mark", tap: tap.key }) };
    if (view.leg && view.onward) return { label: "Done, go on", act: () => send({ do: "onward" }) };
    if (view.leg) return { label: "Stop and keep", twice: "Press again to stop.", act: () => send({ do: "stop" }) };
    const next = view.steps.find((s) => s.state === "next");
    if (!next) return null;
    const seal = open ? ` ${open} on the seal list are open.` : "";
    const charges = next.energises ? `It charges or moves something on the car.${seal} Press again to start.` : "";
    return { label: `Start: ${next.name.charAt(0).toLowerCase()}${next.name.slice(1)}`, twice: charges, act: () => send({ do: "start", leg: next.leg }) };
  }
  function press() {
    const w = what();
    if (!w) return;
    complain("");
    const now = performance.now();
    if (w.twice && !(armed && armed.label === w.label && now < armed.until)) {
      armed = { label: w.label, from: now + bounceFor, until: now + armedFor };
      $("next").textContent = w.twice;
      speak(w.twice);
      show();
      return;
    }
    if (w.twice && now < armed.from) return;
    armed = null;
    w.act();
  }
  $("press").addEventListener("click", press);
  addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.repeat || /^(Tab|Shift|Control|Alt|Meta|Escape|CapsLock|NumLock|ScrollLock|AudioVolume.*|F\d+)$/.test(e.key)) return;
    if ((e.key === "Enter" || e.key === " ") && /^(BUTTON|A)$/.test(e.target.tagName) && e.target !== $("press")) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    press();
  }, { capture: true });

  function show() {
    if (armed && performance.now() >= armed.until) {
      armed = null;
      $("next").textContent = nextShown;
    }
    const w = what();
    const b = $("press");
    b.disabled = !w;
    b.textContent = w ? (armed && armed.label === w.label ? `${w.label}: press again` : w.label) : view && !view.start ? "All is in" : "Wait";
    $("watching").hidden = !view || drives || !view.driver;
    if (view) $("driver").textContent = view.driver;
  }
  function news(n) {
    drives = n.drives;
    if (n.view) {
      if (outdated(view, n.view)) refused = "";
      view = n.view;
      stayAwake(Boolean(view.leg));
      const words = [view.result, view.next].filter(Boolean).join(" ");
      if (words !== nextShown) {
        $("next").textContent = nextShown = words;
        armed = null; // it does something else now
      }
      tell(view.disk || [refused, view.said].filter(Boolean).join(" "));
      if (bellSeen >= 0 && view.bell > bellSeen) ring();
      bellSeen = view.bell;
      speak(words);
    }
    if (!view) return;
    if (n.now) at = n.now.at;
    const first = view.columns[view.large];
    const big = $("big");
    big.textContent = !first ? clock(held(view, at)) : n.now ? figure(first, n.now.v[view.large], n.now.over[view.large]) : "—";
    big.style.fontSize = `min(33vh, ${Math.floor(150 / Math.max(big.textContent.length, 4))}vw)`; // as large as the screen
    $("unit").textContent = first ? first.unit : view.leg ? view.word : "";
    $("beside").textContent = view.columns.map((c, i) => (i !== view.large && !c.absent ? `${c.name} ${n.now ? figure(c, n.now.v[i], n.now.over[i]) : "—"} ${c.unit}` : "")).filter(Boolean).join("   ");
    $("timer").textContent = first && view.leg ? `${clock(held(view, at))}${view.planned && view.held ? ` of ${clock(view.planned)}` : ""}` : "";
    if (n.estimate) {
      $("verdict").textContent = n.estimate.says || "No verdict yet";
      $("verdict").className = `bayverdict ${n.estimate.class}`;
      if (!view.leg) speak(n.estimate.says);
    }
    show();
  }
  follow(id, {
    news,
    gone() { if (!view) location.reload(); else complain("This bench was let go."); },
    silent() { complain("Wexter does not answer. What was on disk is kept; this page goes on by itself."); $("big").textContent = "—"; },
    back() { view = null; refused = nextShown = ""; },
  });
}
