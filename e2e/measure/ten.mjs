// Ten live benches with three channels each at 10 Hz: processor and memory of the program over a
// minute, how long after its measurement a reading is with whoever looks, and how long until it
// is on disk. The pressure falls as in a hold, and is judged; as its barometer each module states
// the moment of its measurement, so that no second clock is needed. Run by hand: node e2e/measure/ten.mjs
import { readFileSync } from "node:fs";
import { get } from "node:http";
import { createServer } from "node:net";
import { bench, openShop } from "../shop.mjs";

const benches = 10, seconds = Number(process.env.SECONDS || 60);
const ms = () => performance.timeOrigin + performance.now(); // as in the browser
const servers = [];

// A module whose barometer is the moment: a Pa is a millisecond, over ten seconds.
async function module(n) {
  const server = createServer((socket) => {
    const channel = (key, unit, low, high) => ({ key, name: key, unit, low, high, resolution: 0.1 });
    socket.write(JSON.stringify({ protocol: 1, name: `module ${n}`, serial: `M${n}`, session: `s${n}`, range_pa: 5000, resolution_pa: 0.1, rate_hz: 10, calibrated_on: "2026-06-01",
      channels: [channel("pressure", "Pa", -5000, 5000), channel("wall", "K", 200, 400), channel("barometer", "Pa", 5e4, 1.2e5)] }) + "\n");
    let k = 0;
    const tick = setInterval(() => {
      const t = ms();
      socket.write(JSON.stringify({ n: ++k, t: (t - performance.timeOrigin) / 1000, pa: 3238 * Math.exp(-k / 20000) + 4 * Math.random(), wall_k: 293 + Math.random() / 10, v: { barometer: 80000 + (t % 10000) } }) + "\n");
    }, 100);
    socket.on("close", () => clearInterval(tick)).on("error", () => clearInterval(tick));
  });
  servers.push(server);
  for (let port = 4260 + n; ; port += 10) {
    const listens = await new Promise((ok) => { server.once("error", () => ok(false)); server.listen(port, "127.0.0.1", () => ok(true)); });
    if (listens) return { address: `127.0.0.1:${port}` };
  }
}

const shop = await openShop();
const page = await shop.page();
page.setDefaultTimeout(60000);
const at = [];
for (let n = 0; n < benches; n++) {
  await bench(page, shop.base, await module(n), `TEN ${n}`);
  await page.waitForSelector("[data-main]:has-text('Start')");
  const start = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
  await page.click(".legs li:has-text('Charge') .again");
  await start;
  at.push(page.url());
}
await page.goto("about:blank"); // what drawing takes is no part of the program's
// Ten who look.
let measuring = false;
const late = [], disk = [];
const streams = at.map((url) => get(`${url}/stream`, (res) => {
  let text = "";
  res.setEncoding("utf8").on("data", (chunk) => {
    text += chunk;
    for (let end; (end = text.indexOf("\n\n")) >= 0; text = text.slice(end + 2)) {
      const line = text.slice(0, end).split("\n").find((l) => l.startsWith("data: "));
      if (!line || !measuring) continue;
      const n = JSON.parse(line.slice(6));
      if (!n.points || !n.points.t.length || !n.now) continue;
      const measured = n.now.v[2] * 100 - 80000; // ms, of ten seconds
      late.push((ms() % 10000 - measured + 10000) % 10000);
      if (n.disk > 0) disk.push(n.now.at - n.disk);
    }
  });
}));
const cpu = () => { const f = readFileSync(`/proc/${shop.pid}/stat`, "utf8").split(") ")[1].split(" "); return (Number(f[11]) + Number(f[12])) / 100; };
const rss = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${shop.pid}/status`, "utf8"))[1]) / 1024;
await new Promise((r) => setTimeout(r, 20000)); // settled
measuring = true;
const from = cpu(), began = ms();
await new Promise((r) => setTimeout(r, seconds * 1000));
measuring = false;
const share = (100 * (cpu() - from)) / ((ms() - began) / 1000);
const q = (x, p) => { const s = [...x].sort((a, b) => a - b); return s[Math.min(s.length - 1, Math.floor(p * s.length))]; };
console.log(`${benches} benches, ${seconds} s: wexter takes ${share.toFixed(0)} % of one processor and ${rss().toFixed(0)} MB`);
console.log(`${late.length} readings: with whoever looks after ${q(late, 0.5).toFixed(0)} ms (median), ${q(late, 0.99).toFixed(0)} ms (99 %)`);
console.log(`on disk after ${q(disk, 0.5).toFixed(2)} s (median), ${q(disk, 1).toFixed(2)} s (at most)`);
// And one who looks at a page: until the figure stands on it, with the trace drawn as well.
await page.goto(at.at(-1));
await page.waitForFunction(() => /\d/.test(document.querySelector("[data-inches]").textContent));
const shown = await page.evaluate((s) => new Promise((ok) => {
  const all = [], node = document.querySelector("[data-others]").children[2].lastChild;
  new MutationObserver(() => {
    const measured = parseFloat(node.textContent) * 100 - 80000;
    if (!Number.isNaN(measured)) all.push(((performance.timeOrigin + performance.now()) % 10000 - measured + 10000) % 10000);
  }).observe(node, { childList: true, characterData: true, subtree: true });
  setTimeout(() => ok(all), s * 1000);
}), Math.min(seconds, 30));
console.log(`${shown.length} figures on a page: after ${q(shown, 0.5).toFixed(0)} ms (median), ${q(shown, 0.99).toFixed(0)} ms (99 %)`);
for (const s of streams) s.destroy();
await shop.close();
for (const s of servers) s.close();
process.exit(0);
