// Quiet words at the head of the page: what was saved, with Undo; what another screen
// changed; what was typed here and never saved.
const minute = 60_000;
const place = document.querySelector("[data-notices]");

// say puts words there, with buttons; each button takes them away again.
export function say(words, ...buttons) {
  const box = document.createElement("div");
  box.className = "notice";
  box.append(Object.assign(document.createElement("p"), { textContent: words }));
  for (const [label, act] of buttons) {
    const b = Object.assign(document.createElement("button"), { type: "button", className: "btn", textContent: label });
    b.addEventListener("click", () => { box.remove(); act(); });
    box.append(b);
  }
  place.append(box);
  return box;
}

// done: a form that was saved led to this page. Its notice stands for a minute.
export const done = "done" in place.dataset;
const box = place.querySelector("[data-notice]");
if (box) setTimeout(() => box.remove(), minute);

// This screen's name, which other screens are told: a word that a person can change.
const named = document.cookie.split("; ").find((c) => c.startsWith("screen="));
let name = named ? decodeURIComponent(named.slice(7)) : "";
const keep = (n) => { document.cookie = `screen=${encodeURIComponent(n)}; path=/; max-age=31536000; samesite=strict`; };
if (!name) {
  const kind = innerWidth < 620 ? "telephone" : matchMedia("(pointer: coarse)").matches ? "tablet" : "laptop";
  name = `${kind} ${Math.random().toString(36).slice(2, 4)}`;
  keep(name);
}
const field = document.querySelector("[data-screen]");
if (field) {
  field.value = name;
  field.addEventListener("change", () => { if (field.value.trim()) keep(field.value.trim()); });
}
