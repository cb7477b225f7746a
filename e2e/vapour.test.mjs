// The benches of the EVAP system, by instrument and by hand: make-up flow, smoke, and the car that
// draws itself down. The car's clock stands until it is told to run.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, axe, hold, lookOver, main, openCar, openShop, press } from "./shop.mjs";

let shop, car;
before(async () => { shop = await openShop(); car = await openCar("demo/bay/SQ-102.yaml", "--speed", "0"); });
after(async () => {
  await car.close();
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const run = (seconds) => car.tell("@run", String(seconds));
const next = (page, words) => page.waitForSelector(`${main}:has-text('Start: ${words}')`);

// seated opens a test of the car live with one of its instruments.
async function seated(page, name, kind, test) {
  await page.goto(shop.base + "/instruments");
  const address = car.at[name];
  if (!await page.locator(`li:has-text('${address}')`).count()) {
    await page.check(`input[name=kind][value=${kind}]`);
    await page.fill("#name", name);
    await page.fill("#address", address);
    await page.click("button:has-text('Add instrument')");
    await page.waitForSelector(`li:has-text('${address}')`);
  }
  await page.goto(shop.base + await shop.car(page, "Tern") + "/do/" + test);
  await arrive(page, () => page.click("button:has-text('Read it live')"));
  await page.waitForSelector("button:has-text('Begin')");
  for (const r of await page.locator(`label:has-text('${address}') input`).all()) await r.check();
  const pick = page.locator("select[name^=seat-]").first();
  if (await pick.count() && await pick.locator(`option:has-text('${name}')`).count()) await pick.selectOption({ label: name });
  await arrive(page, () => page.click("button:has-text('Begin')"));
  await page.waitForSelector(".lamp[data-state=on]");
  await page.waitForFunction(() => /\d/.test(document.querySelector("[data-inches]").textContent));
}

// First, since a rig that is joined to the car later seals it as a person would.
test("a draw-down commands the valves, shows how they stand, and stopping lets them go", async () => {
  const page = await shop.page();
  await seated(page, "scan adapter", "adapter", "draw-down");
  await next(page, "warm the engine up");
  await press(page, main);
  await run(5);
  await page.waitForSelector(`${main}:has-text('Done, go on')`);
  await press(page, main); // the sensor's zero follows by itself
  await next(page, "vent shut");
  await hold(page, main);
  await page.waitForSelector("[data-picture] svg[aria-label*='vent shut']");
  await run(2);
  await press(page, main);
  await page.waitForSelector("[data-picture] svg[aria-label*='vent at rest']");
  const open = async () => { await run(1); return JSON.parse(await car.tell("?")).open["vent-valve"]; };
  for (let n = 0; await open() < 0.9; n++) assert.ok(n < 100, "the vent stays shut");
  assert.deepEqual(await axe(page), []);
});

test("make-up flow: the rig plugged, its own orifice, then the car, which ends by itself; the picture has a bar for each", async () => {
  const page = await shop.page();
  await seated(page, "smoke rig", "module", "make-up-flow");
  await next(page, "rig plugged");
  await hold(page, main);
  await run(25);
  await next(page, "reference orifice");
  await hold(page, main);
  await run(5);
  await page.waitForSelector("[data-picture] svg[aria-label*='L/min into the rig']");
  await run(30);
  await next(page, "flow into the car");
  await hold(page, main);
  await run(250);
  await page.waitForSelector("[data-done]:not([hidden])");
  await page.waitForSelector("[data-verdict]:has-text(\"through the rig's own orifice\")");
  assert.equal(await page.locator("[data-picture] svg rect.p-scenelevel").count() > 0, true, "no bar for the car");
  assert.deepEqual(await axe(page), []);
  const bench = page.url();
  await arrive(page, () => page.keyboard.press("g"));
  assert.equal(await page.inputValue("#read-reference-0").then((v) => Number(v) > 0.3 && Number(v) < 0.7), true, "the orifice's flow did not come along");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Make-up flow test");
  await page.goto(bench);
  await arrive(page, () => page.click("button:has-text('let the instruments go')"));
});

test("smoke: a place counts only once smoke is there; exits are tapped, kept and come along to the result", async () => {
  const page = await shop.page();
  await seated(page, "smoke rig", "module", "smoke");
  await next(page, "smoke in, far end open");
  await hold(page, main);
  await run(3);
  await page.waitForSelector("[data-picture]:has-text('to go')");
  await page.waitForSelector("[data-picture]:has-text('Smoke is expected at the filler cap')");
  await page.selectOption("#part", "neck");
  await page.click("button:has-text('Looked, nothing')");
  await page.waitForSelector("[data-say]:has-text('not to be expected at the filler neck yet')");
  await run(150);
  await page.waitForFunction(() => document.querySelectorAll("[data-picture] .togo .there").length === 4);
  const marked = page.waitForResponse((r) => r.request().method() === "POST");
  await page.keyboard.press("Space"); // smoke at the far end
  await marked;
  await run(1);
  await next(page, "far end shut");
  await press(page, main);
  await run(60);
  await page.waitForSelector("[data-placeform]:not([hidden])");
  await page.selectOption("#part", "vapour-line");
  await page.setInputFiles("#photo", { name: "exit.png", mimeType: "image/png", buffer: Buffer.from("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==", "base64") });
  await page.click("button:has-text('stream')");
  await page.waitForSelector("[data-verdict]:has-text('stream at the vapour line')");
  await page.click("[data-picture] a[data-part=neck]", { force: true });
  assert.equal(await page.inputValue("#part"), "neck", "a tap on the picture does not choose the part");
  await page.click("button:has-text('Looked, nothing')");
  await page.waitForSelector("[data-picture] .m-looked");
  assert.deepEqual(await axe(page), []);
  await press(page, main);
  await page.waitForSelector("[data-done]:not([hidden])");
  await page.waitForSelector("[data-verdict]:has-text('An exit seen')");
  await arrive(page, () => page.click("[data-done]"));
  assert.equal(await page.inputValue("#read-exits-0"), "vapour-line");
  assert.equal(await page.inputValue("#read-looked-0"), "neck");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Smoke test, EVAP system. Vapour line, tank to canister: stream");
});

test("by hand: each bench says what typed readings come to, and draws them", async () => {
  const page = await shop.page();
  const url = shop.base + await shop.car(page, "Tern");
  const says = async (test, fields, words) => {
    await page.goto(`${url}/do/${test}`);
    for (const [name, value] of Object.entries(fields)) await page.fill(`[name="${name}"]`, value);
    return words;
  };
  const check = () => arrive(page, () => page.click("button:has-text('What do these readings say?')"));

  await says("draw-down", { "read-built-0": "8 inH2O", "read-left-0": "1 kPa", "read-level-0": "40" });
  await check();
  await page.waitForSelector(".verdictsays:has-text('from two readings')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /the tank/);
  await says("draw-down", { "read-built-0": "-8" }); // a pressure where a vacuum is meant
  await check();
  await page.waitForSelector("text=Check the sign and the sensor");

  await says("make-up-flow", { "read-flow-0": "2,5", "read-pressure-0": "10 inH2O", "read-reference-0": "0.5 L/min" });
  await check();
  await page.waitForSelector(".verdictsays:has-text('the hole is larger')");
  await page.waitForSelector(".scene svg[aria-label*='rig']");
  await says("make-up-flow", { "read-flow-0": "0.4", "read-pressure-0": "10 inHg", "read-reference-0": "0.5" }); // mercury for water
  await check();
  await page.waitForSelector("text=Check the unit");

  await says("smoke", { "read-minutes-0": "8", "read-rig-flow-0": "9", "read-level-0": "35" });
  await page.check("input[name=read-far-0][value=yes]");
  await page.check("input[name=read-exits-none]");
  await check();
  await page.waitForSelector(".verdictsays:has-text('smoke was seen at the far end')");
  assert.equal(await page.locator(".scene .togo .there").count(), 4, "smoke is not drawn where it is after eight minutes");
  assert.deepEqual(await lookOver(page, `${url}/do/smoke`), []);
});
