// The intake: few taps and few letters, chips that typed words suggest, what is not known yet,
// a refusal that leads to its field, a case before the car is there, the kit asked once.
import assert from "node:assert/strict";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, test } from "node:test";
import { axe, browserPage, openShop, serveShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

// hand counts what a person does: taps (a list opened and chosen counts two) and letters.
function hand(page) {
  const h = { taps: 0, letters: 0 };
  h.tap = async (selector) => { h.taps++; await page.click(selector); };
  h.type = async (selector, words) => {
    if (!await page.locator(selector).evaluate((e) => e === document.activeElement)) h.taps++;
    h.letters += words.length;
    await page.locator(selector).pressSequentially(words);
  };
  return h;
}

test("a car seen before: at most 6 taps and 25 letters", async () => {
  const page = await shop.page();
  await page.goto(shop.base);
  const h = hand(page);
  await h.tap("text=New case");
  await page.waitForURL("**/cases/new");
  await h.type("#plate", "SQ 114 K");
  await h.tap("label.chip:has-text('Pump nozzle clicks off')");
  await page.waitForSelector("text=Hathmere Tern is known here");
  assert.equal(await page.inputValue("#model"), "Tern");
  await h.tap("button.code:has-text('P0446')");
  await h.tap("text=Open the case");
  await page.waitForSelector("[data-next]");
  assert.ok(h.taps <= 6 && h.letters <= 25, `${h.taps} taps, ${h.letters} letters`);
  assert.match(await page.innerText(".strip"), /Pump nozzle clicks off every few seconds/);
});

test("a new car: at most 10 taps and 60 letters, with nothing known of its build; words suggest chips and press none", async () => {
  const page = await shop.page();
  await page.goto(shop.base);
  const h = hand(page);
  await h.tap("text=New case");
  await page.waitForURL("**/cases/new");
  await h.type("#plate", "SQ 931 W");
  await h.type("#make", "Ostrel");
  await h.type("#model", "Knot");
  await h.type("#complaint", "pump clicks off, no smell");
  await page.waitForSelector("[data-offers] >> text=Pump nozzle clicks off");
  assert.equal(await page.locator("[data-offers] >> text=Smell of fuel").count(), 0, "what is denied is offered");
  assert.equal(await page.locator("input[name=seen]:checked").count(), 0, "a chip was pressed by the words alone");
  await h.tap("[data-offers] >> text=Pump nozzle clicks off");
  assert.equal(await page.locator("input[name=seen]:checked").count(), 1);
  await h.tap("button.code:has-text('P0446')");
  await h.tap("text=Open the case");
  await page.waitForSelector("[data-next]");
  assert.ok(h.taps <= 10 && h.letters <= 60, `${h.taps} taps, ${h.letters} letters`);
  assert.match(await page.innerText(".rest"), /is not known: \d+ % of the odds/);
  // Doable with this kit, and what is at hand stands beside it.
  assert.match(await page.innerText("[data-next]"), /With: all kit of the Book/);
});

test("a refusal leads to its field and keeps every chip pressed", async () => {
  const page = await shop.page();
  await page.goto(shop.base + "/cases/new");
  for (const [f, v] of [["plate", "SQ 932 W"], ["make", "Ostrel"], ["model", "Knot"], ["recent_work", "new filler cap"]]) await page.fill("#" + f, v);
  await page.click("label.chip:has-text('Rough or hunting idle')");
  await page.click("[data-offers] >> text=Filler cap: replaced");
  await page.click("#build > summary");
  await page.fill("#tank", "50 furlong");
  await page.click("text=Open the case");
  await page.waitForSelector("#problem:has-text('not a unit of volume')");
  assert.equal(await page.evaluate(() => document.activeElement.id), "tank");
  assert.equal(await page.getAttribute("#tank", "aria-invalid"), "true");
  assert.ok(await page.isVisible("#tank"), "the field is folded away");
  const pressed = await page.locator("input[name=seen]:checked").evaluateAll((l) => l.map((i) => i.value));
  assert.deepEqual(pressed.toSorted(), ["renewed cap", "sign rough-idle"]);
  assert.deepEqual(await axe(page), []);
  await page.fill("#tank", "50 L");
  await page.click("text=Open the case");
  await page.waitForSelector("[data-case]");
  assert.match(await page.innerText(".strip"), /Rough or hunting idle/);
});

test("before the car is there only its owner's part is offered; then it arrives", async () => {
  const page = await shop.page();
  await page.goto(shop.base + "/cases/new");
  for (const [f, v] of [["plate", "SQ 933 W"], ["make", "Ostrel"], ["model", "Knot"]]) await page.fill("#" + f, v);
  await page.click("label:has-text('The car is not here yet')");
  await page.click("label.chip:has-text('Smell of fuel')");
  await page.click("text=Open the case");
  await page.waitForSelector("text=The car is not here yet");
  const left = await page.innerText(".casegrid > .left");
  assert.match(left, /Its owner may do this at home/);
  assert.match(left, /do not start or drive it/);
  assert.equal(await page.locator("[data-next]").count(), 0, "a test is proposed for a car that is not there");
  assert.deepEqual(await axe(page), []);
  await page.click("text=The car is here");
  await page.waitForSelector("text=Read the car first");
});

test("a new shop asks once what the bay has, and the hunt goes by it; without a reader it begins with the symptoms", async () => {
  const dir = mkdtempSync(join(tmpdir(), "wexter-first-"));
  const own = await serveShop(join(dir, "shop.db"));
  try {
    const page = await browserPage(shop, {});
    await page.goto(own.base);
    assert.deepEqual(await axe(page), []);
    for (const k of ["hand-pump", "meter"]) await page.locator(`label.chip:has(input[value=${k}])`).click();
    await page.click("text=Save kit");
    await page.waitForSelector(".notice");
    assert.equal(await page.locator("text=What does this bay have?").count(), 0, "it is asked again");
    await page.click("text=New case");
    for (const [f, v] of [["plate", "A 1"], ["make", "Ostrel"], ["model", "Knot"]]) await page.fill("#" + f, v);
    assert.match(await page.innerText("#new"), /Kit of this bay: eyes, hand pump, multimeter/);
    await page.click("label.chip:has-text('Pump nozzle clicks off')");
    await page.click("text=Open the case");
    const next = await page.innerText("[data-next]");
    assert.match(next, /With: eyes, hand pump, multimeter/);
    assert.match(next, /With .* you could do/, "what an instrument would unlock is not said");
    assert.equal(await page.locator("text=This bay lacks").count(), 0, "the first proposal is not doable here");
  } finally {
    own.kill();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("an empty shop explains itself and opens a demo car, whose instruments answer again after a restart", async () => {
  const dir = mkdtempSync(join(tmpdir(), "wexter-demo-car-"));
  const db = join(dir, "shop.db");
  let own = await serveShop(db);
  try {
    const page = await browserPage(shop, {});
    await page.goto(own.base);
    assert.equal(await page.locator("main ol > li").count(), 3, "three lines");
    await page.click("text=Try it on a demo car");
    await page.waitForSelector(".casehead >> text=Hathmere Tern");
    const at = page.url();
    const number = (await page.innerText(".casehead h1")).split(" ")[0];
    // Its instruments are listed as soon as the car has been driven to where it stands.
    const listed = async () => {
      while (await page.locator("main", { hasText: `pressure module ${number}` }).count() === 0) await page.goto(`${own.base}/instruments`);
    };
    await listed();
    // As soon as it has said what it measures a bench is offered with it, without another look.
    await page.waitForSelector(`[aria-label='Start a bench with pressure module ${number}']`);
    await page.goto(`${at}/scan`);
    await page.click(`text=scan adapter ${number}`);
    await page.click("button:has-text('Read the car')");
    await page.waitForSelector("main >> text=P0456");
    await own.kill();
    own = await serveShop(db, own.port);
    await page.goto(own.base);
    assert.match(await page.innerText("h1"), /1 car/);
    await listed();
    assert.equal(await page.locator("main li", { hasText: `pressure module ${number}` }).count(), 1, "the old address is still listed");
  } finally {
    await own.kill();
    rmSync(dir, { recursive: true, force: true });
  }
});
