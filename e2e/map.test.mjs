import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, fillCase, openShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const png = Buffer.from("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==", "base64");
// tap presses the middle of a part on the Map, as a finger would: of a bent line the
// middle of its longest run.
async function tap(page, key) {
  const spot = await page.locator(`svg.map [data-part="${key}"]`).evaluate((a) => {
    a.scrollIntoView({ block: "center" });
    const path = a.querySelector("path.m-hit");
    const m = a.ownerSVGElement.getScreenCTM();
    const box = (path || a.querySelector("rect.m-hit")).getBBox();
    let x = box.x + box.width / 2, y = box.y + box.height / 2;
    if (path) {
      const pts = path.getAttribute("d").match(/-?\d+/g).map(Number);
      let best = -1;
      for (let i = 2; i < pts.length; i += 2) {
        const n = Math.abs(pts[i] - pts[i - 2]) + Math.abs(pts[i + 1] - pts[i - 1]);
        if (n > best) { best = n; x = (pts[i] + pts[i - 2]) / 2; y = (pts[i + 1] + pts[i - 1]) / 2; }
      }
    }
    return { x: m.a * x + m.e, y: m.d * y + m.f };
  });
  await Promise.all([page.waitForURL((u) => u.searchParams.get("part") === key), page.mouse.click(spot.x, spot.y)]);
}

test("the Map: tapped, flagged, found, suspected, exported", async () => {
  const page = await shop.page();
  const sprat = await shop.car(page, "Quillane Sprat");
  await page.goto(shop.base + sprat);
  await tap(page, "vent-valve");
  const panel = page.locator("#part");
  assert.match(await panel.innerText(), /Vent valve[\s\S]*At rest: open \(spring; power moves it\)[\s\S]*canister, vent side[\s\S]*does not seal[\s\S]*Valve bench test/i);
  await panel.locator("text=billow").click();
  await panel.locator("text=Flag the exit").click();
  await page.waitForSelector(".m-flag text:has-text('1')");
  assert.match(await page.locator('svg.map [data-part="vent-valve"]').getAttribute("aria-label"), /flag 1: exit, billow/);
  await page.waitForSelector(".strip >> text=Exit seen: vent valve");
  await tap(page, "neck-hose"); // a bent line
  await page.fill("#odds", "30");
  await page.click("text=Suspect it");
  await page.waitForSelector(".strip >> text=Suspected by hand: neck hose");
  assert.match(await page.locator('svg.map [data-part="neck-hose"]').getAttribute("aria-label"), /suspect, \d+ %/);
  await page.fill("#odds", "abc");
  await page.click("text=Suspect it");
  await page.waitForSelector("#problem:has-text('Odds')");
  await tap(page, "vent-valve");
  await page.click("text=Found here");
  assert.equal(await page.inputValue("#part"), "vent-valve");
  await page.fill("#how", "sand on its seat");
  await page.click("main button.main");
  await page.waitForSelector(".m-flag text:has-text('2')");
  assert.match(await page.locator('svg.map [data-part="vent-valve"]').getAttribute("aria-label"), /found, flag 1: exit, billow, flag 2: Vent valve, does not seal/);
  assert.match(await page.locator(".mapflags").innerText(), /exit, billow[\s\S]*does not seal/);
  const svg = await page.request.get(shop.base + sprat + "/map.svg");
  assert.match(svg.headers()["content-type"], /svg/);
  assert.match(await svg.text(), /<style>[\s\S]*proven tight/);
  await page.goto(shop.base + sprat + "?part=moon");
  await page.waitForSelector("text=is not on this car's Map");
});

test("the Map by keyboard, and its list twin says the same", async () => {
  const page = await shop.page();
  await page.goto(shop.base + (await shop.car(page, "Quillane Sprat")) + "/map");
  const labels = await page.locator("svg.map a").evaluateAll((l) => l.map((a) => a.getAttribute("aria-label")));
  const listed = await page.locator(".partlist a").evaluateAll((l) => l.map((a) => a.textContent));
  assert.ok(labels.length > 40 && labels.every((l) => listed.includes(l)), "a part on the Map is missing from the list");
  for (let i = 0; i < 90; i++) {
    if (await page.evaluate(() => document.activeElement?.dataset?.part === "cap")) break;
    await page.keyboard.press("Tab");
  }
  assert.equal(await page.evaluate(() => document.activeElement.dataset.part), "cap");
  await page.keyboard.press("Enter");
  await page.waitForSelector("#part h2:has-text('Filler cap')");
  assert.equal(await page.evaluate(() => document.activeElement.id), "part");
  await page.keyboard.press("Tab");
  assert.ok(await page.evaluate(() => document.querySelector("#part").contains(document.activeElement)));
});

