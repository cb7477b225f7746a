// A shop for a browser test: the built program with its demo data on a free port,
// and a page in Debian's chromium.
import assert from "node:assert/strict";
import { execFileSync, spawn } from "node:child_process";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { chromium } from "playwright-core";

// hangs is when a test that waits for a state is given up: it only keeps a broken program
// from hanging the tests. No state is asked to come by it.
const hangs = Number(process.env.HANGS || 600_000);

// start runs the program and returns its address once it has printed it.
async function start(args, pattern) {
  const child = spawn("bin/wexter", args, { stdio: ["pipe", "pipe", "inherit"] });
  const found = await new Promise((ok, no) => {
    let out = "";
    child.stdout.on("data", (d) => { out += d; const m = pattern.exec(out); if (m) ok(m); });
    child.on("exit", (c) => no(new Error(`wexter ${args[0]} ended with ${c}: ${out}`)));
  });
  const close = async (signal = "SIGTERM") => {
    if (child.exitCode === null && child.signalCode === null) {
      const gone = new Promise((r) => child.on("exit", r));
      child.kill(signal);
      await gone;
    }
    return child.exitCode;
  };
  return { found, close, pid: child.pid };
}

// teller works a stand-in: a mishap, a command, or "run 30s" on a clock that stands.
export const teller = (address) => (...words) => execFileSync("bin/wexter", ["standin", "tell", address, ...words], { encoding: "utf8" });

// A bench keeps its module's address for half a minute after the module has gone, and a
// stand-in listens at any port that is free: none comes at an address that was on a bench.
const benched = new Set();
async function fresh(args, pattern, addresses) {
  for (;;) {
    const s = await start(args, pattern);
    if (!addresses(s.found).some((a) => benched.has(a))) return s;
    await s.close();
  }
}

// openStandin starts a simulated instrument. With "--speed", "0" its clock stands: nothing
// happens but what tell("run", "30s") lets happen, however slow the machine.
export async function openStandin(kind, ...args) {
  const { found, close } = await fresh(["standin", kind, "--until-eof", ...args], /127\.0\.0\.1:\d+/, (f) => [f[0]]);
  return { address: found[0], close, tell: teller(found[0]) };
}

// openBoard starts a simulated module whose clock stands, which also prints lines of numbers
// and holds its readings in Modbus registers.
export async function openBoard() {
  const told = (found) => [...found.input.matchAll(/^The .+ is at (\S+)$/gm)].map((m) => m[1]);
  const { found, close } = await fresh(["standin", "module", "--until-eof", "--speed", "0", "--lines", "127.0.0.1:0", "--modbus", "127.0.0.1:0"], /Modbus unit 1 is at \S+\n/, told);
  const [module, lines, modbus] = told(found);
  return { lines, modbus, close, tell: teller(module) };
}

// openCar starts a whole simulated car; its instruments' addresses by what they are.
export async function openCar(file, ...args) {
  const told = (found) => [...found.input.matchAll(/^The \w+ (.+?) of .+? is at (\S+)$/gm)];
  const { found, close } = await fresh(["standin", "--until-eof", "--car", file, ...args], /bench rig of .* is at \S+\n/, (f) => told(f).map((m) => m[2]));
  const at = Object.fromEntries(told(found).map((m) => [m[1], m[2]]));
  return { at, close, tell: teller(at["scan adapter"]), tellModule: teller(at["pressure module"]) };
}

// serveShop serves a shop's file; kill ends it as a power cut would.
export async function serveShop(db, port = 0) {
  const { found, close } = await start(["serve", "--addr", `127.0.0.1:${port}`, "--db", db, "--patience", "10m"], /http:\/\/127\.0\.0\.1:(\d+)/);
  return { base: found[0], port: found[1], kill: () => close("SIGKILL") };
}

// browserPage is a page whose console may complain: its server is killed on purpose.
export async function browserPage(shop, options) { return shop.page({ ...options }, []); }

