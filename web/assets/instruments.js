// What instruments show, twice a second, over server-sent events.
const root = document.querySelector("[data-instruments]");
if (root) {
  const id = root.dataset.instruments;
  const p = (words, small) => Object.assign(document.createElement("p"), { className: small ? "small" : "", textContent: small ? words : "" });
  const bit = (tag, cls, words) => Object.assign(document.createElement(tag), { className: cls, textContent: words });
  function show(r) {
    const row = root.querySelector(`[data-device="${CSS.escape(r.id)}"]`);
    if (!row) return;
    row.dataset.state = r.state;
    const box = row.querySelector("[data-shows]");
    box.replaceChildren(...r.values.map((v) => {
      const line = p("");
      line.append(bit("span", "fig", v.text), " ");
      if (v.second) line.append(bit("small", "fig", v.second), " ");
      line.append(bit("small", "", v.name));
      return line;
    }), ...[r.said, r.lost].filter(Boolean).map((words) => p(words, true)));
    const facts = row.querySelector("[data-facts]");
    if ("unknown" in row.dataset && r.facts.length) known(row);
    if (facts) facts.replaceChildren(...r.facts.map((words) => bit("small", "block", words)));
    const seen = row.querySelector("[data-seen]");
    if (seen) seen.textContent = r.seen.join("\n");
  }
  // What an instrument can begin is known when it has said what it measures.
  let asked = 0;
  function known(row) {
    delete row.dataset.unknown;
    clearTimeout(asked);
    asked = setTimeout(async () => {
      const page = new DOMParser().parseFromString(await (await fetch(location.href)).text(), "text/html");
      for (const to of root.querySelectorAll("[data-device] [data-begins]")) {
        const from = page.querySelector(`[data-device="${CSS.escape(to.closest("[data-device]").dataset.device)}"] [data-begins]`);
        if (from && !to.contains(document.activeElement) && !to.querySelector("form")) to.replaceChildren(...from.childNodes);
      }
    }, 600);
  }
  // A quantity brings the unit of the bay along where none was typed.
  root.addEventListener("change", (e) => {
    const option = e.target.selectedOptions && e.target.selectedOptions[0];
    const unit = option && option.dataset.unit && e.target.closest("tr").querySelector("input[name^=unit-]");
    if (unit && !unit.value) unit.value = option.dataset.unit;
  });
  const stream = new EventSource(`/instruments/stream${id ? `?id=${encodeURIComponent(id)}` : ""}`);
  stream.onmessage = (e) => JSON.parse(e.data).forEach(show);
}