test("plugging belongs to the set-up, and what stands open is said", async () => {
  const page = await shop.page();
  const wherry = await shop.car(page, "Ostrel Wherry");
  await page.goto(shop.base + wherry);
  await page.click("text=Other actions");
  await page.click("text=Another leak-down test");
  await page.waitForURL("**/tests/*");
  const test = page.url();
  await page.click("text=Plugs and valves on the Map");
  const side = page.locator("aside.side");
  assert.match(await side.innerText(), /Gauge at the Service port: .*Fuel tank/);
  await tap(page, "vapour-line");
  await page.click("button:has-text('Plug it here')");
  await page.waitForSelector("text=Not under the gauge");
  assert.match(await side.innerText(), /Not under the gauge: Fuel tank/);
  assert.match(await page.locator('svg.map [data-part="vapour-line"]').getAttribute("aria-label"), /plugged/);
  await tap(page, "vent-valve"); // held shut by power until now
  await page.click("button:has-text('take back')");
  await page.waitForSelector(".problem:has-text('Open to the air at the Vent filter')");
  await page.click("text=Seal it the usual way");
  await page.waitForSelector(".problem", { state: "detached" });
  await tap(page, "neck");
  await page.click("text=Join the gauge here");
  await page.waitForSelector("text=Gauge at the Filler neck");
  await tap(page, "purge-line");
  await arrive(page, () => page.click("button:has-text('Plug it here')"));
  await page.goto(test);
  assert.match(await page.locator(".left").innerText(), /Gauge at the Filler neck\. Not under it/);
  await page.reload();
  assert.match(await page.locator(".left").innerText(), /Gauge at the Filler neck/);
});

test("this car: a correction with a photo, an access card, and both at its like", async () => {
  const page = await shop.page();
  const sweeper = await shop.car(page, "Ostrel Packer");
  const map = shop.base + sweeper + "/map";
  await page.goto(map);
  await tap(page, "service-port");
  await page.click("text=The Map is wrong here");
  await page.check("#part input[value=gone]");
  await page.click("text=Correct this car's Map");
  await page.waitForSelector("#problem:has-text('say what you saw')");
  await page.click("text=The Map is wrong here");
  await page.check("#part input[value=gone]");
  await page.fill("#correction", "no port on the sweeper");
  await page.setInputFiles("#correctionphoto", { name: "p.png", mimeType: "image/png", buffer: png });
  await page.click("text=Correct this car's Map");
  await page.waitForSelector("text=Corrected on this car");
  assert.equal(await page.locator('svg.map [data-part="service-port"]').count(), 0);
  assert.ok(await page.locator("a:has-text('photo')").count() > 0);
  await tap(page, "canister");
  await page.click("text=Write an access card");
  await page.fill("#place", "behind the brush motor");
  await page.fill("#first", "brush guard");
  await page.fill("#cardminutes", "a while");
  await page.click("text=Save the card");
  await page.waitForSelector("#problem:has-text('Minutes')");
  await tap(page, "canister");
  await page.click("text=Write an access card");
  await page.fill("#place", "behind the brush motor");
  await page.fill("#first", "brush guard");
  await page.fill("#cardminutes", "25");
  await page.click("text=Save the card");
  await page.waitForSelector(".card:has-text('brush guard')");
  // Another sweeper of the make and model comes in.
  await page.goto(shop.base + "/cases/new");
  await fillCase(page, { plate: "SWEEP 3", make: "Ostrel", model: "Packer", tank: "70", complaint: "smells", archetype: "pressure-pump", metering: "map" });
  await page.click("text=Open the case");
  await page.waitForSelector("text=The Map assumes");
  await page.click("text=Say what this car is made of");
  await page.waitForSelector("text=On its like");
  await page.click("button:has-text('It is so here too')");
  await page.waitForSelector("text=Corrected on this car");
  await tap(page, "canister");
  await page.waitForSelector(".card:has-text('from SWEEP 2, same make and model')");
  // What it is made of: refused with the reason, then said.
  await page.locator("details:has(#f-engine)").evaluate((d) => { d.open = true; });
  await page.selectOption("#f-engine", "turbo-petrol");
  await page.click("text=Save what it is made of");
  await page.waitForSelector("#problem:has-text('a turbo engine has a charge side')");
  await page.locator("details:has(#f-engine)").evaluate((d) => { d.open = true; });
  assert.equal(await page.inputValue("#f-engine"), "turbo-petrol");
  await page.selectOption("#f-boost", "charged-jet");
  await page.selectOption("#f-crankcase", "regulator-turbo");
  await page.click("text=Save what it is made of");
  await page.waitForSelector('svg.map [data-part="jet-pump"]');
});

test("the Book: searched by the trade's words, procedures to print, faults and tests joined", async () => {
  const page = await shop.page();
  await page.goto(shop.base + "/book");
  await page.fill("#q", "drain valve");
  await page.keyboard.press("Enter");
  await page.waitForSelector("text=which the trade also says");
  await page.waitForSelector("td >> text=Vent valve, does not seal");
  await page.fill("#q", "manometer");
  await page.keyboard.press("Enter");
  await page.click("a:has-text('Vent unit on the manometer')");
  await page.waitForURL("**/book/test/eonv-manometer");
  assert.match(await page.locator("main").innerText(), /Set up[\s\S]*vent side open[\s\S]*relief opens\s*inH2O[\s\S]*vacuum relief opens early[\s\S]*Traps/);
  await page.emulateMedia({ media: "print" });
  assert.equal(await page.locator("header.top").isVisible(), false);
  await page.emulateMedia({ media: "screen" });
  await page.click("a:has-text('sticks, late or dead')");
  await page.waitForSelector("#fault-eonv-unit:has-text('Soak watch')");
  await page.goto(shop.base + "/book/test/none");
  await page.waitForSelector("text=not in the shop's records");
});

test("a page with a Map weighs little", async () => {
  const page = await shop.page();
  await page.goto(shop.base, { waitUntil: "load" });
  await page.goto(shop.base + (await shop.car(page, "Quillane Marl")), { waitUntil: "load" });
  const size = await page.evaluate(() => performance.getEntriesByType("navigation")[0].transferSize);
  assert.ok(size > 4096 && size < 40 * 1024, `${size} bytes`);
});
