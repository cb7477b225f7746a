// Away and back: the program is gone for a while, a form is pressed twice, a page is left
// half typed, something was saved that should not have been, two people save one case.
import assert from "node:assert/strict";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, test } from "node:test";
import { arrive, browserPage, fillCase, openShop, serveShop } from "./shop.mjs";

let shop;
before(async () => { shop = await openShop(); });
after(async () => {
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

async function open(page, base, plate) {
  await page.goto(base + "/cases/new");
  await fillCase(page, { plate, make: "Quillane", model: "Teal", complaint: "lamp" });
  await page.click("text=Open the case");
  await page.waitForSelector(".strip >> text=Complaint");
  return page.url();
}
const note = async (page, words) => {
  if (!await page.locator("#words").isVisible()) await page.click("#note > summary");
  await page.fill("#words", words);
};
const notes = (page, words) => page.locator(".strip li", { hasText: words }).count();

test("a form that is sent while the program is gone goes out when it is back, and counts once", async () => {
  const dir = mkdtempSync(join(tmpdir(), "wexter-away-"));
  let own = await serveShop(join(dir, "shop.db"));
  try {
    const page = await browserPage(shop, {});
    const url = await open(page, own.base, "SQ 811 L");
    await note(page, "vent hose chafed at the bracket");
    own.kill();
    await page.waitForSelector("[data-away]:has-text('does not answer')"); // before anything is pressed
    await page.locator("#note button:has-text('Save')").dblclick();
    await page.waitForSelector("[data-away]:has-text('will be sent')");
    own = await serveShop(join(dir, "shop.db"), own.port);
    await page.waitForSelector(".notice:has-text('Saved: Note')");
    assert.equal(await page.locator("[data-away]").isVisible(), false);
    assert.equal(await notes(page, "vent hose chafed"), 1);
    // Reloaded, nothing is offered: it was saved.
    await page.goto(url);
    await page.waitForSelector(".strip >> text=vent hose chafed");
    assert.equal(await page.locator(".notice").count(), 0);
  } finally {
    own.kill();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("what was typed is offered again after a reload, once and only on its own form; sent twice it counts once", async () => {
  const page = await shop.page();
  const url = await open(page, shop.base, "SQ 812 L");
  await note(page, "smells at the left rear");
  await page.reload();
  await page.waitForSelector(".notice:has-text('smells at the left rear')");
  await page.click("text=Fill it in again");
  assert.equal(await page.inputValue("#words"), "smells at the left rear");
  const key = await page.inputValue("#note input[name=key]");
  await page.click("#note button:has-text('Save')");
  await page.waitForSelector(".notice:has-text('Saved: Note')");
  assert.equal(await notes(page, "smells at the left rear"), 1);
  // The same form once more, as a browser sends it that never heard the answer.
  await note(page, "smells at the left rear");
  await page.locator("#note input[name=key]").evaluate((i, k) => { i.value = k; }, key);
  await arrive(page, () => page.click("#note button:has-text('Save')")); // the notice of the first is still there
  await page.waitForSelector(".notice:has-text('Saved: Note')");
  assert.equal(await notes(page, "smells at the left rear"), 1, "it counted twice");
  await page.goto(url);
  assert.equal(await page.locator(".notice").count(), 0, "what was saved is offered");
  await note(page, "never mind");
  await page.reload();
  await page.click("text=Forget it");
  await page.reload();
  await page.waitForSelector(".strip");
  assert.equal(await page.locator(".notice").count(), 0, "what was dropped is offered");
});

test("a draft is let go after a day", async () => {
  const page = await shop.page();
  await open(page, shop.base, "SQ 813 L");
  await note(page, "yesterday's words");
  await page.evaluate(() => {
    for (const k of Object.keys(localStorage).filter((k) => k.startsWith("draft "))) localStorage.setItem(k, JSON.stringify({ ...JSON.parse(localStorage.getItem(k)), at: Date.now() - 25 * 3600_000 }));
  });
  await page.reload();
  await page.waitForSelector(".strip");
  assert.equal(await page.locator(".notice").count(), 0);
  assert.equal(await page.evaluate(() => Object.keys(localStorage).filter((k) => k.startsWith("draft ")).length), 0);
});

test("saved is undone by one press and put back by another; nothing is deleted", async () => {
  const page = await shop.page();
  await open(page, shop.base, "SQ 814 L");
  await note(page, "pump clicks off");
  await page.click("#note button:has-text('Save')");
  await page.click(".notice >> text=Undo");
  await page.waitForSelector(".notice:has-text('Struck out: Note')");
  await page.waitForSelector(".strip .struck:has-text('pump clicks off')");
  await page.click(".notice >> text=Put it back");
  await page.waitForSelector(".notice:has-text('Saved: Note')");
  assert.equal(await page.locator(".strip .struck").count(), 0);
});

test("what another screen changed is told, with its name, and what is being typed stays", async () => {
  const page = await shop.page(), other = await shop.page();
  const url = await open(page, shop.base, "SQ 815 L");
  await other.goto(url);
  await other.keyboard.press("?");
  await other.fill("[data-screen]", "bay 2");
  await other.click("dialog [data-close]");
  await note(page, "half a sent");
  await note(other, "cap replaced last week");
  await other.click("#note button:has-text('Save')");
  await other.waitForSelector(".notice:has-text('Saved: Note')");
  await page.waitForSelector(".notice:has-text('Changed meanwhile: Note (bay 2).')");
  assert.equal(await page.inputValue("#words"), "half a sent");
});
