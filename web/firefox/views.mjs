// Walks through a site in Firefox, over WebDriver BiDi, and prints what it saw as JSON:
// node views.mjs SITE FIREFOX. The pages record their views by themselves.
import process from "node:process";
import puppeteer from "puppeteer-core";

const [site, executablePath] = process.argv.slice(2);
const browser = await puppeteer.launch({ browser: "firefox", executablePath, headless: true });
const said = [];
try {
  const page = await browser.newPage();
  const hear = (words) => {
    if (!words.includes("/favicon.ico")) said.push(words); // a picture for the tab is Firefox's own wish
  };
  page.on("pageerror", (error) => hear(String(error)));
  page.on("console", (message) => {
    if (message.type() === "error") hear(message.text());
  });
  const greets = () => page.waitForFunction(() => document.querySelector("#city").textContent === "Lisbon");
  await page.goto(`${site}/programme`);
  await greets();
  await page.evaluate(() => history.pushState({}, "", "/map"));
  await page.evaluate(() => history.pushState({}, "", "/map"));
  await page.evaluate(() => history.replaceState({}, "", "/other"));
  await page.evaluate(() => {
    location.hash = "results";
  });
  await page.evaluate(() => history.go(-3));
  await page.waitForFunction(() => location.pathname === "/programme");
  await page.goto(`${site}/second`);
  await greets();
  await page.evaluate(() => {
    setTimeout(() => history.back()); // a page that is restored does not load, which goBack would wait for
  });
  await page.waitForFunction(() => location.pathname === "/programme" && window.restored !== undefined);
  const restored = await page.evaluate(() => window.restored);
  const price = await page.evaluate(() => typeof porch.price);
  process.stdout.write(JSON.stringify({ restored, price, said, version: await browser.version() }));
} finally {
  await browser.close();
}
