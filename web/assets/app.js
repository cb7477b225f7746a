import "./away.js";
import "./drafts.js";
import "./drop.js";
import "./mapview.js";
import "./meet.js";
import { say } from "./notices.js";

// Fields and plots that answer while a hand is on them are a script of their own: a page
// without any is at work sooner, which an old tablet feels.
if (document.querySelector("[x-data]")) {
  const fields = document.createElement("script");
  fields.src = document.currentScript.dataset.fields;
  document.head.append(fields);
}

// A case that somebody else works on, or whose bench has just read something, is shown again:
// its three columns are taken from the server when its version has gone up. What another
// screen changed is said; what is being typed, and what is unfolded, stays.
async function watchCase() {
  const page = document.querySelector(".three[data-case]");
  if (!page) return;
  let told = page.dataset.version;
  for (;;) {
    await new Promise((ok) => setTimeout(ok, 2000));
    if (document.hidden) continue;
    const r = await fetch(`/cases/${page.dataset.case}/pulse?from=${told}`).then((x) => (x.ok ? x.json() : null)).catch(() => null);
    if (!r || String(r.version) === page.dataset.version) continue;
    if (r.said && told !== String(r.version)) say(`Changed meanwhile: ${r.said.join("; ")}.`, ["OK", () => {}]);
    told = String(r.version);
    if ([...page.querySelectorAll("input:not([type=hidden]), textarea")].some((i) => (i.type === "checkbox" || i.type === "radio" ? i.checked !== i.defaultChecked : i.value !== i.defaultValue))) continue;
    const text = await fetch(location.href).then((x) => (x.ok ? x.text() : "")).catch(() => "");
    const fresh = text && new DOMParser().parseFromString(text, "text/html").querySelector(".three[data-case]");
    if (!fresh) continue;
    const open = [...page.querySelectorAll("details[id][open]")].map((d) => d.id);
    const focus = document.activeElement && document.activeElement.id;
    const drawer = page.querySelector("[popover]:popover-open");
    page.replaceChildren(...fresh.childNodes);
    page.dataset.version = fresh.dataset.version;
    const bar = document.querySelector(".actions");
    if (bar) bar.replaceWith(fresh.ownerDocument.querySelector(".actions"));
    if (drawer) document.getElementById(drawer.id).showPopover();
    open.forEach((id) => { const d = document.getElementById(id); if (d) d.open = true; });
    if (focus) { const f = document.getElementById(focus); if (f) f.focus(); }
  }
}
watchCase();

// The field that a refusal is about is opened up, marked and has the focus.
const refused = document.querySelector("#problem[data-wrong]");
if (refused && refused.dataset.wrong) {
  const k = CSS.escape(refused.dataset.wrong);
  const field = document.querySelector(`main [name="${k}"]:not([type=hidden]), main #${k}`);
  if (field) {
    for (let d = field.closest("details"); d; d = d.parentElement.closest("details")) d.open = true;
    field.setAttribute("aria-invalid", "true");
    field.setAttribute("aria-describedby", `${field.getAttribute("aria-describedby") || ""} problem`.trim());
    field.focus();
  }
}

// What a form leads back to is open again.
const back = location.hash.length > 1 && document.getElementById(location.hash.slice(1));
if (back && back.tagName === "DETAILS") back.open = true;

// Keys, day and night.
function scheme() {
  const html = document.documentElement;
  const dark = html.dataset.scheme ? html.dataset.scheme === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  html.dataset.scheme = dark ? "day" : "night";
  try { localStorage.setItem("scheme", html.dataset.scheme); } catch (e) { /* kept for this page only */ }
}
const keys = () => document.querySelector("dialog[data-keys]").showModal();
addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || /INPUT|TEXTAREA|SELECT/.test(e.target.tagName)) return;
  if (e.key === " " && /^(BUTTON|A|SUMMARY)$/.test(e.target.tagName)) return;
  if (document.querySelector("dialog[open]") && e.key !== "Escape") return;
  if (e.key === "?") { e.preventDefault(); keys(); return; }
  if (e.key === "d") { scheme(); return; }
  const el = document.querySelector(`[data-key="${CSS.escape(e.key)}"]`);
  if (el && !el.hidden) { e.preventDefault(); el.click(); }
});

document.addEventListener("click", (e) => {
  if (e.target.closest("[data-print]")) window.print();
  if (e.target.closest("[data-turn=scheme]")) scheme();
  if (e.target.closest("[data-turn=keys]")) keys();
  if (e.target.closest("[data-close]")) e.target.closest("dialog").close();
});

// What is folded up opens when it is linked to; the part that was tapped on the Map takes
// the focus, for readers and for the keyboard.
const unfold = () => {
  const d = location.hash.length > 1 && document.getElementById(location.hash.slice(1));
  if (!d) return;
  if (d.tagName === "DETAILS") { d.open = true; d.scrollIntoView(); }
  if (d.getAttribute("tabindex") === "-1") { d.focus({ preventScroll: true }); d.scrollIntoView({ block: "nearest" }); }
};
addEventListener("hashchange", unfold);
unfold();
