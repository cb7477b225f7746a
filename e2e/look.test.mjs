// Every page looked over: for who cannot see well, by day and by night, narrow and wide.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { lookOver, openShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

test("axe-core finds nothing by day and by night, and nothing runs off the side", async () => {
  const page = await shop.page();
  const tern = await shop.car(page, "Hathmere Tern"), marl = await shop.car(page, "Quillane Marl"), sprat = await shop.car(page, "Quillane Sprat");
  await page.goto(shop.base + tern);
  const bench = await page.locator(".mid a.btn").first().getAttribute("href");
  const found = [];
  for (const path of ["/", "/cases/new", "/record", "/instruments", "/book", "/book/trim", "/book?q=drain", tern, bench, bench + "/live", tern + "/scan", tern + "/found", tern + "/repair", tern + "/edit", tern + "/values", marl + "/proof", marl + "/report", sprat, "/cases/none"]) {
    found.push(...await lookOver(page, shop.base + path));
  }
  assert.deepEqual(found, []);
});

test("axe-core finds nothing on Map and Book, by day and by night; labels are at least 14 px and nothing runs off the side", async () => {
  const page = await shop.page();
  const tern = await shop.car(page, "Hathmere Tern"), marl = await shop.car(page, "Quillane Marl");
  await page.goto(shop.base + tern);
  const bench = await page.locator("a[href^='/tests/']:not([href*='?'])").first().getAttribute("href");
  const labels = async (width) => {
    const size = await page.evaluate(() => { const t = document.querySelector("svg.map .m-word"); return t && parseFloat(getComputedStyle(t).fontSize) * t.ownerSVGElement.getScreenCTM().a; });
    return size === null || size >= 14 ? [] : [`labels are ${size} px at ${width}`];
  };
  const found = [];
  for (const path of [tern + "?part=vapour-line", tern + "/map?part=purge-valve", marl, marl + "/map", bench + "/map?part=vapour-line", "/book/test/smoke", "/book?q=vent"]) {
    found.push(...await lookOver(page, shop.base + path, labels));
  }
  assert.deepEqual(found, []);
  // What is drawn keeps to the room that was found for it, in the font that ships.
  await page.goto(shop.base + marl + "/map");
  await page.evaluate(() => document.fonts.ready);
  const clash = await page.evaluate(() => {
    const boxes = [...document.querySelectorAll("svg.map .m-word")].map((t) => [t.textContent, t.getBoundingClientRect()]);
    const out = [];
    boxes.forEach(([a, r], i) => boxes.slice(0, i).forEach(([b, q]) => { if (r.left < q.right && q.left < r.right && r.top + 3 < q.bottom && q.top + 3 < r.bottom) out.push(`${a} / ${b}`); }));
    return out;
  });
  assert.deepEqual(clash, []);
});
