// The benches of the EVAP system, by instrument and by hand: make-up flow, smoke, and the car that
// draws itself down. The car's clock stands until it is told to run.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { arrive, axe, hold, lookOver, main, openCar, openShop, press, teller } from "./shop.mjs";

let shop, car;
before(async () => { shop = await openShop(); car = await openCar("demo/bay/SQ-102.yaml", "--speed", "0"); });
after(async () => {
  await car.close();
  assert.equal(await shop.close(), 0, "the program did not end cleanly");
  assert.deepEqual(shop.problems, [], "the browser's console");
});

const run = (seconds) => car.tell("@run", String(seconds));
const next = (page, words) => page.waitForSelector(`${main}:has-text('Start: ${words}')`);

// meet adds an instrument of a car, where the shop has not met it yet.
async function meet(page, name, kind, at = car.at) {
  await page.goto(shop.base + "/instruments");
  const address = at[name];
  if (await page.locator(`li:has-text('${address}')`).count()) return;
  await page.check(`input[name=kind][value=${kind}]`);
  await page.fill("#name", name);
  await page.fill("#address", address);
  await page.click("button:has-text('Add instrument')");
  await page.waitForSelector(`li:has-text('${address}')`);
}

// seated opens a test of the car live with one of its instruments, and what else is chosen by the name of a want.
async function seated(page, name, kind, test, of = "Tern", at = car.at, also = {}) {
  await meet(page, name, kind, at);
  const address = at[name];
  await page.goto(shop.base + await shop.car(page, of) + "/do/" + test);
  await arrive(page, () => page.click("button:has-text('Read it live')"));
  await page.waitForSelector("button:has-text('Begin')");
  for (const r of await page.locator(`label:has-text('${address}') input`).all()) await r.check();
  const pick = page.locator("select[name^=seat-]").first();
  const option = page.locator("select[name^=seat-]").first().locator("option").filter({ hasText: name }).last();
  if (await pick.count() && await option.count()) await pick.selectOption(await option.getAttribute("value"));
  for (const [want, words] of Object.entries(also)) {
    const select = page.locator(`select[name=seat-${want}]`);
    await select.selectOption(await select.locator("option").filter({ hasText: words }).last().getAttribute("value"));
  }
  await arrive(page, () => page.click("button:has-text('Begin')"));
  await page.waitForSelector(".lamp[data-state=on]");
  await page.waitForFunction(() => /\d/.test(document.querySelector("[data-inches]").textContent));
}

// These two first, since a rig that is joined to the car later seals it as a person would, and stays on it.
test("a draw-down commands the valves, shows how they stand, and stopping lets them go", async () => {
  const page = await shop.page();
  await seated(page, "scan adapter", "adapter", "draw-down");
  await next(page, "warm the engine up");
  await press(page, main);
  await run(5);
  await page.waitForSelector(`${main}:has-text('Done, go on')`);
  await press(page, main); // the sensor's zero follows by itself
  await next(page, "vent shut");
  await hold(page, main);
  await page.waitForSelector("[data-picture] svg[aria-label*='vent shut']");
  await run(2);
  await press(page, main);
  await page.waitForSelector("[data-picture] svg[aria-label*='vent at rest']");
  const open = async () => { await run(1); return JSON.parse(await car.tell("?")).open["vent-valve"]; };
  for (let n = 0; await open() < 0.9; n++) assert.ok(n < 100, "the vent stays shut");
  // The car's own leak check is offered here too: it shuts the vent by itself, with the engine off.
  await hold(page, "button[aria-label*='own leak check, forced']");
  await page.waitForSelector(".now:has-text('own leak check')");
  for (let n = 0; await open() > 0.1; n++) assert.ok(n < 100, "the car does not shut its vent");
  await page.waitForFunction(() => document.querySelector("[data-timer]").textContent >= "0:03"); // an adapter has no clock but this computer's
  await press(page, main);
  await page.waitForFunction(() => /Shut off by the car, the tank went from|Too little was read/.test(document.querySelector("[data-next]").textContent));
  for (let n = 0; await open() < 0.9; n++) assert.ok(n < 100, "the vent stays shut after the car's own check");
  assert.deepEqual(await axe(page), []);
});

