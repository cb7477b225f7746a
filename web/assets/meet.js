// A room explains itself in one line until this browser has read it once.
function known() {
  try { return new Set(JSON.parse(localStorage.getItem("met") || "[]")); } catch (e) { return new Set(); }
}

const met = known();
const fresh = [...document.querySelectorAll("[data-meet]")].filter((p) => !met.has(p.dataset.meet));
fresh.forEach((p, i) => {
  p.hidden = false;
  if (i) return;
  const b = Object.assign(document.createElement("button"), { type: "button", className: "underline", textContent: "Got it" });
  b.addEventListener("click", () => {
    fresh.forEach((x) => { x.hidden = true; met.add(x.dataset.meet); });
    try { localStorage.setItem("met", JSON.stringify([...met])); } catch (e) { /* asked again on the next page */ }
  });
  p.append(" ", b);
});
