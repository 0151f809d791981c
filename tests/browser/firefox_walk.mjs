// The main path, once, in Firefox through WebDriver BiDi: `node tests/browser/firefox_walk.mjs ADDRESS FILE
// FIREFOX`.
// Prints what was seen as JSON; ends with status 1 and the reason where something did not come.
import puppeteer from "puppeteer-core";

const [address, file, firefox] = process.argv.slice(2);
const browser = await puppeteer.launch({
  browser: "firefox",
  executablePath: firefox,
  headless: true,
  args: ["--width=1280", "--height=800"],
});
const seen = { errors: [] };
try {
  const page = await browser.newPage();
  page.on("pageerror", (error) => seen.errors.push(String(error)));
  page.setDefaultTimeout(60000);
  await page.setViewport({ width: 1280, height: 800 });
  await page.goto(`${address}/`);
  const input = await page.$("[data-files]");
  await input.uploadFile(file);
  await page.waitForFunction(
    () =>
      window.combpace &&
      combpace.state.picture.takes.length &&
      combpace.state.picture.takes.every((take) => take.state === "ready"),
  );
  seen.station = await page.evaluate(() => combpace.state.station);
  seen.bars = await page.evaluate(() => combpace.state.picture.bars.length);
  seen.next = await page.$eval("#next", (box) => box.innerText);
  // The picture is drawn: not every pixel is the ground.
  seen.colours = await page.evaluate(() => {
    const canvas = document.querySelector("#canvas-box canvas"),
      data = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
    return new Set(Array.from({ length: 4000 }, (_, k) => data[4 * ((k * 97) % (data.length / 4))])).size;
  });
  // Without a sound device Firefox starts no AudioContext: whether it sounds is heard in Chromium alone. The
  // page says so and goes on.
  await page.click("#play");
  await page.waitForFunction(
    () =>
      document.querySelector("#play").getAttribute("aria-label") === "Stop" ||
      /could not be started/.test(document.querySelector(".side").innerText),
    { timeout: 15000 },
  );
  seen.sound = await page.evaluate(
    () =>
      new Promise((done) =>
        setTimeout(() => done(document.querySelector("#play").getAttribute("aria-label") === "Stop"), 500),
      ),
  );
  // A decision by a button, and taken back by keys.
  const before = await page.evaluate(() => combpace.state.picture.version);
  await page.click("[data-do=one-beat]");
  await page.waitForFunction((version) => combpace.state.picture.version > version, {}, before);
  await page.evaluate(() => combpace.idle());
  await page.keyboard.press("Escape");
  await page.keyboard.down("Control");
  await page.keyboard.press("z");
  await page.keyboard.up("Control");
  await page.waitForFunction((version) => combpace.state.picture.version > version + 1, {}, before);
  await page.evaluate(() => combpace.idle());
  // On to Fit, and out.
  await page.click("#next [data-do=steady]");
  await page.waitForFunction(() => combpace.state.station === "fit");
  await page.evaluate(() => combpace.idle());
  await page.click("#next .primary");
  await page.waitForFunction(() => combpace.state.station === "hand-off");
  await page.evaluate(() => combpace.idle());
  await page.click("#handoff .primary");
  await page.waitForSelector("table.files .archive a");
  seen.files = await page.$$eval("table.files a", (links) => links.map((link) => link.innerText.trim()));
} catch (error) {
  seen.failed = String(error);
} finally {
  await browser.close();
}
console.log(JSON.stringify(seen));
process.exit(seen.failed ? 1 : 0);
