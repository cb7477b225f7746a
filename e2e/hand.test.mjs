// The screens in the hand: on a small laptop, a tablet and a telephone every target can be
// met with a glove, nothing runs off the side, and what is pressed first is in sight.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { axe, openShop } from "./shop.mjs";

const sizes = [{ width: 1280, height: 800 }, { width: 820, height: 1180 }, { width: 390, height: 844 }];
const target = 44;

let shop, pages;
before(async () => {
  shop = await openShop();
  const page = await shop.page();
  const tern = await shop.car(page, "Hathmere Tern"), marl = await shop.car(page, "Quillane Marl");
  await page.goto(shop.base + tern);
  const bench = await page.locator("a[href^='/tests/']:not([href*='?'])").first().getAttribute("href");
  pages = ["/", "/cases/new", tern, tern + "/map?part=vapour-line", bench, bench + "/live", tern + "/do/smoke", tern + "/scan",
    tern + "/found", tern + "/repair", marl + "/proof", "/book", "/book/test/smoke", "/record", "/instruments", "/ways"];
  for (const kind of ["lines", "modbus"]) { // set up by hand, whether they answer or not
    await page.goto(shop.base + "/instruments");
    await page.check(`input[value=${kind}]`);
    await page.fill("#address", kind === "lines" ? "127.0.0.1:4298" : "127.0.0.1:4399");
    await page.click("text=Add instrument");
    await page.waitForURL(/instruments\/./);
    pages.push(new URL(page.url()).pathname);
  }
  await page.context().close();
});
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const unfold = (page) => page.evaluate(() => document.querySelectorAll("details").forEach((d) => { d.open = true; }));

// inHand measures a page as it stands: targets that are too small or that another covers,
// what runs off the side, and whether the first action is in sight. What reaches beyond a
// drawing (the room around a part of the Map) is measured with its stroke.
function inHand(target) {
  const out = [];
  const over = document.documentElement.scrollWidth - document.documentElement.clientWidth;
  if (over > 0) out.push(`${over} px run off the side`);
  const name = (e) => `${e.tagName.toLowerCase()} "${(e.innerText || e.getAttribute("aria-label") || e.name || "").trim().slice(0, 40)}"`;
  const reach = (e) => {
    const hit = e.querySelector(":scope > .m-hit");
    if (hit) {
      const r = hit.getBoundingClientRect(), stroke = parseFloat(getComputedStyle(hit).strokeWidth);
      return { width: Math.max(r.width, hit.tagName === "rect" ? r.width + stroke : stroke), height: Math.max(r.height, hit.tagName === "rect" ? r.height + stroke : stroke) };
    }
    return ((e.matches("[type=checkbox],[type=radio]") && e.closest("label")) || e).getBoundingClientRect();
  };
  for (const e of document.querySelectorAll("a[href], button, summary, input:not([type=hidden]), select, textarea")) {
    if (!e.checkVisibility() || e.closest(".sr-only")) continue;
    const r = reach(e);
    if (Math.min(r.width, r.height) < target - 0.5) out.push(`${name(e)} is ${r.width.toFixed(0)} × ${r.height.toFixed(0)}`);
  }
  for (const e of document.querySelectorAll(".btn")) if (e.checkVisibility() && e.scrollWidth > e.clientWidth + 1) out.push(`the words of ${name(e)} do not fit`);
  const bar = document.querySelector("main > .actions"), first = bar && bar.querySelector(".btn");
  if (!first) return [...out, "no action bar"];
  const r = first.getBoundingClientRect();
  if (r.top < 0 || r.bottom > innerHeight || !first.contains(document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2))) out.push(`the first action, ${name(first)}, is out of sight`);
  if (bar.getBoundingClientRect().height > innerHeight / 5) out.push("the action bar takes more than a fifth of the screen");
  return out;
}

test("on three screens every target is at least 44 px, nothing runs off the side and the first action is in sight", async () => {
  const page = await shop.page();
  const found = [];
  for (const path of pages) {
    await page.goto(shop.base + path);
    await unfold(page);
    for (const size of sizes) {
      await page.setViewportSize(size);
      found.push(...(await page.evaluate(inHand, target)).map((f) => `${path} at ${size.width}: ${f}`));
    }
  }
  assert.deepEqual(found, []);
});

test("axe-core finds nothing on a telephone, by day and by night", async () => {
  const page = await shop.page({ viewport: sizes[2] });
  const found = [];
  for (const path of pages) {
    for (const colorScheme of ["light", "dark"]) {
      await page.emulateMedia({ colorScheme });
      await page.goto(shop.base + path);
      found.push(...(await axe(page)).map((f) => `${path}, ${colorScheme}: ${f}`));
    }
  }
  assert.deepEqual(found, []);
});

// A link that reaches beyond its words must not lie over its neighbour: the middle of every
// link is its own.
test("the middle of every link and button is its own", async () => {
  const page = await shop.page();
  const found = [];
  for (const path of pages) {
    await page.goto(shop.base + path);
    await unfold(page);
    for (const size of sizes.slice(0, 2)) {
      await page.setViewportSize(size);
      found.push(...(await page.evaluate(() => [...document.querySelectorAll("main > :not(.actions) :is(a[href], button)")].flatMap((e) => {
        if (!e.checkVisibility() || e.closest("svg, .sr-only")) return [];
        e.scrollIntoView({ block: "center" });
        const r = e.getClientRects()[0];
        const at = document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2);
        return !at || e.contains(at) || e.closest("label, summary, .actions") ? [] : [`"${e.innerText.trim().slice(0, 40)}" is covered by ${at.tagName.toLowerCase()} "${(at.innerText || "").trim().slice(0, 40)}"`];
      }))).map((f) => `${path} at ${size.width}: ${f}`));
    }
  }
  assert.deepEqual(found, []);
});