test("a purge valve at idle: the pull on a gauge, the hose clamped and freed by one key, the cap off", async () => {
  const page = await shop.page();
  car.tell("@fault", "purge-valve", "0.5");
  await meet(page, "scan adapter", "adapter");
  await seated(page, "slant manometer", "module", "purge-running", "Tern", car.at, { "live-data": /^scan adapter$/ });
  await next(page, "pull on the open side");
  await press(page, main);
  await page.waitForSelector(`${main}:has-text('Stop')`);
  await run(25);
  await page.waitForSelector("[data-verdict]:has-text('Pulls')");
  await next(page, "hose clamped and freed");
  assert.match(await page.locator("[data-picture] svg").getAttribute("aria-label"), /it pulls/);
  const told = page.waitForResponse((r) => r.url().includes("/foretold?leg=phase-3"));
  await press(page, main);
  await page.waitForSelector("[data-tap=power]:has-text('Hose clamped')");
  const courses = await (await told).json(); // as it is asked for: free, clamped, free
  assert.equal(courses.at(-1).name, "nothing wrong");
  await run(25);
  await page.waitForSelector("[data-next]:has-text('Clamp the hose')");
  await page.keyboard.press("Space");
  await page.waitForSelector("[data-tap=power]:has-text('Hose freed')");
  await page.waitForSelector("[data-picture] svg[aria-label*='its hose is clamped']");
  await run(25);
  await page.waitForSelector("[data-next]:has-text('Free the hose')");
  await page.keyboard.press("e");
  await page.waitForSelector("[data-done]:not([hidden])");
  await press(page, "button.again[aria-label='make: Cap off at idle']");
  await page.waitForSelector("[data-tap=power]:has-text('Cap off')");
  await run(8);
  await page.waitForSelector("[data-next]:has-text('Take the cap off')");
  await page.keyboard.press("Space");
  await page.waitForSelector("[data-picture] svg[aria-label*='cap is off']");
  assert.deepEqual(await axe(page), []);
  await page.keyboard.press("e");
  await page.waitForSelector("[data-done]:not([hidden])");
  await arrive(page, () => page.keyboard.press("g"));
  assert.match(await page.inputValue("[name=read-pull-0]"), /\d/);
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Purge valve test at idle");
  car.tell("@mend", "purge-valve");
});

test("make-up flow: the rig plugged, its own orifice, then the car, which ends by itself; the picture has a bar for each", async () => {
  const page = await shop.page();
  await seated(page, "smoke rig", "module", "make-up-flow");
  await next(page, "rig plugged");
  await hold(page, main);
  await run(25);
  await next(page, "reference orifice");
  await hold(page, main);
  await run(5);
  await page.waitForSelector("[data-picture] svg[aria-label*='L/min into the rig']");
  await run(30);
  await next(page, "flow into the car");
  await hold(page, main);
  await run(250);
  await page.waitForSelector("[data-done]:not([hidden])");
  await page.waitForSelector("[data-verdict]:has-text(\"through the rig's own orifice\")");
  assert.equal(await page.locator("[data-picture] svg rect.p-scenelevel").count() > 0, true, "no bar for the car");
  assert.deepEqual(await axe(page), []);
  const bench = page.url();
  await arrive(page, () => page.keyboard.press("g"));
  assert.equal(await page.inputValue("#read-reference-0").then((v) => Number(v) > 0.3 && Number(v) < 0.7), true, "the orifice's flow did not come along");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Make-up flow test");
  await page.goto(bench);
  await arrive(page, () => page.click("button:has-text('let the instruments go')"));
});

test("smoke: a place counts only once smoke is there; exits are tapped, kept and come along to the result", async () => {
  const page = await shop.page();
  await seated(page, "smoke rig", "module", "smoke");
  await next(page, "smoke in, far end open");
  await hold(page, main);
  await run(3);
  await page.waitForSelector("[data-picture]:has-text('to go')");
  await page.waitForSelector("[data-picture]:has-text('Smoke is expected at the filler cap')");
  await page.selectOption("#part", "neck");
  await page.click("button:has-text('Looked, nothing')");
  await page.waitForSelector("[data-say]:has-text('not to be expected at the filler neck yet')");
  await run(150);
  await page.waitForFunction(() => document.querySelectorAll("[data-picture] .togo .there").length === 4);
  const marked = page.waitForResponse((r) => r.request().method() === "POST");
  await page.keyboard.press("Space"); // smoke at the far end
  await marked;
  await run(1);
  await next(page, "far end shut");
  await press(page, main);
  await run(60);
  await page.waitForSelector("[data-placeform]:not([hidden])");
  await page.selectOption("#part", "vapour-line");
  await page.setInputFiles("#photo", { name: "exit.png", mimeType: "image/png", buffer: Buffer.from("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==", "base64") });
  await page.click("button:has-text('stream')");
  await page.waitForSelector("[data-verdict]:has-text('stream at the vapour line')");
  await page.click("[data-picture] a[data-part=neck]", { force: true });
  assert.equal(await page.inputValue("#part"), "neck", "a tap on the picture does not choose the part");
  await page.click("button:has-text('Looked, nothing')");
  await page.waitForSelector("[data-picture] .m-looked");
  assert.deepEqual(await axe(page), []);
  await press(page, main);
  await page.waitForSelector("[data-done]:not([hidden])");
  await page.waitForSelector("[data-verdict]:has-text('An exit seen')");
  await arrive(page, () => page.click("[data-done]"));
  assert.equal(await page.inputValue("#read-exits-0"), "vapour-line");
  assert.equal(await page.inputValue("#read-looked-0"), "neck");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Smoke test, EVAP system. Vapour line, tank to canister: stream");
});

