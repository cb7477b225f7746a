// A drive that is read for its fuel trims: from a log that is dropped, from figures that are typed,
// and live from the adapter, with a browser that is closed meanwhile.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { after, before, test } from "node:test";
import { arrive, axe, lookOver, openCar, openShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

test("a drive of the demo: what cannot be told apart, a suspect dashed, written down by a key", async () => {
  const page = await shop.page();
  await page.goto(shop.base + await shop.car(page, "Siskin"));
  await arrive(page, () => page.click(".strip a:has-text('Fuel trims at three points')"));
  const right = page.locator("aside.right");
  assert.match(await right.innerText(), /This log cannot tell apart: leak between air meter and throttle; air meter reads wrong/i);
  assert.match(await right.innerText(), /Smoke between meter and throttle/);
  assert.equal(await page.locator("svg .p-best").count(), 1);
  assert.ok(await page.locator("svg .p-cut").count() > 0, "nothing is shown as cut");
  await page.selectOption("#suspect", { label: "Air meter dirty" });
  await arrive(page, () => page.click("button:has-text('Draw')"));
  assert.equal(await page.locator("svg .p-ghost").count(), 1);
  const at = page.url();
  assert.deepEqual(await lookOver(page, at), []);
  await page.goto(at);
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector("text=What it did to the odds");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=the same everywhere");
});

test("a log that is dropped on the case is read; one of another car is told", async () => {
  const page = await shop.page();
  const url = shop.base + await shop.car(page, "Linnet");
  const drop = (name) => page.evaluate(([name, text]) => {
    const data = new DataTransfer();
    data.items.add(new File([text], name, { type: "text/csv" }));
    for (const kind of ["dragover", "drop"]) document.body.dispatchEvent(new DragEvent(kind, { dataTransfer: data, bubbles: true, cancelable: true }));
  }, [name, readFileSync(`demo/drives/${name}`, "utf8")]);
  await page.goto(url);
  await arrive(page, () => drop("SQ-110.csv"));
  await page.waitForSelector("text=the trims hardly move");
  assert.match(await page.locator(".causes .first").innerText(), /behind the throttle/i);
  await page.goto(url);
  await arrive(page, () => drop("SQ-111.csv"));
  await page.waitForSelector("text=is it the log of another car?");
});

test("short and long are typed by keyboard alone", async () => {
  const page = await shop.page();
  await page.goto(shop.base + await shop.car(page, "Siskin") + "/do/trims");
  await page.locator("summary:has-text('or type short and long')").press("Enter");
  await page.focus("input[name=short-idle]");
  for (const [i, v] of ["2", "19", "", "", "1", "6", "", "", "0", "1.5", "", ""].entries()) {
    if (i) await page.keyboard.press("Tab");
    await page.keyboard.type(v);
  }
  assert.deepEqual(await axe(page), []);
  await arrive(page, () => page.keyboard.press("Enter"));
  assert.match(page.url(), /\/tests\/[^/]+\/drive$/);
  assert.match(await page.locator(".causes .first").innerText(), /behind the throttle/i);
});

test("a drive that is read live goes on without the browser, marks where the engine runs, and says why nothing counts yet", async () => {
  const car = await openCar("demo/bay/SQ-111.yaml");
  try {
    let page = await shop.page();
    await page.goto(shop.base + "/instruments");
    await page.check("input[value=adapter]");
    await page.fill("#name", "adapter of the Siskin");
    await page.fill("#address", car.at["scan adapter"]);
    await page.click("button:has-text('Add instrument')");
    await page.waitForSelector(`li:has-text('${car.at["scan adapter"]}')`);
    await page.goto(shop.base + await shop.car(page, "Siskin") + "/do/trims");
    await arrive(page, () => page.click("button:has-text('Read it live')"));
    await page.click(`label:has-text('${car.at["scan adapter"]}')`);
    await arrive(page, () => page.click("button:has-text('Begin')"));
    car.tell("@drive", "idle");
    await page.waitForSelector("[data-main]:has-text('Start')");
    await page.waitForFunction(() => /\d/.test(document.querySelector("[data-inches]").textContent));
    await page.keyboard.press("Space");
    await page.waitForSelector("[data-next]:has-text('Not warm yet')");
    const bench = page.url();
    await page.context().close();
    page = await shop.page();
    await page.goto(bench);
    await page.waitForSelector("[data-next]:has-text('Still missing: idle')");
    await page.waitForSelector("[data-trace][aria-label*='marked: idle']");
    await page.click("[data-over]"); // it was begun in the window that is closed
    await page.waitForSelector("[data-watching]", { state: "hidden" });
    await page.click("[data-main]:has-text('Done, go on')");
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.click("[data-done]"));
    await page.waitForSelector("text=trims count from 70 °C on");
    assert.deepEqual(await axe(page), []);
  } finally {
    await car.close();
  }
});