test("the Map comes closer by keys and buttons, its words never under 12 px; the Strip is a drawer on a tablet", async () => {
  const page = await shop.page();
  const tern = await shop.car(page, "Hathmere Tern");
  await page.goto(shop.base + tern);
  const word = () => page.evaluate(() => { const t = document.querySelector("svg.map .m-word"); return parseFloat(getComputedStyle(t).fontSize) * t.ownerSVGElement.getScreenCTM().a; });
  for (const size of sizes) {
    await page.setViewportSize(size);
    assert.ok(await word() >= 12, `words of ${await word()} px at ${size.width}`);
  }
  await page.setViewportSize(sizes[1]);
  const before = await word();
  await page.keyboard.press("+");
  assert.ok(await word() > before * 1.3, "+ does not bring the Map closer");
  const view = page.locator("[data-mapview]");
  await view.focus();
  await page.keyboard.press("ArrowRight");
  await page.waitForFunction(() => document.querySelector("[data-mapview]").scrollLeft > 0);
  await page.click("[data-zoom=out]");
  await page.keyboard.press("0");
  assert.ok(Math.abs(await word() - before) < 0.1, "0 does not show all of it");
  assert.ok(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth), "a close Map runs off the side");

  const strip = page.locator("#strip");
  assert.equal(await strip.isVisible(), false, "the Strip lies open on a tablet");
  await page.click(".actions >> text=Strip");
  await strip.waitFor({ state: "visible" });
  assert.match(await strip.innerText(), /Looked, nothing found/);
  await page.keyboard.press("Escape");
  await strip.waitFor({ state: "hidden" });
  await page.setViewportSize(sizes[0]);
  assert.ok(await strip.isVisible(), "the Strip is not beside the case where there is room");
});

test("a set-up that is drawn wider than its window begins at its marks", async () => {
  const page = await shop.page({ viewport: sizes[1] });
  await page.goto(shop.base + pages.find((p) => p.endsWith("/do/smoke")));
  const drawings = await page.locator(".setupview").evaluateAll((views) => views.map((v) => {
    const box = v.getBoundingClientRect();
    return { wider: v.scrollWidth - v.clientWidth, out: [...v.querySelectorAll(".m-tool, .m-call")].map((m) => m.getBoundingClientRect()).filter((r) => r.left < box.left || r.right > box.right).length };
  }));
  assert.ok(drawings.some((d) => d.wider > 0), "no drawing is wider than its window here");
  assert.deepEqual(drawings.map((d) => d.out), drawings.map(() => 0), "marks out of sight");
});

test("a room explains itself once; the question mark tells keys and words", async () => {
  const page = await shop.page();
  const tern = await shop.car(page, "Hathmere Tern");
  await page.goto(shop.base + tern);
  assert.match(await page.locator(".meet:visible").first().innerText(), /^Next: The test to do now/);
  await page.click("text=Got it");
  assert.equal(await page.locator(".meet:visible").count(), 0);
  await page.reload();
  assert.equal(await page.locator(".meet:visible").count(), 0);
  await page.goto(shop.base + "/record");
  assert.match(await page.locator(".meet:visible").innerText(), /^Record: The finished cases/);
  await page.keyboard.press("?");
  const help = await page.locator("dialog[open]").innerText();
  for (const word of ["Strip", "Proof", "the main action of the page"]) assert.ok(help.includes(word), `${word} is not explained`);
});

test("on glass a quantity offers a minus and its units, and the hint follows", async () => {
  const page = await shop.page({ viewport: sizes[1], hasTouch: true, isMobile: true });
  await page.goto(shop.base + "/book/coil");
  const field = page.locator("input[data-kind=temperature]").first();
  await field.fill("10");
  await field.focus();
  const pad = page.locator(".pad:visible");
  await pad.waitFor();
  for (const b of await pad.locator("button").all()) {
    const box = await b.boundingBox();
    assert.ok(box.width >= target && box.height >= target, `a key of ${box.width} × ${box.height}`);
  }
  await pad.locator("button", { hasText: "±" }).tap();
  assert.equal(await field.inputValue(), "-10");
  await pad.locator("button", { hasText: "°F" }).tap();
  assert.equal(await field.inputValue(), "-10 °F");
  await page.waitForFunction(() => /−23\.3|-23\.3/.test(document.querySelector(".field:focus-within .beside").textContent));
  await pad.locator("button", { hasText: "±" }).tap();
  assert.equal(await field.inputValue(), "10 °F");
  assert.equal(await field.evaluate((e) => e === document.activeElement), true, "the field lost the focus");
});

test("with a part singled out the bar still fits every screen", async () => {
  const page = await shop.page();
  await page.goto(shop.base + "/cases/new");
  for (const [f, v] of [["plate", "SQ 961 H"], ["make", "Quillane"], ["model", "Stint"], ["codes", "P0442"]]) await page.fill("#" + f, v);
  await page.click("text=Open the case");
  await page.waitForSelector("[data-next]");
  await page.locator("svg.map a.part[data-part=canister]").click();
  await page.click("text=Flag the exit");
  await page.waitForSelector(".actions >> text=Mark as found");
  const found = [];
  for (const size of sizes) {
    await page.setViewportSize(size);
    found.push(...(await page.evaluate(inHand, target)).map((f) => `at ${size.width}: ${f}`));
  }
  assert.deepEqual(found, []);
});