test("a valve on the bench rig: the rig plugged, five cycles whose power is told from here, a new one beside it on one plot", async () => {
  const page = await shop.page();
  await seated(page, "bench rig", "module", "valve-bench?on=purge-valve");
  await next(page, "rig plugged");
  await press(page, main);
  await run(5);
  await page.waitForSelector("[data-picture]:has-text('rig plugged')");
  await run(40);
  await next(page, "five cycles");
  await page.waitForSelector("[data-unit]:has-text('inHg')");
  const cycles = async (name) => {
    await run(11);
    for (let i = 0; i < 5; i++) {
      for (const [word, seconds] of [["Power off", 3], ["Power on", 11]]) {
        const told = page.waitForResponse((r) => r.request().method() === "POST");
        await page.keyboard.press("Space");
        assert.equal((await told).status(), 204);
        await page.waitForSelector(`button[data-tap=power]:has-text('${word}')`);
        await run(seconds);
      }
    }
    await page.waitForSelector("[data-next]:has-text('5 cycles are in')");
    await page.waitForSelector(`[data-picture] svg[aria-label*='${name}: holds']`);
    await page.keyboard.press("e");
  };
  await press(page, main);
  await page.waitForSelector("button[data-tap=click]:not([hidden])");
  await run(1);
  await page.click("button[data-tap=click]");
  await cycles("the part off the car");
  await page.waitForSelector("[data-verdict]:has-text('Seals and passes, every cycle')");
  // What a hand has switched is let go, and the new part is worked on the same rig.
  await press(page, "button[aria-label='make: A new one beside it']");
  await page.waitForSelector(`${main}:has-text('Done, go on')`);
  await cycles("a new one");
  await page.waitForSelector("[data-done]:not([hidden])");
  await page.waitForSelector("[data-verdict]:has-text('The new one beside it sealed')");
  assert.equal(await page.locator("[data-picture] polyline").count(), 2, "old and new are not on one plot");
  assert.deepEqual(await axe(page), []);
  const bench = page.url();
  await arrive(page, () => page.keyboard.press("g"));
  assert.equal(await page.inputValue("#read-supply-0"), "12.4");
  assert.equal(await page.inputValue("#read-rig-0"), "15");
  await arrive(page, () => page.keyboard.press("g"));
  await page.waitForSelector(".strip >> text=Valve bench test, five cycles");
  await page.goto(bench);
  await arrive(page, () => page.click("button:has-text('let the instruments go')"));
});

