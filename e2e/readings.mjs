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
      await arrive(page, () => page.click("button:has-text('Save leg')"));
    }
    await page.waitForSelector(".reading");
  }
  await arrive(page, () => page.locator(".actions a.btn.main").first().click());
}

// fields are those of a test's page that readings [{key, said, places}] go into, each with
// what goes there. The page has not all of them.
function fields(readings) {
  return readings.flatMap(({ key, said, places }) => {
    const at = (i) => `read-${key}-${i}`;
    if (places?.length) return places.flatMap((p, i) => [[at(i), p.part], [at(i) + "-size", p.size], [at(i) + "-expected", p.expected]].filter(([, v]) => v));
    return said?.length ? said.map((v, i) => [at(i), v]) : [[`read-${key}-none`, "1"]];
  });
}

// fillReadings types and taps readings into the page, as a hand would.
export async function fillReadings(page, readings) {
  await page.evaluate(() => document.querySelectorAll("#do details").forEach((d) => { d.open = true; }));
  for (const [name, value] of fields(readings)) {
    const field = page.locator(`[name="${name}"]`);
    switch (await field.evaluateAll(([f]) => f?.type)) {
      case undefined: break;
      case "radio": await page.check(`[name="${name}"][value="${value}"]`); break;
      case "checkbox": await field.check(); break;
      case "select-one": await field.selectOption(value); break;
      default: await field.fill(value);
    }
  }
}

// sendReadings puts readings into the form of a test's page and sends it; it returns the
// address that the program answers with.
export const sendReadings = (page, url, readings) => sendForm(page, url, "#do", fields(readings));

// sendForm fetches a page, puts what goes into the fields of one of its forms and sends that,
// all without drawing it; it returns the address that the program answers with.
export function sendForm(page, url, which, pairs) {
  return page.evaluate(async ([address, which, pairs]) => {
    const page = new DOMParser().parseFromString(await (await fetch(address)).text(), "text/html");
    const form = page.querySelector(which);
    for (const [name, value] of pairs) {
      for (const f of [...form.elements].filter((f) => f.name === name)) {
        if (f.type === "radio" || f.type === "checkbox") f.checked = f.value === value || f.type === "checkbox";
        else f.value = value;
      }
    }
    const to = new URL(form.getAttribute("action") || address, address);
    const r = await fetch(to, { method: "POST", body: form.enctype.startsWith("multipart") ? new FormData(form) : new URLSearchParams(new FormData(form)) });
    if (!r.ok) throw new Error(`${to.pathname} answers ${r.status}`);
    return r.url;
  }, [url, which, pairs]);
}

// seen reads an attribute off all elements of a kind, or off what is first within each, on a
// page that is not drawn.
export function seen(page, url, selector, attribute, within = "") {
  return page.evaluate(async ([address, selector, attribute, within]) => {
    const page = new DOMParser().parseFromString(await (await fetch(address)).text(), "text/html");
    return [...page.querySelectorAll(selector)].map((e) => (within ? e.querySelector(within) : e)?.getAttribute(attribute));
  }, [url, selector, attribute, within]);
}
