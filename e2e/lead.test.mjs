// The lead's view: the Slate by what is to spare until the inspection, who works on what,
// some of the cars, and forty of them.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { axe, openShop } from "./shop.mjs";

let shop, page;
before(async () => { shop = await openShop(); page = await shop.page(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const numbers = () => page.locator(".slate .car .n:first-child").allInnerTexts();

// planned waits until every open case was thought through: the program does that beside
// the first pages.
async function planned() {
  await page.goto(shop.base);
  while (await page.locator(".lane .sr-only", { hasText: "left:" }).count() < 12) await page.reload();
}

test("the car that will miss its inspection stands first, with the minutes that are missing", async () => {
  await planned();
  const first = page.locator(".slate .lane").first();
  assert.match(await first.innerText(), /will miss its inspection \w+ \d+ \w+: \d+ min missing/);
  assert.match(await page.innerText("h1"), /12 cars, \d can be worked on now, 1 will miss its inspection/);
  assert.equal((await numbers())[0], "SQ-103");
});

test("some of the cars: by person, by what they wait for, by the kit they need next", async () => {
  await page.selectOption("[name=who]", "MK");
  await page.click("text=Show");
  await page.waitForURL(/who=MK/);
  assert.deepEqual((await numbers()).sort(), ["SQ-102", "SQ-104"]);
  assert.match(await page.innerText("h1"), /2 of 12 cars/);
  await page.selectOption("[name=waits]", "soak");
  await page.click("text=Show");
  await page.waitForURL(/waits=soak/);
  assert.deepEqual(await numbers(), ["SQ-104"]);
  await page.goto(`${shop.base}/?kit=smoke`);
  const smoke = await numbers();
  assert.ok(smoke.length > 0 && smoke.length < 11 && smoke.includes("SQ-102"), smoke.join());
  await page.goto(`${shop.base}/?who=ZZ`);
  assert.match(await page.innerText("main"), /No car in the shop is like that/);
  await page.click("text=Show all 12");
  assert.equal((await numbers()).length, 12);
});

test("who works on it: typed once, tapped after that, seen on the Slate", async () => {
  await page.goto(shop.base + await shop.car(page, "Ibis"));
  await page.click("summary:has-text('Who works on it')");
  await page.fill("#whofield", "k. l.");
  await page.click("#who >> text=Save");
  await page.waitForSelector(".casehead >> text=KL works on it");
  await page.click("summary:has-text('Who works on it: KL')");
  await page.click("#who >> button:has-text('MK')");
  await page.waitForSelector(".casehead >> text=MK works on it");
  await page.click("summary:has-text('Who works on it: MK')");
  await page.fill("#whofield", "Marlene");
  await page.click("#who >> text=Save");
  await page.waitForSelector("#problem");
  assert.match(await page.innerText("#problem"), /at most 4 letters/);
  assert.equal(await page.inputValue("#whofield"), "Marlene");
  await page.goto(shop.base);
  assert.match(await page.locator(".car", { hasText: "Ibis" }).innerText(), /MK/);
});

test("forty cars: every one on the Slate, calm at all three sizes", async () => {
  for (let n = 0; n < 28; n++) {
    await page.goto(`${shop.base}/cases/new`);
    await page.fill("#plate", `FORTY ${n}`);
    await page.fill("#make", "Ostrel");
    await page.fill("#model", "Knot");
    await page.fill("#complaint", "Lamp on.");
    if (n % 2) await page.fill("#deadline", `2031-05-${String(n % 28 + 1).padStart(2, "0")}`);
    await page.click("text=Open the case");
    await page.waitForSelector(".casehead");
  }
  for (const [width, height] of [[1280, 800], [820, 1180], [390, 844]]) {
    await page.setViewportSize({ width, height });
    await page.goto(shop.base);
    assert.equal(await page.locator(".slate .car").count(), 40);
    assert.equal(await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth), 0);
    const rows = await page.locator(".slate .car").evaluateAll((all) => all.map((e) => e.getBoundingClientRect().height));
    assert.ok(Math.min(...rows) >= 44 && Math.max(...rows) <= 100, `rows of ${Math.min(...rows)} to ${Math.max(...rows)} px`);
  }
  assert.deepEqual(await axe(page), []);
});