export async function openShop() {
  const { found, close: end, pid } = await start(["demo", "--addr", "127.0.0.1:0", "--patience", "10m", "--cars", "none"], /http:\/\/[\d.:]+/);
  const base = found[0];
  const browser = await chromium.launch({ executablePath: process.env.CHROMIUM || "/usr/bin/chromium-headless-shell",
    args: ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"] });
  const problems = [];
  const page = async (options = {}, into = problems) => {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ...options });
    const p = await context.newPage();
    p.setDefaultTimeout(hangs);
    // A refused form answers with its own status: chromium reports that as a failed resource, which it is not.
    p.on("console", (m) => { if (m.type() === "error" && !/status of 4\d\d/.test(m.text())) into.push(m.text()); });
    p.on("pageerror", (e) => into.push(String(e)));
    return p;
  };
  const close = async () => {
    await browser.close();
    return end();
  };
  // car is the path of a demo car's case; the page is left at the Slate.
  const car = async (p, name) => {
    await p.goto(base);
    return p.locator(".car", { hasText: name }).first().getAttribute("href");
  };
  return { base, page, car, problems, close, pid };
}

const axeSource = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");

// axe returns what it finds, a line each.
export async function axe(page) {
  await page.evaluate(axeSource);
  // What lies under the action bar just now can be scrolled free of it.
  await page.evaluate(() => document.querySelectorAll(".actions").forEach((b) => { b.style.position = "static"; }));
  return run(page, { resultTypes: ["violations"], runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
}

async function run(page, options) {
  const r = await page.evaluate((o) => window.axe.run(document, { preload: false, ...o }), options);
  return r.violations.flatMap((v) => v.nodes.map((n) => `${v.id}: ${n.target.join(" ")} ${n.failureSummary.split("\n")[1] || ""}`));
}

// lookOver looks at a page with all that is folded in it opened: what axe finds by day, the
// contrast by night (the scheme changes colours only), and whether anything runs off the
// side. look(width) may look at more of the folded page at each width.
export async function lookOver(page, url, look = async () => []) {
  await page.emulateMedia({ colorScheme: "light" });
  await page.goto(url);
  const found = [];
  for (const width of [820, 1280]) {
    await page.setViewportSize({ width, height: 800 });
    const over = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
    if (over > 0) found.push(`${over} px too wide at ${width}`);
    found.push(...await look(width));
  }
  await page.evaluate(() => document.querySelectorAll("details").forEach((d) => { d.open = true; }));
  found.push(...await axe(page));
  await page.emulateMedia({ colorScheme: "dark" });
  await page.evaluate(() => document.getAnimations().forEach((a) => a.finish())); // colours pass from one scheme to the other
  for (const v of await run(page, { resultTypes: ["violations"], runOnly: { type: "rule", values: ["color-contrast"] } })) found.push(`by night: ${v}`);
  return found.map((f) => `${new URL(url).pathname} ${f}`);
}

// trace is the log of a tank with a hole: isothermal, from 13 inH2O, five readings a second.
export function trace(holeMM, seconds, { start = 13, litres = 29, unit = "inH2O" } = {}) {
  const rows = [`time_s,pressure${unit ? "_" + unit : ""}`];
  let p = start * 249.089;
  let seed = 7;
  const noise = () => { seed = (seed * 16807) % 2147483647; return (seed / 2147483647 - 0.5) * 8; };
  for (let i = 0; i <= seconds * 5; i++) {
    rows.push(`${(i / 5).toFixed(1)},${((p + noise()) / 249.089).toFixed(3)}`);
    for (let k = 0; k < 20; k++) {
      const area = (Math.PI / 4) * (holeMM / 1000) ** 2;
      const flow = 0.61 * area * Math.sqrt(2 * 1.2041 * Math.abs(p)) * Math.sign(p);
      p -= ((287.05 * 293.15) / (litres / 1000)) * flow * 0.01;
    }
  }
  return { name: "hold.csv", mimeType: "text/csv", buffer: Buffer.from(rows.join("\n") + "\n") };
}

export const flat = { name: "drift.csv", mimeType: "text/csv", buffer: trace(0, 75, { start: 0 }).buffer };

// startHold begins a hold on a case's page, whatever is next there.
// arrive does what leads to another page and waits until that page is there. To wait for a
// page that is at rest is no good: the one that is about to be left is.
export async function arrive(page, act) {
  const there = page.waitForEvent("load");
  await act();
  await there;
}

export async function startHold(page) {
  await page.click("summary:has-text('Other actions')");
  await page.click("button:has-text('Leak-down test, whole system'), button:has-text('Another leak-down test')");
  await page.waitForURL("**/tests/*");
}

export const main = "[data-main]";

// fillCase fills the form of a new case, with what the car is made of unfolded; what is
// chosen from a list is chosen.
export async function fillCase(page, fields) {
  await page.evaluate(() => { document.querySelector("#build").open = true; });
  for (const [f, v] of Object.entries(fields)) {
    if (await page.locator("#" + f).evaluate((e) => e.tagName === "SELECT")) await page.selectOption("#" + f, v);
    else await page.fill("#" + f, v);
  }
}

// bench opens a case, its hold and its live bench on a module at speed.
export async function bench(page, base, module, plate) {
  await page.goto(base + "/instruments");
  await page.fill("#name", `module ${plate}`);
  await page.fill("#address", module.address);
  await page.click("button:has-text('Add instrument')");
  await page.waitForSelector(`li:has-text('${module.address}')`);
  await page.goto(base + "/cases/new");
  await fillCase(page, { plate, make: "Quillane", model: "Teal", tank: "58", complaint: "lamp" });
  await page.click("text=Open the case");
  await page.click("text=Start leak-down test");
  await page.waitForURL("**/tests/*");
  for (const box of await page.locator("input[name=sealed]").all()) await box.check();
  if (!(await page.locator("#tolerance").isVisible())) await page.click("summary:has-text('Volume')");
  await page.fill("#tolerance", "6");
  await page.uncheck("input[name=wet]");
  await arrive(page, () => page.press("#tolerance", "Enter")); // keeps it and stays
  assert.match(page.url(), /\/tests\/[^/]+$/);
  await page.locator("input[name=sealed]").first().uncheck();
  await page.locator("input[name=sealed]").first().check();
  await page.click("text=Read it live"); // keeps the set-up on the way
  await page.waitForSelector("text=4 of 4 sealed");
  await take(page, module);
}

// take joins the live bench of a page to a module. A bench at which nobody looks lets its
// module go after a while.
export async function take(page, module) {
  benched.add(module.address);
  await page.click(`label:has-text('${module.address}')`);
  await page.click("text=Use this module");
  await page.waitForSelector(main);
}

// press clicks and waits until the program has done what was asked: only then is the clock
// of a stand-in stepped. What a page shows may come before.
export async function press(page, selector) {
  const done = page.waitForResponse((r) => r.request().method() === "POST");
  await page.click(selector);
  await done;
}

// hold keeps a button down until what it does has been done: what charges wants that.
export async function hold(page, selector) {
  await page.waitForSelector("[data-live]:not([data-quiet])"); // two seconds after the last charge
  const done = page.waitForResponse((r) => r.request().method() === "POST").then(() => true);
  done.catch(() => {}); // said by what is awaited below
  for (let did = false; !did; await page.mouse.up()) {
    // What comes in late moves a page: as a hand would, press again what was missed or slipped away.
    await page.locator(selector).hover();
    await page.mouse.down();
    if (!await page.evaluate(() => Boolean(document.querySelector("[data-holding], [data-quiet]")))) continue;
    const slipped = page.waitForSelector("[data-next]:has-text('Hold the button down')").then(() => false, () => false);
    did = await Promise.race([done, slipped]);
  }
}

export async function begin(page, label) {
  const button = `${main}:has-text('Start: ${label}')`;
  await page.waitForSelector(button);
  await (/zero|drift/.test(label) ? press : hold)(page, button);
  await page.waitForSelector(`${main}:has-text('Stop')`);
}
