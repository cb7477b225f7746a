// What sources state of a car, each in its own unit, beside what was measured on it.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, openShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

test("two books contradict each other, a measurement stands beside them, and one is struck out", async () => {
  const page = await shop.page();
  const marl = await shop.car(page, "Quillane Sprat");
  await page.goto(shop.base + marl + "/map");
  await page.click("a:has-text('values')");
  await page.waitForSelector("text=No value is stated or measured yet");
  const state = async (said, source) => {
    await page.selectOption("#what", "valve-bench/coil");
    await page.selectOption("#part", "purge-valve");
    await page.fill("#said", said);
    await page.fill("#source", source);
    await page.click("text=Save value");
  };
  await state("24 inches", "Valves, Harbour Books, 2017");
  await page.waitForSelector("#problem:has-text('stated in ohm')");
  assert.equal(await page.inputValue("#source"), "Valves, Harbour Books, 2017", "what was typed is gone");
  await state("22 to 30 ohm", "Valves, Harbour Books, 2017");
  await page.waitForSelector("td:has-text('22 to 30 ohm')");
  await state("38 ± 3 Ω", "Sprat, wiring, Quay Press, 2020");
  await page.waitForSelector(".caution:has-text('The sources contradict each other')");
  // On the bench of that very test they stand beside the fields.
  await page.goto(shop.base + marl + "/do/valve-bench?on=purge-valve");
  assert.match(await page.innerText(".stated"), /22 to 30 ohm.*Harbour Books.*38 ± 3 Ω.*contradict/s);
  await page.fill("#read-coil-0", "26.1");
  for (const box of await page.locator("input[type=radio][value=yes]").all()) await box.check();
  await arrive(page, () => page.click("button:has-text('Save result')"));
  await page.goto(shop.base + marl + "/values");
  await page.waitForSelector("tr.measured:has-text('26.1 ohm')");
  await page.waitForSelector("tr:has-text('38 ± 3') small:has-text('lies outside')");
  await page.click("[aria-label='strike out: 38 ± 3 Ω']");
  await page.waitForSelector("s:has-text('38 ± 3')");
  assert.equal(await page.locator(".caution:has-text('contradict')").count(), 0);
  await page.click("[aria-label='put back: 38 ± 3 Ω']");
  await page.waitForSelector(".caution:has-text('contradict')");
});
