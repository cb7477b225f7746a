// Real instruments: set up while what they send is looked at, and read from then on.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { lookOver, openBoard, openShop } from "./shop.mjs";

let shop, board;
before(async () => { [shop, board] = await Promise.all([openShop(), openBoard()]); });
after(async () => {
  await board.close();
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

async function add(page, kind, name, address) {
  await page.goto(shop.base + "/instruments");
  await page.check(`input[value=${kind}]`);
  await page.fill("#name", name);
  await page.fill("#address", address);
  await page.click("text=Add instrument");
  await page.waitForURL(/instruments\/./);
  return page.url();
}

const shows = (page, words) => page.locator("[data-shows]", { hasText: words }).first().waitFor().catch(async (e) => { throw new Error(e + (await page.locator("main").innerText())); });

test("a board's line of numbers is set up while it is looked at, zeroed, and read while it changes", async () => {
  const page = await shop.page();
  const url = await add(page, "lines", "board in bay 2", board.lines);
  await shows(page, "Nobody has said yet what its columns measure");
  await page.locator("[data-seen]", { hasText: /^-?0\.\d{3}/ }).waitFor();
  await page.selectOption("[name=quantity-0]", "pressure");
  assert.equal(await page.inputValue("[name=unit-0]"), "inH2O", "the unit of the bay comes with the quantity");
  await page.fill("[name=low-0]", "20");
  await page.fill("[name=high-0]", "-20");
  await page.click("text=Save set-up");
  assert.match(await page.locator("#problem").innerText(), /from the lowest to the highest/);
  assert.equal(await page.inputValue("[name=low-0]"), "20", "what was typed stays");
  await page.fill("[name=low-0]", "-20");
  await page.fill("[name=high-0]", "20");
  await page.click("text=Save set-up");
  await shows(page, "0.00 inH2O");
  board.tell("charge", "10inH2O");
  board.tell("run", "30s");
  await shows(page, /[5-9]\.\d\d inH2O/);
  for (let status = 0; status !== 303;) { // what it read before it was charged is among its last readings for a while
    const answer = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/zero"));
    await page.click("text=Take gauge pressure as zero");
    status = (await answer).status();
    assert.ok(status === 303 || status === 422, `zero: ${status}`);
    if (status === 422) await page.locator("#problem", { hasText: "does not stand still yet" }).waitFor();
  }
  await shows(page, /^\s*[−]?0\.\d\d inH2O/);
  await page.locator("[data-facts]", { hasText: "taken off" }).waitFor();
  board.tell("other-unit");
  await shows(page, "look at its unit");
  board.tell("usual");
  await shows(page, /0\.\d\d inH2O/);
  assert.deepEqual(await lookOver(page, url), []);
});

test("a Modbus transmitter shows its register, and its list says range and state", async () => {
  const page = await shop.page();
  await add(page, "modbus", "transmitter", board.modbus);
  await page.selectOption("[name=quantity-0]", "pressure");
  await page.fill("[name=unit-0]", "Pa");
  await page.fill("[name=at-0]", "2");
  await page.selectOption("[name=type-0]", "f32");
  await page.fill("[name=low-0]", "-5000");
  await page.fill("[name=high-0]", "5000");
  await page.click("text=Save set-up");
  await shows(page, /inH2O/);
  await page.goto(shop.base + "/instruments");
  const row = page.locator("[data-device]", { hasText: "transmitter" });
  await row.locator("[data-facts]", { hasText: "gauge pressure −20.1 to 20.1 inH2O" }).waitFor();
  await page.locator('[data-device][data-state="on"]', { hasText: "transmitter" }).waitFor();
  board.close(); // pulled
  await page.locator('[data-device][data-state="lost"]', { hasText: "transmitter" }).waitFor();
});