test("a sensor along with the hand pump, by its signal: points, a line, and the book's volts decide", async () => {
  const page = await shop.page();
  await seated(page, "bench rig", "module", "sensor-check?on=tank-sensor", "Tern", car.at, { "live-data": "none", volts: "the same" });
  await next(page, "along with the pump");
  await press(page, main);
  await page.waitForSelector(`${main}:has-text('Done, go on')`);
  await run(30);
  await page.waitForSelector("[data-next]:has-text('vacuum, with stops')");
  await run(40);
  await page.waitForSelector("[data-next]:has-text('that is enough')");
  await page.waitForSelector("[data-verdict]:has-text('Which volts does the book give')");
  await page.keyboard.press("Space");
  await page.waitForSelector("[data-done]:not([hidden])");
  await arrive(page, () => page.keyboard.press("g"));
  assert.match(await page.inputValue("#read-gauge-0"), /^-?10|^-9\.9/);
  await page.fill("[name=read-volts-zero-0]", "2,5");
  await page.fill("[name=read-volts-ten-0]", "3.93 V");
  await arrive(page, () => page.click("button:has-text('What do these readings say?')"));
  await page.waitForSelector(".verdictsays:has-text('Follows the pump')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /shows (1\.00|0\.99|1\.01) times/);
  await arrive(page, () => page.click("a:has-text('The bench')"));
  await arrive(page, () => page.click("button:has-text('let the instruments go')"));
});

test("a circuit by the meter: each reading asks for the one that tells most, until one finding is left", async () => {
  const page = await shop.page();
  await car.tell("@break", "purge-valve", "fuse-rubbed");
  await seated(page, "multimeter", "module", "circuit-walk?on=purge-valve");
  await next(page, "supply at its pin");
  const label = () => page.locator("[data-picture] svg").getAttribute("aria-label");
  assert.match(await label(), /red probe on the supply pin of the harness, black on the ground for the meter/);
  await press(page, main);
  for (const [name, says] of [["Supply at its pin", /Still at 0(\.\d+)? V: no supply\. A meter shows the same with its probes in the air/], ["Feed side of the fuse", /Still at 12\.\d V: there before the fuse/],
    ["Load side of the fuse", /nothing behind the fuse/], ["Supply wire to ground", /Still at 0\.\d+ ohm: it touches ground/]]) {
    await page.waitForSelector(`.legs .now:has-text('${name}')`);
    await run(3);
    await page.waitForFunction(() => /^Still at/.test(document.querySelector("[data-next]").textContent));
    assert.match(await page.textContent("[data-next]"), says);
    await press(page, main);
  }
  await page.waitForSelector("[data-verdict]:has-text('No supply'):has-text('the supply wire is rubbed to ground')");
  await page.waitForSelector("[data-picture] svg[aria-label*='found: fuse blown']");
  assert.deepEqual(await axe(page), []);
  // What no meter shows is written down with it.
  await arrive(page, () => page.click("[data-done]"));
  await page.fill("#read-fuse-name-0", "F12, under the bonnet");
  await page.fill("#read-fuse-size-0", "30");
  await page.fill("#read-rubbed-0", "left wheel arch, at the clip");
  await page.fill("#read-mended-0", "new wire in a sleeve");
  await page.click("button:has-text('What do these readings say?')");
  await page.waitForSelector(".verdictsays:has-text('Fuse: F12, under the bonnet, 30 A. That is more than the 10 to 20 A'):has-text('Rubbed: left wheel arch')");
  assert.deepEqual(await axe(page), []);
  await arrive(page, () => page.click("button:has-text('Save result')"));
  await page.waitForSelector(".strip >> text=Circuit walk");
});

test("a circuit by the meter: a part commanded from here, pins looked at, the wrong quantity", async () => {
  const page = await shop.page();
  await car.tell("@mend", "purge-valve");
  await car.tell("@break", "purge-valve", "wire", "1");
  await meet(page, "scan adapter", "adapter");
  teller(car.at.multimeter)("ask", "volts battery");
  await run(1);
  await seated(page, "multimeter", "module", "circuit-walk?on=purge-valve", "Tern", car.at, { "live-data": /^scan adapter$/ });
  const still = async (name) => {
    await page.waitForSelector(`.legs .now:has-text('${name}')`);
    await run(6);
    await page.waitForFunction(() => /^Still at/.test(document.querySelector("[data-next]").textContent));
  };
  await next(page, "supply at its pin");
  await press(page, main);
  await still("Supply at its pin");
  await press(page, main);
  await page.waitForSelector(".legs .now:has-text('Coil')");
  teller(car.at.multimeter)("ask", "volts battery"); // the hand turns it back to volts
  await run(3);
  await page.waitForSelector("[data-next]:has-text('turn it to ohms')");
  teller(car.at.multimeter)("ask", "probe purge-valve coil");
  await still("Coil");
  await press(page, main); // what commands the valve waits for a hand that means it
  await next(page, "duty at the control pin");
  await page.click(".legs li:has-text('Pins of the connector') button:has-text('make')"); // another in its place
  await run(1);
  await page.click("[data-tap=fit]");
  await page.waitForSelector("[data-next]:has-text('Noted')");
  await press(page, main);
  await next(page, "duty at the control pin");
  await hold(page, main);
  await still("Duty at the control pin");
  assert.match(await page.textContent("[data-next]"), /no command arrives/);
  await press(page, main);
  await still("Command wire, end to end"); // a meter's overload is a reading, and looks like probes in the air
  assert.match(await page.textContent("[data-next]"), /Still at OL: broken\. A meter shows the same with its probes in the air/);
  await press(page, main);
  await page.waitForSelector("[data-verdict]:has-text('Command wire broken'):has-text('end to end OL')");
  await arrive(page, () => page.click("button:has-text('let the instruments go')"));
  await car.tell("@mend", "purge-valve");
});

test("a vent unit ramped by hand: its windows, the order and the contact inch by inch", async () => {
  const other = await openCar("demo/bay/SQ-112.yaml", "--speed", "0");
  try {
    const page = await shop.page();
    await seated(page, "bench rig", "module", "eonv-manometer?on=vent-valve", "Fulmar", other.at);
    await next(page, "pressure, three times");
    await press(page, main);
    await page.waitForSelector(`${main}:has-text('Done, go on')`);
    other.tell("@run", "70");
    await page.waitForSelector("[data-next]:has-text('Seen 3 times')");
    await page.waitForSelector("[data-picture]:has-text('order')");
    await press(page, main); // and goes on with the vacuum
    await page.waitForSelector(".steps .now:has-text('Vacuum'), li.now:has-text('Vacuum')");
    other.tell("@run", "110");
    await page.waitForSelector("[data-next]:has-text('Seen 3 times')");
    await page.waitForSelector("[data-verdict]:has-text('All windows, right order')");
    await page.waitForFunction(() => [...document.querySelectorAll("[data-picture] text")].filter((t) => t.textContent === "✓").length === 4);
    await page.waitForSelector("[data-picture]:has-text('switch, V')");
    assert.deepEqual(await axe(page), []);
    await page.keyboard.press("e");
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.keyboard.press("g"));
    assert.match(await page.inputValue("#read-inch-2-0"), /^0\.[12]/);
    await arrive(page, () => page.keyboard.press("g"));
    await page.waitForSelector(".strip >> text=Vent unit on the manometer");
  } finally { await other.close(); }
});

