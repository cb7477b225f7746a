// What is typed and not saved is kept in this browser, form by form, and offered when the
// page is there again: after a dead battery, a wrong tap, a program that was gone. It is let
// go once it was saved, and after a day.
import { done, say } from "./notices.js";

const day = 24 * 3600_000;
const prefix = "draft ";

const read = (k) => { try { return JSON.parse(localStorage.getItem(k)); } catch (e) { return null; } };
const write = (k, v) => { try { if (v) localStorage.setItem(k, JSON.stringify(v)); else localStorage.removeItem(k); } catch (e) { /* full or forbidden: nothing is kept */ } };
const name = (form) => `${prefix}${location.pathname} ${form.id || new URL(form.action).pathname}`;
const kept = (el) => el.name && !el.disabled && !["hidden", "file", "submit", "button", "password"].includes(el.type);

// typed is what a form holds that its page did not put there.
function typed(form) {
  const out = {};
  for (const el of form.elements) {
    if (!kept(el)) continue;
    if (el.type === "checkbox" || el.type === "radio") {
      if (el.checked !== el.defaultChecked) out[`${el.name}=${el.value}`] = el.checked;
    } else if (el.tagName === "SELECT" ? ![...el.options].some((o) => o.selected && o.defaultSelected) && el.selectedIndex > 0 : el.value !== el.defaultValue) {
      out[el.name] = el.value;
    }
  }
  return out;
}

function fill(form, fields) {
  for (const el of form.elements) {
    if (!kept(el)) continue;
    const k = el.type === "checkbox" || el.type === "radio" ? `${el.name}=${el.value}` : el.name;
    if (!(k in fields)) continue;
    if (typeof fields[k] === "boolean") el.checked = fields[k]; else el.value = fields[k];
    el.dispatchEvent(new Event("input", { bubbles: true }));
    el.dispatchEvent(new Event("change", { bubbles: true }));
  }
}

// holds are the words of a draft that the form has in it now, whoever put them there.
function holds(form, fields) {
  const out = {};
  for (const el of form.elements) {
    if (!kept(el)) continue;
    const k = el.type === "checkbox" || el.type === "radio" ? `${el.name}=${el.value}` : el.name;
    if (k in fields && fields[k] === (typeof fields[k] === "boolean" ? el.checked : el.value)) out[k] = fields[k];
  }
  return out;
}

function keep(form) {
  const before = read(name(form)); // a page that answered with the words in their fields has not saved them
  const fields = { ...(before ? holds(form, before.fields) : {}), ...typed(form) };
  // The key goes with the words: sent twice, from here and from before, they count once.
  write(name(form), Object.keys(fields).length ? { at: Date.now(), key: form.elements.key && form.elements.key.value, fields } : null);
}

document.addEventListener("input", (e) => {
  const form = e.target.form;
  if (form && form.method === "post" && e.isTrusted) keep(form);
});
document.addEventListener("sending", (e) => {
  const d = read(name(e.target));
  if (d) write(name(e.target), { ...d, sent: true });
});

for (const k of Object.keys(localStorage).filter((k) => k.startsWith(prefix))) {
  const d = read(k);
  if (!d || Date.now() - d.at > day || (done && d.sent)) write(k, null);
}

// A page that refuses a form shows every word of it anyway.
if (!document.getElementById("problem")) {
  for (const form of document.querySelectorAll("form[method=post]")) {
    const d = read(name(form));
    if (!d || Object.keys(holds(form, d.fields)).length === Object.keys(d.fields).length) continue;
    const words = Object.values(d.fields).filter((v) => typeof v === "string" && v.trim()).join(" · ").slice(0, 80);
    const when = new Date(d.at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
    say(`Typed here at ${when} and not saved${words ? `: “${words}”` : ""}`,
      ["Fill it in again", () => {
        fill(form, d.fields);
        if (d.key && form.elements.key) form.elements.key.value = d.key;
        for (let el = form.parentElement; el; el = el.parentElement) if (el.tagName === "DETAILS") el.open = true;
        const first = [...form.elements].find(kept);
        if (first) first.focus();
      }],
      ["Forget it", () => write(name(form), null)]);
  }
}
