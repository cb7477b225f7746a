// Four live benches at 10 Hz at once: processor and memory of the program, and how
// evenly the readings come to the four pages. Run by hand: node e2e/measure/four.mjs
import { readFileSync } from "node:fs";
import { openShop, openStandin } from "../shop.mjs";

const shop = await openShop();
const modules = await Promise.all([0.3, 0.45, 0.6, 0.75].map((d, i) => openStandin("module", "--volume", "33L", "--leak", `${d}mm`, "--seed", String(i + 1))));
const pages = [];
for (const [i, m] of modules.entries()) {
  const page = await shop.page();
  page.setDefaultTimeout(60000);
  await page.goto(shop.base + "/instruments");
  await page.fill("#name", `m${i}`);
  await page.fill("#address", m.address);
  await page.click("button:has-text('Add it')");
  await page.goto(shop.base + "/cases/new");
  for (const [f, v] of [["plate", `F ${i}`], ["make", "Quillane"], ["model", "Teal"], ["tank", "58"], ["complaint", "lamp"]]) await page.fill("#" + f, v);
  await page.click("text=Open the case");
  await page.click("text=Start the bench");
  await page.click("text=Read it live");
  await page.click(`label:has-text('${m.address}')`);
  await page.click("text=Take it");
  await page.click(".legs li:has-text('Charge') .again");
  pages.push(page);
}
await new Promise((r) => setTimeout(r, 20000)); // charged, settled
const cpu = () => { const f = readFileSync(`/proc/${shop.pid}/stat`, "utf8").split(") ")[1].split(" "); return (Number(f[11]) + Number(f[12])) / 100; };
const rss = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${shop.pid}/status`, "utf8"))[1]) / 1024;
const from = cpu(), began = Date.now();
const gaps = await Promise.all(pages.map((p) => p.evaluate(() => new Promise((ok) => {
  const at = [], node = document.querySelector("[data-disk]");
  const frames = [];
  let last = performance.now();
  (function tick() { const n = performance.now(); frames.push(n - last); last = n; requestAnimationFrame(tick); })();
  let was = performance.now();
  new MutationObserver(() => { const n = performance.now(); if (n - was > 30) { at.push(n - was); was = n; } }).observe(document.querySelector("[data-kpa]"), { childList: true, characterData: true, subtree: true });
  setTimeout(() => ok({ at: at.sort((a, b) => a - b), frames: frames.sort((a, b) => a - b) }), 30000);
}))));
const seconds = (Date.now() - began) / 1000;
const q = (x, p) => Math.round(x[Math.min(x.length - 1, Math.floor(p * x.length))]);
console.log(`wexter: ${((100 * (cpu() - from)) / seconds).toFixed(0)} % of one processor, ${rss().toFixed(0)} MB`);
gaps.forEach((g, i) => console.log(`page ${i + 1}: ${g.at.length} readings shown in 30 s, apart median ${q(g.at, 0.5)} ms, 99 % ${q(g.at, 0.99)} ms; frames 99 % ${q(g.frames, 0.99)} ms`));
await Promise.all(modules.map((m) => m.close()));
await shop.close();