test("the car's own pump: a meter on its switch counts the strokes, and each section wants a cold start", async () => {
  const other = await openCar("demo/bay/SQ-103.yaml", "--speed", "0");
  try {
    const page = await shop.page();
    await seated(page, "multimeter", "module", "pump-hand", "Packer", other.at);
    assert.match(await page.textContent(".caution"), /Stored: .*save and clear them/s);
    await next(page, "the whole system");
    const begun = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
    await press(page, main);
    await begun;
    other.tell("@run", "100");
    await page.waitForSelector("[data-verdict]:has-text('it never slows down')");
    await page.waitForSelector("[data-picture] svg[aria-label*='strokes of the pump']");
    await page.waitForSelector("[data-picture]:has-text('dashed, from the top: nothing wrong')");
    assert.deepEqual(await axe(page), []);
    await page.keyboard.press("e");
    await page.waitForSelector("[data-done]:not([hidden])");
    await page.waitForSelector("[data-next]:has-text('another cold start')");
    const again = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
    await press(page, "button.again[aria-label='make: The pump alone']");
    await again;
    await page.waitForSelector(`${main}:has-text('Stop')`);
    other.tell("@run", "100");
    await page.waitForSelector("[data-verdict]:has-text('with the pump alone')");
    await page.waitForSelector("[data-picture] svg[aria-label*='plugged behind the pump']");
    await page.keyboard.press("e");
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.keyboard.press("g"));
    assert.ok(await page.locator("[name=read-section-0][value=pump]").isChecked(), "the section is not in the form");
    await arrive(page, () => page.keyboard.press("g"));
    await page.waitForSelector(".strip >> text=Leak pump by hand");
  } finally { await other.close(); }
});

test("a night: read slowly with the page closed, on the Slate meanwhile, and over when the switch has changed", async () => {
  const other = await openCar("demo/bay/SQ-112.yaml", "--speed", "0");
  try {
    const page = await shop.page();
    await meet(page, "slant manometer", "module", other.at);
    await seated(page, "multimeter", "module", "soak-watch", "Fulmar", other.at, { pressure: /^slant manometer$/ });
    await next(page, "the night");
    const at = page.url();
    const begun = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
    await press(page, main);
    await begun;
    other.tell("@run", "30");
    await page.waitForSelector("[data-next]:has-text('Leave the car alone')");
    assert.ok(await page.locator("[data-rig]").isHidden(), "a car that is left alone could be charged");
    await page.goto(shop.base + "/"); // nobody looks at the bench
    await page.waitForSelector(".slate .car:has-text('Fulmar'):has-text('Leave the car alone')");
    await page.waitForSelector(".lane:has-text('Soak watch on the switch wire until')");
    assert.deepEqual(await lookOver(page, shop.base + "/"), []);
    for (let i = 0; i < 6; i++) other.tell("@run", "900");
    await page.goto(at);
    await page.waitForSelector("[data-verdict]:has-text('passed, a small leak is excluded')");
    await page.waitForSelector("[data-picture] svg[aria-label*='switch changed after']");
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.keyboard.press("g"));
    assert.match(await page.inputValue("#read-time-0"), /^\d/);
    await arrive(page, () => page.keyboard.press("g"));
    await page.waitForSelector(".strip >> text=Soak watch");
  } finally { await other.close(); }
});

