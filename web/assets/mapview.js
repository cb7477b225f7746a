// The Map in its window: two fingers, the wheel with Ctrl, + − 0 and the two buttons bring it
// closer; one finger and the arrows move it.
const most = 4;

function zoom(view, factor, x = view.clientWidth / 2, y = view.clientHeight / 2) {
  const was = Number(view.dataset.zoom || 1);
  const now = Math.min(Math.max(was * factor, 1), most);
  if (now === was) return;
  // What is under the fingers stays there.
  const k = now / was, left = (view.scrollLeft + x) * k - x, top = (view.scrollTop + y) * k - y;
  view.dataset.zoom = String(now);
  view.style.setProperty("--zoom", String(now));
  view.scrollTo(left, top);
}

const first = () => document.querySelector("[data-mapview]");

document.addEventListener("click", (e) => {
  const b = e.target.closest("[data-zoom]");
  if (b && first()) zoom(first(), b.dataset.zoom === "in" ? 1.4 : 1 / 1.4);
});
addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || /INPUT|TEXTAREA|SELECT/.test(e.target.tagName) || !first()) return;
  const factor = { "+": 1.4, "=": 1.4, "-": 1 / 1.4, 0: 1 / most }[e.key];
  if (factor) { e.preventDefault(); zoom(first(), factor); }
});
document.addEventListener("wheel", (e) => {
  const view = e.ctrlKey && e.target.closest("[data-mapview]");
  if (!view) return;
  e.preventDefault();
  const r = view.getBoundingClientRect();
  zoom(view, Math.exp(-e.deltaY / 200), e.clientX - r.left, e.clientY - r.top);
}, { passive: false });

let apart = 0;
const between = (t) => Math.hypot(t[0].clientX - t[1].clientX, t[0].clientY - t[1].clientY);
document.addEventListener("touchstart", (e) => { apart = e.touches.length === 2 && e.target.closest("[data-mapview]") ? between(e.touches) : 0; }, { passive: true });
document.addEventListener("touchmove", (e) => {
  if (!apart || e.touches.length !== 2) return;
  const view = e.target.closest("[data-mapview]");
  if (!view) return;
  e.preventDefault();
  const r = view.getBoundingClientRect(), now = between(e.touches);
  zoom(view, now / apart, (e.touches[0].clientX + e.touches[1].clientX) / 2 - r.left, (e.touches[0].clientY + e.touches[1].clientY) / 2 - r.top);
  apart = now;
}, { passive: false });

// A drawing of a set-up that is wider than its window begins where its marks are.
for (const view of document.querySelectorAll(".setupview")) {
  const marks = [...view.querySelectorAll(".m-tool, .m-call")].map((m) => m.getBoundingClientRect());
  const box = view.getBoundingClientRect();
  if (!marks.length || !box.width) continue;
  const left = Math.min(...marks.map((r) => r.left)), right = Math.max(...marks.map((r) => r.right));
  view.scrollLeft += (left + right - box.left - box.right) / 2;
}
