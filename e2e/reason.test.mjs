import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, axe, openShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

// openOf opens the page of a demo case by its car.
async function openOf(page, name) {
  await page.goto(shop.base);
  await page.click(`text=${name}`);
  await page.waitForSelector("[data-odds]");
  return page.url();
}

const odds = (page) => page.locator("[data-odds] li").evaluateAll((l) => l.map((x) => x.innerText.replace(/\s+/g, " ")));

test("struck out and taken back: the odds follow", async () => {
  const page = await shop.page();
  await openOf(page, "Hathmere Tern");
  const before = await odds(page);
  const entry = page.locator(".strip > li", { hasText: "Leak-down test" }).first();
  await entry.locator("summary").click();
  await Promise.all([page.waitForNavigation(), entry.locator("button:has-text('strike out')").click()]);
  const without = await odds(page);
  assert.notDeepEqual(without, before);
  const again = page.locator(".strip > li", { hasText: "Leak-down test" }).first();
  await again.locator("summary").click();
  await Promise.all([page.waitForNavigation(), again.locator("button:has-text('put back')").click()]);
  assert.deepEqual(await odds(page), before);
});

test("contradiction: which two, and what to repeat", async () => {
  const page = await shop.page();
  await openOf(page, "Ostrel Wherry");
  const clash = await page.locator(".clash").innerText(); // one, whichever way round
  assert.match(clash, /contradict[\s\S]*Leak-down test: 0\.0\d mm[\s\S]*Cap test[\s\S]*Repeat cap test/);
  const cap = page.locator(".strip > li", { hasText: "Cap test" }).first();
  await cap.locator("summary").click();
  await Promise.all([page.waitForNavigation(), cap.locator("button:has-text('doubt it')").click()]);
  assert.equal(await page.locator(".clash").count(), 0);
});

test("a pair of faults is held", async () => {
  const page = await shop.page();
  await openOf(page, "Hathmere Grebe");
  assert.match(await page.locator(".oddshead").innerText(), /two at once, .*(ports clogged|gasket)/i);
});

test("a test chosen lights the Map and shows the split; a suspect tells for and against", async () => {
  const page = await shop.page();
  const tern = await openOf(page, "Hathmere Tern");
  await page.keyboard.press("2");
  await page.waitForURL((u) => u.searchParams.has("test"));
  assert.ok(await page.locator(".split li").count() >= 2);
  await page.goto(tern + "?test=cap-check&on=cap");
  assert.ok((await page.locator("svg.map .would-clear, svg.map .would-accuse, svg.map .would-split").count()) > 0, "nothing is lit");
  await page.goto(tern);
  await page.locator("[data-odds] a").first().click();
  await page.waitForSelector("#suspect");
  assert.match(await page.locator("#suspect").innerText(), /FOR[\s\S]*speaks [\d.]+ to \d+ for[\s\S]*tests would show/i);
  assert.deepEqual(await axe(page), []);
});

test("a maker's code is looked up once, from the case and back to it", async () => {
  const page = await shop.page();
  const url = await openOf(page, "Hathmere Ibis");
  const before = await odds(page);
  await page.click("text=Look up P1450 and save its meaning");
  await page.waitForURL((u) => u.hash === "#makers");
  assert.equal(await page.getByLabel("Maker's code").inputValue(), "P1450");
  await page.getByLabel("What the maker says").fill("purge flow too low");
  await page.getByLabel("It counts like").selectOption("purge-flow");
  await page.getByLabel(/^Where you read it/).fill(" "); // filled in, with nothing
  await page.click("button:has-text('Save meaning')");
  await page.waitForSelector("[role=alert]:has-text('Write where the meaning of P1450 was read')");
  assert.equal(await page.getByLabel("What the maker says").inputValue(), "purge flow too low");
  assert.deepEqual(await axe(page), []);
  await page.getByLabel(/^Where you read it/).fill("Workshop manual, Hathmere, 2014");
  await page.click("button:has-text('Save meaning')");
  await page.waitForURL(url);
  assert.equal(await page.locator("text=does not count yet").count(), 0);
  assert.notDeepEqual(await odds(page), before);
  await page.goto(shop.base + "/book#makers");
  await page.click("button:has-text('Forget')");
  await page.waitForFunction(() => !document.body.innerText.includes("Workshop manual, Hathmere, 2014"));
});