test("an early car: its tank's relief on a slow ramp, and the signal vacuum that never comes off idle", async () => {
  const other = await openCar("demo/bay/SQ-113.yaml", "--speed", "0");
  try {
    const page = await shop.page();
    const at = { "bench rig 113": other.at["bench rig"], "vacuum gauge 113": other.at["hand vacuum pump"], "adapter 113": other.at["scan adapter"] };
    const through = async (press, seconds) => {
      const begun = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
      await press();
      await begun;
      await page.waitForSelector(`${main}:has-text('Stop'), ${main}:has-text('Done, go on')`);
      other.tell("@run", String(seconds));
    };
    await seated(page, "bench rig 113", "module", "valve-bench?on=tank-relief", "Yawl", at);
    await next(page, "rig plugged");
    await through(() => press(page, main), 40);
    await next(page, "slowly until it opens");
    await through(() => press(page, main), 120);
    await page.waitForSelector("[data-next]:has-text('Seen 3 times')");
    await page.waitForSelector("[data-verdict]:has-text('It opens at'):has-text('sound')");
    await press(page, main);
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.keyboard.press("g"));
    assert.match(await page.inputValue("#read-opens-2"), /^2[678]/);

    await meet(page, "adapter 113", "adapter", at);
    await seated(page, "vacuum gauge 113", "module", "valve-bench?on=tank-valve", "Yawl", at, { "live-data": /^adapter 113$/ });
    await through(() => press(page, "button.again[aria-label='make: Signal, throttle closed']"), 12);
    await page.waitForSelector("button.again[aria-label='make again: Signal, throttle closed']");
    await through(() => press(page, "button.again[aria-label='make: Signal, off idle']"), 12);
    await page.waitForSelector("button.again[aria-label='make again: Signal, off idle']");
    await page.waitForSelector("[data-verdict]:has-text('the thermal switch')");
    await page.waitForSelector("[data-picture] svg[aria-label*='inHg off idle']");
  } finally { await other.close(); }
});

test("a vent path: what the rig's own hose takes is taken off, and a shut filter shows", async () => {
  const other = await openCar("demo/bay/SQ-106.yaml", "--speed", "0");
  try {
    const page = await shop.page();
    await seated(page, "smoke rig", "module", "vent-path", "Sprat", other.at, { flow: "the same" });
    const through = async (name) => {
      const begun = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
      await next(page, name);
      await press(page, main);
      await begun;
      await page.waitForSelector(`${main}:has-text('Stop'), ${main}:has-text('Done, go on')`);
      other.tell("@run", "20");
    };
    await through("the rig");
    await through("air through the path");
    await page.waitForSelector("[data-verdict]:has-text('free')");
    assert.match(await page.locator("[data-picture] svg").getAttribute("aria-label"), /passes as an opening of/);
    assert.deepEqual(await axe(page), []);
    await page.keyboard.press("Space");
    await page.waitForSelector("[data-done]:not([hidden])");
    other.tell("@fault", "vent-filter", "1");
    const begun = page.waitForResponse((r) => r.request().method() === "POST" && r.url().endsWith("/live"));
    await press(page, "button.again[aria-label='make again: Air through the path']");
    await begun;
    await page.waitForSelector(`${main}:has-text('Done, go on')`);
    other.tell("@run", "20");
    await page.waitForSelector("[data-verdict]:has-text('Blocked')");
    await page.keyboard.press("Space");
    await page.waitForSelector("[data-done]:not([hidden])");
    await arrive(page, () => page.keyboard.press("g"));
    await page.check("[name=read-refuel-0][value=clicks]");
    await arrive(page, () => page.click("button:has-text('Save result')"));
    await page.waitForSelector(".strip >> text=Vent path flow");
  } finally { await other.close(); }
});

