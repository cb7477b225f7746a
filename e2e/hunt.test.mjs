import assert from "node:assert/strict";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, describe, test } from "node:test";
import { fillReadings, holdOn, technician } from "./readings.mjs";
import { arrive, openCar, openShop } from "./shop.mjs";

let shop;
const dir = mkdtempSync(join(tmpdir(), "wexter-hunt-"));
before(async () => { shop = await openShop(); });
after(async () => {
  rmSync(dir, { recursive: true, force: true });
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

// follow opens a case on a simulated car with one code and does what is next, until a test
// has singled a part out; it returns that part's fault and the tests that were done.
async function follow(page, plate, archetypes, faults) {
  const file = join(dir, plate.replaceAll(" ", "") + ".yaml");
  writeFileSync(file, `name: ${plate}\narchetypes: [${Object.values(archetypes).join(", ")}]\nfaults: {${faults}}\nlevel: 0.4\ntrips: 2\nseed: 7\n`);
  const car = await openCar(file, "--speed", "0");
  try {
    const code = /[PCBU][0-9A-F]{4}/.exec((await technician(car, "readiness")).readings[0].said?.join(" ") || "");
    assert.ok(code, "the simulated car has no code");
    await page.goto(shop.base + "/cases/new");
    for (const [f, v] of [["plate", plate], ["make", "Quillane"], ["model", "Stint"], ["year", "2019"], ["odometer", "80000"], ["tank", "55"], ["complaint", "lamp on"]]) await page.fill("#" + f, v);
    await page.click("summary:has-text('The rest of its plumbing')");
    for (const [f, v] of Object.entries(archetypes)) await page.selectOption(`select[name=${f}]`, v);
    await page.selectOption("select[name=metering]", archetypes.engine === "na-map" ? "map" : "maf");
    await page.fill("#codes", code[0]);
    await arrive(page, () => page.click("text=Open the case"));
    await page.waitForSelector("[data-odds]");
    const did = [];
    for (let step = 0; step < 16; step++) {
      const offer = page.locator(".foundoffer a.main");
      if (await offer.count()) {
        const fault = new URL(await offer.evaluate((a) => a.href)).searchParams.get("part");
        await offer.click();
        await page.waitForSelector("text=Singled out by");
        assert.equal(await page.inputValue("#part"), fault);
        await page.fill("#how", "followed what was next");
        await page.click("main button.main");
        await page.waitForSelector(".strip >> text=rests on");
        return { fault, did };
      }
      const next = page.locator("[data-next]");
      const [key, on, plug] = await next.evaluate((e) => [e.dataset.next, e.dataset.at, e.dataset.plug]);
      did.push([key, on, plug].filter(Boolean).join(" "));
      const done = await technician(car, key, on || plug);
      if (key === "decay") {
        await page.click("[data-next] button:has-text('Start the bench')");
        await holdOn(page, done);
        continue;
      }
      await arrive(page, () => page.click("[data-next] a:has-text('To its bench')"));
      await fillReadings(page, done.readings);
      await arrive(page, () => page.click("main button.main"));
      await page.waitForSelector("[data-odds]");
    }
    assert.fail(`nothing was singled out by ${did.join(", ")}`);
  } finally {
    await car.close();
  }
}

const plain = { engine: "na-maf", boost: "no-boost", crankcase: "fixed-valve", recirculation: "no-egr" };
describe("from one code to a found part by following Next only", { concurrency: 2 }, () => {
  for (const [plate, what, archetypes, faults, want] of [
    ["SQ 1 A", "drawn down by the engine", { ...plain, archetype: "engine-vacuum" }, "vapour-line: 0.45", ["vapour-line"]],
    ["SQ 2 A", "cooling by itself, one switch", { ...plain, archetype: "eonv-switch-remote" }, "canister-coupler: 0.5", ["canister-coupler"]],
    ["SQ 3 A", "an electric pump", { ...plain, archetype: "pump-current" }, "quick-connect: 0.85", ["quick-connect"]],
    ["SQ 4 A", "boost", { engine: "turbo-diesel", boost: "charged", crankcase: "regulator-inlet", recirculation: "no-egr", archetype: "no-vapour" }, "charge-hose: 0.95", ["charge-hose"]],
    ["SQ 5 A", "crankcase", { ...plain, archetype: "engine-vacuum" }, "pcv-line: 0.2", ["pcv-line"]],
    ["SQ 6 A", "recirculation", { ...plain, recirculation: "egr-vacuum", archetype: "engine-vacuum" }, "egr-ports: 0.7", ["egr-ports"]],
  ]) {
    test(what, async (t) => {
      const page = await shop.page();
      const { fault, did } = await follow(page, plate, archetypes, faults);
      t.diagnostic(`${fault} by ${did.join(", ")}`);
      assert.ok(want.includes(fault), `found ${fault} by ${did.join(", ")}`);
    });
  }
});
