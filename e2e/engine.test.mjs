// Any test of the Book on a live bench: leg after leg, from under the car, by hand marks, and
// looked at again.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, axe, fillCase, lookOver, main, openShop, press, openStandin } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

async function openCase(page, plate) {
  await page.goto(shop.base + "/cases/new");
  await fillCase(page, { plate, make: "Quillane", model: "Teal", tank: "58", complaint: "oil mist" });
  await arrive(page, () => page.click("text=Open the case"));
  return page.url();
}

async function addModule(page, name, module) {
  await page.goto(shop.base + "/instruments");
  await page.fill("#name", name);
  await page.fill("#address", module.address);
  await page.click("button:has-text('Add instrument')");
  await page.waitForSelector(`li:has-text('${module.address}')`);
}

test("a manometer's test: the bay view follows and takes over, one key moves on, the result holds what was read, and it is looked at again", async () => {
  const module = await openStandin("module", "--volume", "33L", "--leak", "0.30mm", "--speed", "0");
  try {
    const page = await shop.page();
    await addModule(page, "manometer bay 1", module);
    const at = await openCase(page, "SQ 821 B");
    await page.goto(at + "/do/crankcase-manometer");
    await arrive(page, () => page.click("button:has-text('Read it live')"));
    await page.waitForSelector("h2:has-text('What reads it?')");
    assert.deepEqual(await axe(page), []);
    await page.reload();
    assert.ok(await page.locator(`label:has-text('${module.address}') input`).isChecked(), "the manometer is not chosen for the manometer's test");
    await arrive(page, () => page.click("button:has-text('Begin')"));
    await page.waitForSelector(`${main}:has-text('Start: warm')`);
    await page.waitForFunction(() => /\d/.test(document.querySelector("[data-inches]").textContent));
    assert.ok(await page.locator("[data-rig]").isHidden(), "a crankcase could be charged");
    await page.keyboard.press("Space");
    await page.waitForSelector(`${main}:has-text('Stop')`);

    // From under the car: it follows, and drives only after it was taken over.
    const bay = await shop.page({ viewport: { width: 1024, height: 600 } });
    await bay.goto(page.url().replace("/live", "/bay"));
    await bay.waitForSelector("[data-press]:has-text('Take over')");
    await bay.click("[data-voice]");
    module.tell("run", "12s");
    await bay.waitForFunction(() => /^0:1/.test(document.querySelector("[data-timer]").textContent));
    const wide = await bay.evaluate(() => { const r = document.querySelector("[data-big]").getBoundingClientRect(); return { w: r.width / innerWidth, h: r.height / innerHeight, over: document.documentElement.scrollWidth - innerWidth }; });
    assert.ok(wide.w > 0.4 && wide.w <= 1 && wide.h > 0.15 && wide.over <= 0, JSON.stringify(wide));
    assert.deepEqual(await axe(bay), []);
    module.tell("run", "20s");
    await bay.waitForSelector("[data-next]:has-text('2500 rpm')");
    await bay.waitForFunction(() => /2500 rpm/.test(document.body.dataset.spoken || ""), null);
    await bay.locator("body").press("PageDown"); // a presenter: the first press takes over
    await page.waitForSelector("[data-watching]:not([hidden])");
    await bay.waitForSelector("[data-press]:has-text('Start: 2500 rpm')");
    await page.keyboard.press("Space"); // who watches is refused
    await page.waitForSelector("[data-say]:has-text('drives this bench from another window')");
    await bay.locator("body").press("PageDown");
    await bay.waitForSelector("[data-press]:has-text('Stop and keep')");
    module.tell("run", "20s");
    await bay.waitForFunction(() => /^0:[12]/.test(document.querySelector("[data-timer]").textContent));
    await bay.locator("body").press("b"); // a foot switch that is knocked: a second press is asked for
    await bay.waitForSelector("[data-press]:has-text('press again')");
    assert.equal(await page.locator(`${main}:has-text('Stop')`).count(), 1, "one press stopped it");
    module.tell("run", "12s");
    await bay.waitForSelector("[data-press]:has-text('All is in')");
    await bay.waitForSelector("[data-verdict]:has-text('should be')");
    await bay.close();

    await page.waitForSelector("[data-done]:not([hidden])");
    await page.waitForSelector("[data-verdict]:has-text('Read so far')");
    await arrive(page, () => page.keyboard.press("g"));
    assert.match(await page.innerText("main"), /As it was read live .*manometer bay 1/);
    assert.match(await page.inputValue("[name=read-idle-0]"), /^-?\d/);
    assert.deepEqual(await axe(page), []);
    await page.goto(page.url()); // axe moved the buttons
    await arrive(page, () => page.click("text=Save result"));
    await page.waitForSelector(".strip:has-text('measured by')");
    await arrive(page, () => page.click(".strip a:has-text('leg 1')"));
    await page.waitForSelector("[data-trace] canvas");
    await page.selectOption("[data-speed]", "64");
    await page.click("[data-play]");
    await page.waitForFunction(() => document.querySelector("[data-place]").value === "1000");
    assert.match(await page.textContent("[data-big]"), /\d/);
    assert.deepEqual(await lookOver(page, page.url()), []);
  } finally { await module.close(); }
});

test("what is heard is marked by the space bar, without any instrument", async () => {
  const page = await shop.page();
  const at = await openCase(page, "SQ 822 B");
  await page.goto(at + "/do/valve-bench");
  await page.selectOption("#on", { index: 1 });
  await arrive(page, () => page.click("button:has-text('Read it live')"));
  for (const pick of await page.locator("select[name^=seat-]").all()) await pick.selectOption("");
  await arrive(page, () => page.click("button:has-text('Begin')"));
  await page.waitForSelector(`${main}:has-text('Start: five cycles')`); // without a gauge no rig is tried first
  await page.click(main);
  await page.waitForSelector("[data-tap]:not([hidden])");
  await page.waitForSelector("[data-next]:has-text('No gauge is read here')");
  await page.waitForFunction(() => document.querySelector("[data-disk]").textContent !== ""); // it reads
  for (let n = 1; n <= 3; n++) { // the button that was clicked last does not take the key
    const marked = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
    await page.keyboard.press("Space");
    assert.equal((await marked).status(), 204);
  }
  await press(page, "button[data-tap=click]");
  assert.equal(await page.locator("[data-tap]:not([hidden])").count(), 2, "a mark stopped the leg");
  await page.waitForSelector("[data-tap=power]:has-text('Power off')"); // on, off, on
  await page.keyboard.press("e");
  await page.waitForSelector("[data-done]:not([hidden])");
  await arrive(page, () => page.keyboard.press("g"));
  assert.ok(await page.locator("[name=read-click-0][value=yes]").isChecked(), "the click is not in the form");
});
