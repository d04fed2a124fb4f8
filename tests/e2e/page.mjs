// The page in a real browser: it shows moving pictures, live figures and addresses to copy.
// node page.mjs PATH-OF-BAMBINO [PICTURE.png [PHONE.png]]
import { spawn } from 'node:child_process';
import assert from 'node:assert/strict';
import { chromium } from 'playwright-core';

const flags = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
  '--disable-component-update', '--disable-sync'];

// The browser's own way to wait builds code from text, which the page's policy forbids.
async function until(page, condition, milliseconds = 10000) {
  for (const end = Date.now() + milliseconds; Date.now() < end; await page.waitForTimeout(50)) if (await page.evaluate(condition)) return;
  throw new Error(`it never came true: ${condition}`);
}

function serve(command) {
  const process = spawn(command, ['demo', '--http', '127.0.0.1:0', '--rtsp', '127.0.0.1:0', '--tcp', '127.0.0.1:0', '--for', '60'], { stdio: ['ignore', 'pipe', 'ignore'] });
  return new Promise((resolve, reject) => {
    let text = '';
    process.on('exit', () => reject(new Error(`it ended: ${text}`)));
    process.stdout.on('data', (data) => {
      text += data;
      if (text.includes('Ctrl-C')) resolve({ process, url: text.match(/browser: (http:\S+)/)[1] });
    });
  });
}

// The picture as a canvas has it, in a number that changes with its contents.
const fingerprint = async (page, index) => {
  await until(page, () => [...document.querySelectorAll('article img')].every((img) => img.hidden || img.naturalWidth > 0)); // one that begins anew has no size yet
  return fingerprintNow(page, index);
};
const fingerprintNow = (page, index) => page.evaluate((i) => {
  const img = document.querySelectorAll('article img')[i];
  const canvas = Object.assign(document.createElement('canvas'), { width: img.naturalWidth, height: img.naturalHeight });
  const context = canvas.getContext('2d');
  context.drawImage(img, 0, 0);
  return context.getImageData(0, 0, canvas.width, canvas.height).data.reduce((sum, v, k) => (sum * 31 + v * (k % 7 + 1)) % 1e9, 7);
}, index);

async function shows(page, url) {
  const begin = Date.now();
  await page.goto(url);
  await until(page, () => document.querySelector('article img')?.naturalWidth > 0, 10000);
  console.log(`first picture after ${Date.now() - begin} ms`);
  const before = await fingerprint(page, 0);
  await page.waitForTimeout(2500);
  assert.notEqual(await fingerprint(page, 0), before, 'the picture moves');
  assert.equal(await page.title(), 'Valley railway');
  const yard = page.locator('article', { hasText: 'Sidings' });
  // Soon or late: a machine that stands still for a moment shows fewer.
  await until(page, () => {
    const card = [...document.querySelectorAll('article')].find((a) => a.textContent.includes('Sidings'));
    return Math.abs(parseFloat(card.querySelector('[data-figure=fps]').textContent) - 15) < 4;
  }, 20000);
  assert.equal(await page.locator('article').count(), 3, 'a preview has no card of its own');
  // Whoever does not look at a picture does not watch it.
  const viewers = () => page.evaluate(async () => (await (await fetch('/status.json')).json()).device.viewers);
  assert.equal(await viewers(), 3);
  await yard.hover();
  await yard.locator('.pause').click();
  await until(page, async () => (await (await fetch('/status.json')).json()).device.viewers === 2);
  await yard.locator('.pause').click();
  await until(page, async () => (await (await fetch('/status.json')).json()).device.viewers === 3);
  await page.selectOption('#every', '1');
  await until(page, async () => (await (await fetch('/status.json')).json()).device.viewers === 0);
  const first = await fingerprint(page, 1);
  await page.waitForTimeout(2500);
  assert.notEqual(await fingerprint(page, 1), first, 'stills follow each other');
  await page.selectOption('#every', 'live');
  await page.selectOption('#columns', '1');
  assert.ok(await page.evaluate(() => document.querySelector('article').offsetWidth > innerWidth * 0.9));
  await until(page, async () => (await (await fetch('/status.json')).json()).device.viewers <= 2, 5000); // the others are out of sight
  await page.selectOption('#columns', 'auto');

  await yard.locator('h2 a').click();
  await until(page, () => document.querySelector('#big').naturalWidth === 640);
  assert.ok(page.url().endsWith('#/feed/yard'), 'to be bookmarked');
  await until(page, () => /Nothing holds it back|camera delivers/.test(document.querySelector('#verdict').textContent));
  assert.equal(await page.locator('#plots figure').count(), 5);
  const links = await page.$$eval('#addresses a', (all) => all.map((a) => a.href));
  assert.ok(links.includes(`${url}yard.mjpeg`) && links.includes(`${url}yard.jpg`), links.join());
  assert.ok(links.some((link) => /^rtsp:\/\/127\.0\.0\.1:\d+\/yard$/.test(link)), links.join());
  await page.click('#addresses button');
  await until(page, () => document.querySelector('#addresses button').textContent === 'Copied');
  if (process.argv[5]) await page.screenshot({ path: process.argv[5] });
  await page.click('nav a:has-text("Device")');
  await page.waitForSelector('#facts dt');
  await until(page, async () => (await (await fetch('/status.json')).json()).device.viewers === 0); // the picture was left
  await page.keyboard.press('Escape');
  await page.click('nav a:has-text("Pictures")');
  await until(page, () => document.querySelectorAll('article img')[1]?.naturalWidth > 0);
}

const { process: server, url } = await serve(process.argv[2]);
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags });
try {
  const wide = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  const errors = [];
  wide.on('pageerror', (error) => errors.push(error));
  wide.on('request', (request) => { if (!request.url().startsWith(url)) errors.push(`outside: ${request.url()}`); });
  await shows(wide, url);
  if (process.argv[3]) await wide.waitForTimeout(2500);
  if (process.argv[3]) await wide.screenshot({ path: process.argv[3] });

  const phone = await browser.newPage({ viewport: { width: 390, height: 844 }, isMobile: true });
  await phone.goto(url);
  await phone.waitForSelector('article img');
  const overflow = await phone.evaluate(() => document.documentElement.scrollWidth - innerWidth);
  assert.ok(overflow <= 0, `the page is ${overflow} px too wide for a phone`);
  if (process.argv[4]) await phone.waitForTimeout(2500);
  if (process.argv[4]) await phone.screenshot({ path: process.argv[4] });
  await phone.close();

  server.removeAllListeners('exit');
  server.kill('SIGTERM');
  await wide.waitForSelector('header.lost', { timeout: 15000 }); // and says so when the device is gone
  assert.deepEqual(errors, []);
  console.log('1 passed, 0 failed');
} finally {
  await browser.close();
  server.removeAllListeners('exit');
  server.kill('SIGTERM');
}
