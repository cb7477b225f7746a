// When the program is gone: a banner says so, a form that is sent meanwhile is kept and sent
// once it is back. The key in the form makes a second sending harmless.
const every = 1000;
const banner = document.querySelector("[data-away]");
let away = false;
let held = null;

async function alive() {
  try {
    return (await fetch("/alive", { cache: "no-store", signal: AbortSignal.timeout(every) })).ok;
  } catch (e) {
    return false;
  }
}

function show() {
  banner.hidden = !away;
  if (!away) return;
  const words = held
    ? `Wexter does not answer. “${held.words}” is kept here and will be sent when it is back. Leave this page open.`
    : "Wexter does not answer. What is saved is safe; what you type here is kept in this browser.";
  if (banner.textContent !== words) banner.textContent = words;
}

async function look() {
  if (document.hidden && !held) return;
  away = !await alive();
  show();
  if (away || !held) return;
  const { form, button } = held;
  held = null;
  show();
  pass(form, button);
}

// pass lets a form go on its way as the browser does it.
function pass(form, button) {
  form.dataset.sent = "go";
  form.requestSubmit(button || undefined);
}

document.addEventListener("submit", async (e) => {
  const form = e.target, button = e.submitter;
  if (e.defaultPrevented || form.method !== "post" || form.dataset.open !== undefined) return;
  if (form.dataset.sent === "go") { form.dataset.sent = "1"; return; }
  e.preventDefault();
  if (form.dataset.sent) return; // a second press
  form.dataset.sent = "1";
  if (button) button.setAttribute("aria-busy", "true");
  form.dispatchEvent(new CustomEvent("sending", { bubbles: true }));
  if (await alive()) { pass(form, button); return; }
  away = true;
  held = { form, button, words: button ? button.textContent.replace(/\s+/g, " ").trim() : "What you sent" };
  show();
});

// Back to a page that was sent: it may be sent again, with the same key.
addEventListener("pageshow", (e) => {
  if (!e.persisted) return;
  document.querySelectorAll("form[data-sent]").forEach((f) => { delete f.dataset.sent; });
  document.querySelectorAll("[aria-busy]").forEach((b) => b.removeAttribute("aria-busy"));
});

setInterval(look, every);
document.addEventListener("visibilitychange", look);