test("by hand: each bench says what typed readings come to, and draws them", async () => {
  const page = await shop.page();
  const url = shop.base + await shop.car(page, "Tern");
  const says = async (test, fields, words) => {
    await page.goto(`${url}/do/${test}`);
    for (const [name, value] of Object.entries(fields)) await page.fill(`[name="${name}"]`, value);
    return words;
  };
  const check = () => arrive(page, () => page.click("button:has-text('What do these readings say?')"));

  await says("draw-down", { "read-built-0": "8 inH2O", "read-left-0": "1 kPa", "read-level-0": "40" });
  await check();
  await page.waitForSelector(".verdictsays:has-text('from two readings')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /the tank/);
  await says("draw-down", { "read-built-0": "-8" }); // a pressure where a vacuum is meant
  await check();
  await page.waitForSelector("text=Check the sign and the sensor");

  await says("make-up-flow", { "read-flow-0": "2,5", "read-pressure-0": "10 inH2O", "read-reference-0": "0.5 L/min" });
  await check();
  await page.waitForSelector(".verdictsays:has-text('the hole is larger')");
  await page.waitForSelector(".scene svg[aria-label*='rig']");
  await says("make-up-flow", { "read-flow-0": "0.4", "read-pressure-0": "10 inHg", "read-reference-0": "0.5" }); // mercury for water
  await check();
  await page.waitForSelector("text=Check the unit");

  await says("smoke", { "read-minutes-0": "8", "read-rig-flow-0": "9", "read-level-0": "35" });
  await page.check("input[name=read-far-0][value=yes]");
  await page.check("input[name=read-exits-none]");
  await check();
  await page.waitForSelector(".verdictsays:has-text('smoke was seen at the far end')");
  assert.equal(await page.locator(".scene .togo .there").count(), 4, "smoke is not drawn where it is after eight minutes");
  assert.deepEqual(await lookOver(page, `${url}/do/smoke`), []);

  // Never sealed, where the new one does: that is the part, not the rig; a rig that leaks itself is asked about first.
  const cycles = async (key, word) => { for (let i = 0; i < 5; i++) await page.check(`input[name="read-${key}-${i}"][value=${word}]`); };
  await says("valve-bench?on=purge-valve", { "read-coil-0": "24.5 ohm", "read-coil-at-0": "68 °F" });
  await cycles("sealed", "no");
  await cycles("passed", "yes");
  await cycles("new-sealed", "yes");
  await cycles("new-passed", "yes");
  await check();
  await page.waitForSelector(".verdictsays:has-text('The new one beside it sealed 5 of 5')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /off the car: leaks.*a new one: holds/);
  await page.fill("[name=read-rig-0]", "6 inHg");
  await check();
  await page.waitForSelector("text=the rig itself keeps only");
  await page.fill("[name=read-rig-0]", "60 psi"); // no vacuum goes so far
  await check();
  await page.waitForSelector("text=Check the unit");

  // A sensor point by point: its line is judged, mercury for water is seen, and a step left out is asked for.
  const points = { "read-gauge-0": "-10", "read-gauge-1": "-5", "read-gauge-2": "0", "read-gauge-3": "5", "read-gauge-4": "2.49 kPa" };
  const shows = (f) => Object.fromEntries([-10, -5, 0, 5, 10].map((v, i) => [`read-shows-${i}`, String(f(v))]));
  await says("sensor-check?on=tank-sensor", { ...points, ...shows((v) => v + 1.5) });
  await check();
  await page.waitForSelector(".verdictsays:has-text('a false zero')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /1\.50 inH2O at zero/);
  await says("sensor-check?on=tank-sensor", { ...points, ...shows((v) => (v * 13.595) / 4) });
  for (const [i, v] of [-10, -5, 0, 5, 10].entries()) await page.fill(`[name=read-gauge-${i}]`, String(v / 4));
  await check();
  await page.waitForSelector("text=set to inches of mercury");
  await says("sensor-check?on=tank-sensor", { ...points, "read-shows-0": "-10", "read-shows-1": "0" });
  await check();
  await page.waitForSelector("text=Read both at each pressure");

  // Trims read each way three times have an interval, and become grams a second and a hole.
  const trims = Object.fromEntries([["free", [12, 11.2, 12.4]], ["clamped", [2.1, 2.4, 1.6]]].flatMap(([k, v]) => v.map((x, i) => [`read-${k}-${i}`, String(x)])));
  await says("purge-running", { ...trims, "read-air-0": "2,9", "read-manifold-0": "10 inHg" });
  await check();
  await page.waitForSelector(".verdictsays:has-text('air passes the valve')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /free against clamped: 9\.\d/);
  await says("purge-running", { "read-pull-0": "-6" }); // a pressure where a pull is meant
  await check();
  await page.waitForSelector("text=a manifold only pulls");
  await says("purge-running", { "read-free-0": "3", "read-clamped-0": "2" });
  await check();
  await page.waitForSelector("text=Air and vapour can cancel");

  // Water through the hose, with the time left out and put in; the nozzle that clicks off all the same.
  await says("vent-path", { "read-litres-0": "1" });
  await check();
  await page.waitForSelector("text=in how many seconds");
  await says("vent-path", { "read-litres-0": "1 L", "read-seconds-0": "9", "read-head-0": "12 in" });
  await page.check("[name=read-refuel-0][value=clicks]");
  await check();
  await page.waitForSelector(".verdictsays:has-text('fill-limit valve')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /passes as an opening of/);

  // A night by hand: a tank that cooled and holds nothing, one too warm to tell, and a switch that changed under pressure.
  const night = `${shop.base}${await shop.car(page, "Fulmar")}/do/soak-watch`;
  for (const [fields, words] of [[{ time: "no change", lowest: "-0.1", cooled: "6 K" }, ".verdictsays:has-text('cannot pass any more')"], [{ time: "no change", lowest: "0", cooled: "0,4" }, ".verdictsays:has-text('tells nothing')"],
    [{ time: "30", lowest: "0.8" }, "text=with the wrong sign"], [{ time: "no change", lowest: "-0.4", cooled: "3 F" }, "text=too little for a verdict"]]) {
    await page.goto(night);
    for (const [key, value] of Object.entries(fields)) await page.fill(`[name="read-${key}-0"]`, value);
    await check();
    await page.waitForSelector(words);
  }

  // Strokes that were felt: pauses that shrink were miscounted, a single stroke has no pause.
  const pump = `${shop.base}${await shop.car(page, "Packer")}/do/pump-hand`;
  for (const [fields, words] of [[{ strokes: "34", first: "0,8", pause: "5.2 s" }, ".verdictsays:has-text('it holds')"], [{ strokes: "20", first: "4", pause: "1" }, "text=strokes were missed"], [{ strokes: "2.5", pause: "1" }, "text=no whole number"]]) {
    await page.goto(pump);
    for (const [key, value] of Object.entries(fields)) await page.fill(`[name="read-${key}-0"]`, value);
    await check();
    await page.waitForSelector(words);
  }

  // Each section wants a night of its own, which goes on the calendar with what it costs.
  await page.goto(pump);
  await page.waitForSelector("form[aria-label='On the calendar']:has-text('worth about 120 min of work')");
  await arrive(page, () => page.click("button:has-text('Put it on the calendar')"));
  await page.waitForSelector("text=/Waits for soak until/");
  await page.goto(pump);
  await page.waitForSelector("form[aria-label='On the calendar']:has-text('It stands until')");

  // Who tests by the inch types the volts at each: the contact changes between 2 and 3 inches, which is late.
  await page.goto(`${shop.base}${await shop.car(page, "Fulmar")}/do/eonv-manometer?on=vent-valve`);
  const unit = { opens: "0.5", reseals: "0.4", vacuum: "4.2", "inch-0": "11.8", "inch-1": "11,8", "inch-2": "11.8", "inch-3": "0.2", "inch-4": "0.2 V" };
  for (const [key, value] of Object.entries(unit)) await page.fill(`[name="read-${key}-0"]`, value);
  await check();
  await page.waitForSelector(".verdictsays:has-text('The switch changes only at 2.5 inH2O'):has-text('On the car')");
  assert.match(await page.locator(".scene svg").getAttribute("aria-label"), /switch: not in its window/);
});

test("a circuit by hand: the next measurement is asked for, signs and commas are understood, nonsense is said", async () => {
  const page = await shop.page();
  const walk = `${shop.base}${await shop.car(page, "Tern")}/do/circuit-walk`;
  const put = async (key, value) => {
    await page.fill(`#read-${key}-0`, value);
    await arrive(page, () => page.keyboard.press("Enter"));
  };
  await page.goto(walk);
  await page.waitForSelector("text=Choose the part");
  await page.selectOption("#on", "purge-valve");
  await arrive(page, () => page.click("button:has-text('Next measurement')"));
  await page.waitForSelector(".walknow:has-text('Supply at its pin'):has-text('from 11 to 15.5 V')");
  assert.deepEqual(await axe(page), []);
  for (const [value, words] of [["OL", "is no figure"], ["99", "lies between"], ["twelve", "twelve"]]) {
    await put("supply", value);
    await page.waitForSelector(`#problem:has-text('${words}')`);
  }
  await put("supply", "10.7");
  await page.waitForSelector(".walkwhy:has-text('Charge the battery')");
  await put("supply", "−12,4 V"); // crossed leads
  await page.waitForSelector(".walknow:has-text('Coil')");
  assert.equal(await page.locator("text=not saved").count(), 0, "words that stand in their fields are offered again");
  await put("coil", "0L");
  await page.waitForSelector(".walkfound:has-text('Coil open')");
  await page.waitForSelector(".scene svg[aria-label*='found: coil open']");
  await arrive(page, () => page.click("button:has-text('What do these readings say?')"));
  await page.waitForSelector(".verdictsays:has-text('leads were crossed')");
  // Readings that cannot be together: the one to take again is named.
  await put("coil", "25");
  await page.click("summary:has-text('Measure another one instead')");
  await page.fill("#read-through-0", "0,3");
  await arrive(page, () => page.click("button:has-text('Next measurement')"));
  await page.waitForSelector(".walkwhy:has-text('These readings cannot all be')");
  // A sensor has another circuit, and so another tree.
  await page.goto(walk + "?on=tank-sensor");
  await page.waitForSelector(".walknow:has-text('Signal at its pin')");
  await put("signal", "0.05");
  await page.check("[name=read-pins-0][value=green]");
  await arrive(page, () => page.click("button:has-text('Next measurement')"));
  await page.waitForSelector(".walkfound:has-text('Pins of the connector')");
  await arrive(page, () => page.click("button:has-text('Save result')"));
  await page.waitForSelector(".strip >> text=Circuit walk");
});
