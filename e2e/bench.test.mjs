import assert from "node:assert/strict";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, describe, test } from "node:test";
import { execFileSync } from "node:child_process";
import { fillReadings, holdOn, seen, sendForm, sendReadings, technician } from "./readings.mjs";
import { arrive, axe, openCar, openShop } from "./shop.mjs";

let shop;
const dir = mkdtempSync(join(tmpdir(), "wexter-tests-"));
before(async () => { shop = await openShop(); });
after(async () => {
  rmSync(dir, { recursive: true, force: true });
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const plain = { engine: "na-maf", boost: "no-boost", crankcase: "fixed-valve", recirculation: "no-egr" };

// The cars of the walk: what is wrong with each, and every test that must show it, with the
// part that is tried. The same tests are made again on the car without its faults.
const cars = [
  { name: "drawn down by the engine, its vapour system", archetypes: { ...plain, archetype: "engine-vacuum" },
    faults: { "vapour-line": 0.5, cap: 0.4, "purge-valve": 0.3, "vent-filter": 0.9, "tank-sensor": 0.95, "vent-circuit": 0.9 }, found: "vapour-line",
    tests: [["cap-check", "cap"], ["smoke"], ["part-smoke", "purge-valve"], ["decay"], ["make-up-flow"], ["valve-bench", "purge-valve"], ["purge-running"], ["vent-path"],
      ["sensor-check", "tank-sensor"], ["circuit-walk", "vent-valve"], ["draw-down"]] },
  { name: "drawn down by the engine, its engine", archetypes: { ...plain, archetype: "engine-vacuum" }, faults: { "booster-hose": 0.5, "blow-by": 1 }, found: "booster-hose",
    tests: [["look"], ["trims"], ["intake-smoke"], ["crankcase-manometer"]] },
  { name: "one switch, stepper EGR", archetypes: { ...plain, recirculation: "egr-stepper", archetype: "eonv-switch-remote" },
    faults: { "eonv-relief-leaks": 0.9, cap: 0.6, "egr-motor": 0.9 }, found: "eonv-relief-leaks",
    tests: [["eonv-manometer", "vent-valve"], ["soak-watch"], ["egr-coils", "egr-valve"], ["egr-command"]] },
  { name: "a pump of its own, turbo", archetypes: { engine: "turbo-petrol", boost: "charged", crankcase: "regulator-turbo", recirculation: "no-egr", archetype: "pressure-pump" },
    faults: { cap: 0.5, "manifold-check": 0.7 }, found: "cap", tests: [["pump-hand"], ["pump-self-test"], ["check-valve", "manifold-check"]] },
  { name: "early, vacuum EGR", archetypes: { ...plain, engine: "na-map", recirculation: "egr-vacuum", archetype: "early-ported" }, faults: { "tank-valve": 1, "egr-ports": 1 }, found: "egr-ports",
    tests: [["by-pass"], ["egr-vacuum"], ["egr-ramp"]], ambient: 32, reid: 85 },
  { name: "diesel", archetypes: { engine: "turbo-diesel", boost: "charged", crankcase: "regulator-inlet", recirculation: "no-egr", archetype: "no-vapour" }, faults: { "charge-hose": 0.9 }, found: "charge-hose", tests: [["boost-pressure"]] },
];

// shows do not prove by themselves: eyes find damage, and a by-pass only tells where it is.
const cannotProve = ["look", "by-pass"];

async function stand(plate, car, faults) {
  const file = join(dir, `${plate.replaceAll(" ", "")}-${Object.keys(faults).length}.yaml`);
  const list = Object.entries(faults).map(([k, v]) => `${k}: ${v}`).join(", ");
  writeFileSync(file, `name: ${plate}\narchetypes: [${Object.values(car.archetypes).join(", ")}]\nfaults: {${list}}\nlevel: 0.4\nambient_C: ${car.ambient ?? 20}\nreid_kPa: ${car.reid ?? 62}\nseed: 7\n`);
  return openCar(file, "--speed", "0");
}

// opened opens a case and goes to its page. The pages of intake, finding and repair have
// tests of their own: here they are sent as they would send themselves.
async function opened(page, plate, car, codes = "") {
  const metering = car.archetypes.engine === "na-map" ? "map" : "maf";
  await page.goto(shop.base + "/cases/new");
  const url = await sendForm(page, page.url(), "main form", Object.entries({ plate, make: "Quillane", model: "Stint", year: "2019", tank: "55", complaint: "lamp on", codes, metering, ...car.archetypes }));
  await page.goto(url);
  if (codes) return url;
  await page.waitForSelector("text=Read the car first");
  // No scan tool in this bay: the hunt goes on all the same.
  await arrive(page, () => page.click("button:has-text('No scan tool here')"));
  await page.waitForSelector("[data-odds]");
  return url;
}

// classes are those of the outcomes on the Strip, the newest first.
const strip = ".strip > li:not(.leg)";
const classes = (page) => page.locator(strip).evaluateAll((l) => l.map((x) => x.querySelector(".fig")?.className));

// made does one test by its page and ends on the case. A repeat is sent as its page would
// send it: the page is the one that was filled in by hand before.
async function made(page, url, [key, on], done, repeat) {
  if (key === "decay") {
    if (repeat) {
      await page.goto(url + "/proof");
      await page.click("button:has-text('Repeat: leak-down test')");
    } else {
      await page.goto(url);
      await page.evaluate(() => { document.querySelector("#else").open = true; });
      await page.click("#else form button");
    }
    await holdOn(page, done);
    return;
  }
  if (repeat) {
    assert.match(await sendReadings(page, repeat, done.readings), /\/proof$/, `${key} on the mended car is not taken`);
    return;
  }
  await page.goto(`${url}/do/${key}${on ? "?on=" + on : ""}`);
  await fillReadings(page, done.readings);
  await arrive(page, () => page.click(".actions button:has-text('Save result')"));
  await page.waitForSelector(".strip");
}

describe("readings, outcome, Strip and proof, every test of the Book", () => {
  for (const [n, car] of cars.entries()) {
    test(car.name, async (t) => {
      const page = await shop.page(), plate = `SQ 7${n} T`;
      const ill = await stand(plate, car, car.faults), well = await stand(plate, car, {});
      try {
        const url = await opened(page, plate, car);
        for (const x of car.tests) {
          await made(page, url, x, await technician(ill, ...x));
          if (x[0] === "decay") await page.goto(url);
          const [c] = await classes(page);
          assert.match(c, /over/, `${x[0]} on the faulty car shows ${c}`);
          if (x[0] === "by-pass") { // what it left on the car is told of, and the case cannot be closed before it is off
            await page.waitForSelector("form.caution:has-text('The by-pass hose is still on the car.')");
            assert.deepEqual(await axe(page), []);
            await page.goto(url + "/proof");
            await page.locator("[name=reason]").fill("a try");
            await arrive(page, () => page.click("button:has-text('Close')"));
            await page.waitForSelector("text=The by-pass hose is still on the car: take it out");
            await page.goto(url);
            await arrive(page, () => page.click("button:has-text('It is out')"));
            await page.waitForSelector(".strip:has-text('The by-pass hose is off the car.')");
            assert.equal(await page.locator("form.caution").count(), 0);
          }
        }
        await sendForm(page, url + "/found", "main form", [["part", car.found], ["by", "word"], ["how", "by what the tests show"]]);
        const causes = (await seen(page, url + "/repair", "select[name^=cause-]", "name")).map((n) => [n, "unknown"]);
        await sendForm(page, url + "/repair", "main form", [["action", "all of it mended"], ...causes]);
        const again = (await seen(page, url + "/proof", "a[href*='?repeat=']", "href")).map((h) => shop.base + h);
        const mended = [];
        for (const x of car.tests.toSorted((a, b) => (b[0] === "decay") - (a[0] === "decay"))) {
          const repeat = again.find((h) => h.includes(`/do/${x[0]}?`));
          assert.ok(repeat || x[0] === "decay" || cannotProve.includes(x[0]), `${x[0]} failed and is not offered to be repeated`);
          if (!repeat && x[0] !== "decay") continue;
          await made(page, url, x, await technician(well, ...x), repeat || "hold");
          mended.unshift(x[0]);
        }
        const now = await seen(page, url, strip, "class", ".fig");
        for (const [i, name] of mended.entries()) assert.match(now[i], /within/, `${name} on the mended car shows ${now[i]}`);
        await page.goto(url + "/proof");
        if (n === 0) assert.deepEqual(await axe(page), []);
        const proof = await page.locator("section[aria-label=Proof]").innerText();
        const sides = await page.locator(".beforeafter").allInnerTexts();
        if (again.length) {
          assert.equal(sides.length, mended.length, "not every repeated test is compared");
          for (const x of sides) assert.match(x, /After the repair(?![\s\S]*not repeated yet)/i);
        }
        if (again.length) assert.match(proof, /●\s*the test that failed, repeated/);
        else assert.match(proof, /cannot prove that it is gone/);
        t.diagnostic(`${car.tests.length} tests, ${again.length} repeated`);
      } finally {
        await ill.close();
        await well.close();
      }
    });
  }
});

test("the walk goes over every test of the Book", () => {
  const book = JSON.parse(execFileSync("bin/wexter", ["vocabulary", "--json"], { encoding: "utf8" })).tests.map((t) => t.key);
  const walked = cars.flatMap((c) => c.tests.map((x) => x[0]));
  assert.deepEqual(book.filter((k) => !walked.includes(k)), ["readiness"], "tests that nobody walks through; a scan has tests of its own");
});

// follow does what is next on a case until a test has singled a part out, and writes it
// down; it returns that part's fault and the tests that were done.
async function follow(page, car) {
  const did = [];
  for (let step = 0; step < 16; step++) {
    const offer = page.locator(".actions a.main[href*='found?part=']");
    if (await offer.count()) {
      const fault = new URL(await offer.evaluate((a) => a.href)).searchParams.get("part");
      await offer.click();
      await page.waitForSelector("text=Singled out by");
      assert.equal(await page.inputValue("#part"), fault);
      await page.fill("#how", "followed what was next");
      await page.click(".actions button.main");
      await page.waitForSelector(".strip >> text=rests on");
      return { fault, did };
    }
    const next = page.locator("[data-next]");
    const [key, on, plug] = await next.evaluate((e) => [e.dataset.next, e.dataset.at, e.dataset.plug]);
    did.push([key, on, plug].filter(Boolean).join(" "));
    const done = await technician(car, key, on || plug);
    if (key === "decay") {
      await page.click(".actions button:has-text('Start test')");
      await holdOn(page, done);
      continue;
    }
    await arrive(page, () => page.click(".actions a:has-text('Start test')"));
    await fillReadings(page, done.readings);
    await arrive(page, () => page.click(".actions button:has-text('Save result')"));
    await page.waitForSelector("[data-odds]");
  }
  assert.fail(`nothing was singled out by ${did.join(", ")}`);
}

// More cars are followed by the program's tests, without a browser.
describe("from one code to a found part by following Next only", () => {
  for (const [plate, what, archetypes, faults] of [
    ["SQ 1 A", "drawn down by the engine", { ...plain, archetype: "engine-vacuum" }, { "vapour-line": 0.45 }],
    ["SQ 6 A", "EGR", { ...plain, recirculation: "egr-vacuum", archetype: "engine-vacuum" }, { "egr-ports": 0.7 }],
  ]) {
    test(what, async (t) => {
      const page = await shop.page(), how = { archetypes };
      const car = await stand(plate, how, faults);
      try {
        const code = /[PCBU][0-9A-F]{4}/.exec((await technician(car, "readiness")).readings[0].said?.join(" ") || "");
        assert.ok(code, "the simulated car has no code");
        await opened(page, plate, how, code[0]);
        const { fault, did } = await follow(page, car);
        t.diagnostic(`${fault} by ${did.join(", ")}`);
        assert.deepEqual([fault], Object.keys(faults), `found by ${did.join(", ")}`);
      } finally {
        await car.close();
      }
    });
  }
});
