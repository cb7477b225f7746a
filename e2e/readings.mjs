// What instruments showed on a simulated car, typed and tapped into the page of a test.
import { execFile } from "node:child_process";
import { promisify } from "node:util";
import { arrive } from "./shop.mjs";

const run = promisify(execFile);

// technician does a test of the Book on a simulated car and reads its instruments out.
export async function technician(car, test, part = "") {
  const said = await run("bin/wexter", ["standin", "tell", car.at.technician, "ask", "try", test, ...(part ? [part] : [])], { maxBuffer: 1 << 20 });
  return JSON.parse(said.stdout);
}

const csv = (log, leg) => ({ name: leg ? "hold.csv" : "drift.csv", mimeType: "text/csv",
  buffer: Buffer.from("time_s,pressure_Pa,temp (K)\n" + log.filter((r) => r[0] === leg).map((r) => `${r[1]},${r[2]},${r[3]}`).join("\n") + "\n") });

// holdOn uploads the legs of a hold on its bench and goes back to the case.
export async function holdOn(page, done) {
  await page.waitForURL("**/tests/*");
  if (!(await page.locator("#tolerance").isVisible())) await page.click("summary:has-text('Volume')");
  for (const box of await page.locator("input[name=sealed]").all()) await box.check();
  await page.fill("#level", "40");
  await page.fill("#tolerance", "15");
  await arrive(page, () => page.press("#tolerance", "Enter"));
  if (done.readings.some((r) => r.key === "up" && r.said[0] === "no")) {
    await page.click("form[action$=cannot] button");
    await page.waitForSelector(".verdict:has-text('Will not build pressure')");
  } else {
    for (const [leg, kind] of [[0, "drift"], [1, "hold"]]) {
      await page.check(`input[name=kind][value=${kind}]`);
      await page.setInputFiles("#csv", csv(done.log, leg));
      await arrive(page, () => page.click("button:has-text('Keep the leg')"));
    }
    await page.waitForSelector(".reading");
  }
  await arrive(page, () => page.locator("a:has-text('Back to the case'), a:has-text('To the proof')").first().click());
}

// fillReadings puts readings into the fields of the page: [{key, said, places}].
export async function fillReadings(page, readings) {
  for (const r of readings) {
    const box = page.locator(`#f-${r.key}`);
    if (!(await box.count())) continue;
    if (await page.locator(`select#read-${r.key}-0`).count()) {
      const places = (r.places || []).slice(0, await page.locator(`#f-${r.key} select[id$="0"], #f-${r.key} select[id$="1"], #f-${r.key} select[id$="2"], #f-${r.key} select[id$="3"]`).count());
      for (const [i, p] of places.entries()) {
        await page.selectOption(`#read-${r.key}-${i}`, p.part);
        if (p.size) await page.selectOption(`#read-${r.key}-${i}-size`, p.size);
        if (p.expected) await page.check(`input[name="read-${r.key}-${i}-expected"]`);
      }
      if (!places.length && (await page.locator(`input[name="read-${r.key}-none"]`).count())) await page.check(`input[name="read-${r.key}-none"]`);
      continue;
    }
    for (const [i, v] of (r.said || []).entries()) {
      const radio = page.locator(`input[type=radio][name="read-${r.key}-${i}"][value="${v}"]`);
      if (await radio.count()) await radio.check();
      else await page.fill(`#read-${r.key}-${i}`, v);
    }
  }
}