test("a tapped sign, its opposite, and back; the kit of the case", async () => {
  const page = await shop.page();
  await openOf(page, "Hathmere Ibis");
  const before = await odds(page);
  const tap = async (name) => { await page.locator("#signs").evaluate((d) => { d.open = true; }); await Promise.all([page.waitForNavigation(), page.getByRole("button", { name, exact: true }).click()]); };
  await tap("Smell of fuel");
  await page.waitForSelector(".strip >> text=Smell of fuel");
  const smells = await odds(page);
  assert.notDeepEqual(smells, before);
  await tap("no: Smell of fuel");
  await page.waitForSelector(".strip >> text=Not so: smell of fuel");
  await tap("no: Smell of fuel"); // tapped again: taken back
  assert.deepEqual(await odds(page), before);
  await page.click("#kit > summary");
  for (const k of ["smoke", "gauge", "flow"]) await page.uncheck(`#kit input[value=${k}]`);
  await arrive(page, () => page.click("button:has-text('For this case')"));
  await page.waitForSelector("#kit summary:has-text('for this case')");
  assert.doesNotMatch(await page.locator("[data-next] h2").innerText(), /Smoke in the vapour/);
  await page.goto(shop.base + "/ways");
  await page.check("input[name=way-prove][value=swap]");
  await page.fill("#rate", "abc");
  await arrive(page, () => page.click(".actions button:has-text('Save')"));
  await page.waitForSelector("[role=alert]:has-text('Hour of work')");
  await page.fill("#rate", "72,50");
  await arrive(page, () => page.click(".actions button:has-text('Save')"));
  await page.waitForSelector("input[name=way-prove][value=swap]:checked");
  assert.deepEqual(await axe(page), []);
});

test("the plain bench: nonsense gets a sentence and loses nothing; found needs a test or a word; why it failed is asked", async () => {
  const page = await shop.page();
  const url = await openOf(page, "Quillane Sprat");
  await page.goto(url + "/do/valve-bench?on=purge-valve");
  assert.deepEqual(await axe(page), []);
  await page.getByLabel(/^vacuum held/).fill("lots");
  for (const r of ["sealed", "passed"]) for (let i = 0; i < 5; i++) await page.check(`input[name="read-${r}-${i}"][value=yes]`);
  await page.waitForSelector(".beside >> text=not understood"); // said on leaving the field
  await page.click("main button.main");
  await page.waitForSelector("[role=alert]:has-text('vacuum held')");
  assert.equal(await page.getByLabel(/^vacuum held/).inputValue(), "lots");
  await page.getByLabel(/^vacuum held/).fill("50 kPa");
  await page.click("main button.main");
  await page.waitForSelector(".strip >> text=vacuum held: 14.76");
  await page.goto(url + "/do/smoke");
  await page.click("main button.main");
  await page.waitForSelector("[role=alert]:has-text('every place where it comes out')");
  assert.ok(await page.locator("#f-exits.asked").count(), "the reading that is missing is not marked");
  assert.equal((await page.request.get(url + "/do/unobtainium")).status(), 404);
  await page.goto(url + "/found?part=purge-valve");
  await page.fill("#how", "it ticks oddly");
  await page.click("main button.main");
  await page.waitForSelector("[role=alert]:has-text('No test on this case singles this part out')");
  await page.check("input[name=by][value=word]");
  await page.click("main button.main");
  await page.waitForSelector(".strip >> text=the technician's judgement");
  await page.click("text=Record the repair");
  await page.fill("#action", "new valve");
  await page.evaluate(() => document.querySelectorAll("select[required]").forEach((s) => { s.required = false; }));
  await page.click("main button.main");
  await page.waitForSelector("[role=alert]:has-text('Why did it fail')");
  await page.selectOption("select[name^=cause-]", "canister-shell");
  await page.fill("#why", "carbon grains in its seat");
  await page.click("main button.main");
  await page.waitForSelector(".strip >> text=victim of: canister");
  await page.click("#opened > summary");
  await page.fill("#openedtext", "grains between plunger and seat");
  await page.click("#opened button");
  await page.waitForSelector(".strip >> text=it shows the failure");
});

test("a case that is open in two windows follows what is done in the other", async () => {
  const page = await shop.page(), other = await shop.page();
  const url = await openOf(page, "Ostrel Hod");
  const before = await odds(page);
  await other.goto(url);
  await other.locator("#signs > summary").click();
  await other.getByRole("button", { name: "Carbon grains in the lines", exact: true }).click();
  await other.waitForSelector(".strip >> text=Carbon grains");
  await page.waitForSelector(".strip >> text=Carbon grains");
  assert.notDeepEqual(await odds(page), before);
});
