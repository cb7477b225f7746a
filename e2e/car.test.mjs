import assert from "node:assert/strict";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, test } from "node:test";
import { axe, begin, bench, main, openCar, openShop, press, take } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

test("a whole car on stand-ins: its data and valves live, a scan, a hold, and a cleared code that comes back", async () => {
  const dir = mkdtempSync(join(tmpdir(), "wexter-car-"));
  const file = join(dir, "car.yaml");
  writeFileSync(file, "name: Teal\narchetypes: [na-maf, no-boost, fixed-valve, no-egr, engine-vacuum]\nfaults: {flange-seal: 0.6, purge-circuit: 0.8}\ntrips: 2\nwarm: true\n");
  const car = await openCar(file, "--speed", "0");
  const { tell, tellModule } = car;
  try {
    const page = await shop.page();
    await page.goto(shop.base + "/instruments");
    await page.check("input[value=adapter]");
    await page.fill("#name", "adapter of the Teal");
    await page.fill("#address", car.at["scan adapter"]);
    await page.click("button:has-text('Add instrument')");
    await page.waitForSelector(`li:has-text('${car.at["scan adapter"]}')`);
    await bench(page, shop.base, { address: car.at["pressure module"] }, "SQ 811 C");
    const hold = page.url();
    const url = await page.locator("a[href^='/cases/']").first().evaluate((a) => a.href.replace(/(\/cases\/[^/?#]+).*/, "$1"));

    // Live: the engine starts, its data come, blades turn, pressures stand beside the volumes.
    await page.goto(`${url}/car?adapter=${encodeURIComponent(car.at["scan adapter"])}`);
    await page.waitForSelector("[data-live-rows] tr:has-text('coolant')");
    await press(page, "button[data-mode=idle]");
    await page.waitForSelector("[data-mode=idle][aria-pressed=true]");
    tell("@run 40");
    await page.waitForSelector("[data-now]:has-text('engine runs')");
    await page.waitForSelector("[data-mode=idle][aria-pressed=true]");
    await page.waitForFunction(() => [...document.querySelectorAll(".m-live text")].some((t) => /^−(2[4-9]|3[0-2])\d$/.test(t.textContent)));
    assert.match(await page.textContent("[data-codes]"), /P0444/);
    assert.equal(await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth), 0, "the live data run off the side");
    assert.deepEqual(await axe(page), []);
    await press(page, "button[aria-label='100 %, Vent valve']");
    tell("@run 1");
    await page.waitForFunction(() => document.querySelector("[data-part=vent-valve]").dataset.open === "0.00");
    await press(page, "button[aria-label='let go of it, Vent valve']");
    tell("@run 1");
    await page.waitForFunction(() => document.querySelector("[data-part=vent-valve]").dataset.open === "1.00");
    await press(page, "button[data-mode=off]");
    tell("@run 2");
    await page.waitForSelector("[data-now]:has-text('key off')");
    await press(page, "button[aria-label='100 %, Vent valve']");
    await page.waitForSelector("[data-failed]:has-text('The key is off')");
    await press(page, "button[data-mode=key]");
    await page.waitForSelector("[data-now]:has-text('key on, engine off')");

    const scan = async () => {
      await page.goto(url + "/scan");
      await page.click(`label:has-text('${car.at["scan adapter"]}')`);
      await page.click("button:has-text('Read the car')");
      await page.waitForURL("**/scans/*");
    };
    await scan();
    await page.waitForSelector("h2:has-text('code')");
    await page.waitForSelector("main :text('P0444')");

    // The hold sees the same car.
    await page.goto(hold);
    const offered = page.locator("text=Use this module");
    await page.locator(main).or(offered).first().waitFor();
    if (await offered.isVisible()) await take(page, { address: car.at["pressure module"] });
    await begin(page, "rig check");
    tellModule("run", "8s");
    await page.waitForFunction(() => Number(document.querySelector("[data-inches]").textContent) > 11);
    tellModule("run", "70s");
    await begin(page, "zero");
    tellModule("run", "6s");
    await begin(page, "drift");
    await page.waitForSelector("[data-next]:has-text('Hands off')");
    tellModule("run", "80s");
    await begin(page, "hold");
    tellModule("run", "40s");
    await page.waitForSelector("[data-verdict]:has-text('mm')");
    await page.click(`${main}:has-text('Stop')`);

    // Cleared with the engine off; driven, it comes back.
    await page.goto(url);
    await page.click(".strip a:has-text('Scan')");
    await page.check(`form[action$=clear] label:has-text('adapter of the Teal') input`);
    await page.check("form[action$=clear] input[name=sure]");
    await page.click("button:has-text('Clear the codes')");
    await page.waitForSelector(".strip:has-text('Codes cleared')");
    assert.doesNotMatch(tell("ask", "03"), /04 44/);
    tell("@drive idle");
    tell("@run 54");
    tell("@drive key");
    assert.match(tell("ask", "07"), /04 44/);
    await scan();
    await page.waitForSelector("main :text('P0444')");
  } finally {
    await car.close();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("a suspect's predicted trace over the measured one", async () => {
  const page = await shop.page();
  await page.goto(shop.base);
  await page.click("text=Hathmere Tern");
  const leg = await page.locator("a[href*='?leg=']").first().getAttribute("href");
  await page.goto(shop.base + leg);
  await page.selectOption("#suspect", "quick-connect");
  await page.selectOption("#size", "large");
  await page.click("button:has-text('Draw it')");
  await page.waitForSelector("[data-predicted]:has-text('quick-connect O-ring')");
  assert.equal(await page.locator(".p-ghost").count() > 0, true);
  assert.deepEqual(await axe(page), []);
});
