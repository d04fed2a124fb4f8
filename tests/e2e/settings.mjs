// Settings by hand, in a real browser, on a desk and on a phone: every control that the page offers is turned, and the
// picture looked at; a change of the device's address is tried, returns, and is kept where it can be reached.
// node settings.mjs PATH-OF-BAMBINO [CONTROLS.png [DEVICE.png [PHONE.png]]]
import { execFileSync, spawn } from 'node:child_process';
import assert from 'node:assert/strict';
import { createServer } from 'node:net';
import { mkdtempSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';

const flags = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
  '--disable-component-update', '--disable-sync'];
async function until(page, condition, argument, milliseconds = 10000) {
  for (const end = Date.now() + milliseconds; Date.now() < end; await page.waitForTimeout(50)) if (await page.evaluate(condition, argument)) return;
  throw new Error(`it never came true: ${condition} ${JSON.stringify(argument)}`);
}
const freePort = () => new Promise((resolve) => { const s = createServer().listen(0, '127.0.0.1', () => { const { port } = s.address(); s.close(() => resolve(port)); }); });

const command = process.argv[2], folder = mkdtempSync(join(tmpdir(), 'bambino-set-')), config = join(folder, 'railway.ini');
const port = await freePort(), other = await freePort(), password = 'a red locomotive', url = `http://127.0.0.1:${port}/`;
mkdirSync(join(folder, 'keep'));
writeFileSync(config, `[device]\nname = Valley railway\nstate = keep\n[http]\nlisten = 127.0.0.1:${port}\n[rtsp]\nlisten = 127.0.0.1:0
[camera yard]\nview = yard\n[feed yard]\ntitle = Sidings\nrate = 10\nsize = 320x240\n`);
execFileSync(command, ['users', config, 'add', 'stationmaster', '--may', 'administer'], { input: `${password}\n` });
const server = spawn(command, ['run', config], { stdio: ['ignore', 'pipe', 'ignore'] });
await new Promise((resolve) => { server.stdout.on('data', (data) => { if (`${data}`.includes('Ctrl-C')) resolve(); }); });

const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags });
// What the big picture looks like: its size, its mean colour, and the colour of its upper left quarter.
const look = (page) => page.evaluate(() => {
  const img = document.querySelector('#big'), canvas = Object.assign(document.createElement('canvas'), { width: 32, height: 32 }), c = canvas.getContext('2d');
  c.drawImage(img, 0, 0, 32, 32);
  const mean = (x, y, w, h) => { const d = c.getImageData(x, y, w, h).data, sum = [0, 0, 0]; d.forEach((v, i) => { if (i % 4 < 3) sum[i % 4] += v / (w * h); }); return sum; };
  return { width: img.naturalWidth, all: mean(0, 0, 32, 32), corner: mean(0, 0, 12, 12) };
});
const inForce = (page, key) => page.evaluate(async (k) => (await (await fetch('/settings')).json()).feed.yard[k], key);
const apart = (a, b) => Math.max(...a.all.map((v, i) => Math.abs(v - b.all[i])), ...a.corner.map((v, i) => Math.abs(v - b.corner[i])));
const SEEN = { brightness: 8, contrast: 4, saturation: 8, 'flip-v': 20, rotate: 20, night: 8 }; // how far apart it must be

async function turn(page, key) {
  const field = page.locator(`#controls [data-key="${key}"]`), input = field.locator('input,select').first(), kind = await input.evaluate((n) => n.type);
  await field.evaluate((n) => { n.closest('details').open = true; });
  if (key in SEEN) await page.waitForTimeout(400); // what was turned before is back
  const was = await inForce(page, key), before = await look(page);
  if (kind === 'checkbox') await input.click();
  else if (kind === 'select-one') await input.evaluate((n) => { n.selectedIndex = (n.selectedIndex + 1) % n.options.length; n.dispatchEvent(new Event('change')); });
  else if (kind === 'range') {
    await input.evaluate((n) => { for (let i = 1; i <= 20; i++) { n.value = Number(n.value) + (n.max - n.value) * 0.1; n.dispatchEvent(new Event('input')); } });
  } else { await input.fill('900'); await input.press('Tab'); }
  const said = async () => (kind === 'range' ? Number(await input.inputValue()) : null);
  for (const end = Date.now() + 6000; Date.now() < end; await page.waitForTimeout(50)) {
    const is = await inForce(page, key);
    if (is !== was && (kind !== 'range' || is === await said())) break; // what was dragged over comes first
  }
  const now = await inForce(page, key);
  assert.notEqual(now, was, `${key} is another`);
  if (key === 'size') await until(page, (s) => { const { naturalWidth: w, naturalHeight: h } = document.querySelector('#big'); return `${w}x${h}` === s; }, now);
  if (key in SEEN) for (const end = Date.now() + 4000; apart(before, await look(page)) < SEEN[key];) {
    assert.ok(Date.now() < end, `${key} = ${now} is seen`);
    await page.waitForTimeout(100);
  }
  await until(page, (k) => !document.querySelector(`#controls [data-key="${k}"] .back`).disabled, key);
  await page.locator(`#controls [data-key="${key}"] .back`).click(); // its preset is one step away
  await until(page, async ([k, w]) => { const v = (await (await fetch('/settings')).json()).feed.yard[k]; return v !== w; }, [key, now]);
}

async function signIn(page, address) {
  await page.goto(address);
  await page.waitForSelector('#entry:not([hidden])');
  await page.fill('#entry [name=name]', 'stationmaster');
  await page.fill('#entry [name=password]', password);
  await page.click('#entry button');
}

async function controls(page) {
  await until(page, () => document.querySelector('#big').naturalWidth > 0 && document.querySelectorAll('#controls .field').length > 10);
  const keys = await page.$$eval('#controls .field', (all) => all.filter((f) => f.querySelector('[type=range],[type=checkbox],select,[type=number]')).map((f) => f.dataset.key));
  const wanted = keys.filter((k) => !['quality-least', 'quality-most', 'codec', 'storage', 'open', 'paused', 'frame-max', 'reel'].includes(k) && !k.startsWith('multicast'));
  assert.ok(wanted.length >= 14, wanted.join());
  for (const key of wanted) await turn(page, key);
  return wanted;
}

try {
  const errors = [], desk = await browser.newContext({ viewport: { width: 1280, height: 800 } }), page = await desk.newPage();
  page.on('pageerror', (error) => errors.push(error));
  await signIn(page, `${url}#/feed/yard`);
  const turned = await controls(page);

  // Before and after, side by side.
  await page.click('#compare');
  await page.locator('#controls [data-key=saturation] input').evaluate((n) => { n.value = -100; n.dispatchEvent(new Event('input')); });
  await until(page, async () => (await (await fetch('/settings')).json()).feed.yard.saturation === -100);
  await page.waitForTimeout(600);
  assert.ok(await page.locator('#before img').isVisible());
  if (process.argv[3]) await page.screenshot({ path: process.argv[3] });
  await page.click('#compare');
  await page.locator('#controls [data-key=saturation] .back').click();
  await until(page, async () => (await (await fetch('/settings')).json()).feed.yard.saturation === 0);
  await page.waitForTimeout(500);
  // What cannot be is told, and what is in force is shown again.
  await page.evaluate(() => send('size', '17x17777'));
  await until(page, () => document.querySelector('#trouble').textContent.length > 10);
  // By the keyboard alone.
  await page.waitForTimeout(1500); // what is in force is shown again by then: the controls are new ones
  await page.locator('#controls [data-key=brightness] input').focus();
  await page.keyboard.press('ArrowRight');
  await until(page, async () => (await (await fetch('/settings')).json()).feed.yard.brightness !== 0);

  // The device: several settings, typed and then changed together.
  // The picture for the docs shows a made-up machine, not the one that takes it.
  if (process.argv[4]) await page.route('**/machine.json', (route) => route.fulfill({ json: {
    model: 'Halt 2', host: 'station', system: 'Linux aarch64', program: 'bambino 0.1.0', uptime_s: 18, system_uptime_s: 5900, processor_percent: 12, processors: 4,
    reserved_bytes: 8758064, spare_bytes: 8388608, memory_bytes: 1073741824, memory_free_bytes: 702545920, storage_bytes: 15931539456, storage_free_bytes: 11811160064, links: [{ name: 'wlan0' }], temperature_c: 47 } }));
  await page.goto(`${url}#/device`);
  await page.waitForSelector('#all-settings details');
  await page.waitForTimeout(500);
  if (process.argv[4]) await page.screenshot({ path: process.argv[4] });
  const section = page.locator('#all-settings > details').first();
  await section.locator('summary').click();
  await section.locator('[name=name]').fill('Hill railway');
  await section.locator('[name=name]').press('Tab');
  await section.locator('button:has-text("Change")').click();
  await until(page, () => document.querySelector('#name').textContent === 'Hill railway');
  await until(page, () => /changed over the configuration file/.test(document.querySelector('#changes-head').textContent));
  // A feed comes and goes.
  const adder = page.locator('#all-settings .adder').first();
  await adder.locator('[name=name]').fill('attic');
  await adder.locator('button').click();
  await until(page, async () => 'attic' in (await (await fetch('/settings')).json()).feed);
  page.on('dialog', (dialog) => dialog.accept());
  await page.locator('#all-settings details:has(> summary:text-is("attic")) > summary').click();
  await page.click('button[aria-label="Remove attic"]');
  await until(page, async () => !('attic' in (await (await fetch('/settings')).json()).feed));

  await page.waitForTimeout(1000); // the page reads the settings anew
  // Another address: tried, with a link to where it is to be kept.
  const http = page.locator('#all-settings > details:has(> summary:text-is("HTTP"))');
  await http.locator('summary').click();
  await http.locator('[name=listen]').fill(`127.0.0.1:${other}`);
  await http.locator('[name=listen]').press('Tab');
  await http.locator('button:has-text("Change")').click();
  await page.waitForTimeout(700);
  const there = await desk.newPage();
  await there.goto(`http://127.0.0.1:${other}/#/device`); // the same browser is signed in there, too
  await there.waitForSelector('#trial:not([hidden]) #trial-keep:not([hidden])');
  await there.click('#trial-keep');
  await until(there, async () => (await (await fetch('/settings/trial')).json()).trial === null);
  assert.equal(await there.evaluate(async () => (await (await fetch('/settings')).json()).http.listen), `127.0.0.1:${other}`);

  const phone = await browser.newContext({ viewport: { width: 390, height: 844 }, isMobile: true, hasTouch: true, colorScheme: 'dark' }), hand = await phone.newPage();
  hand.on('pageerror', (error) => errors.push(error));
  await signIn(hand, `http://127.0.0.1:${other}/#/feed/yard`);
  await until(hand, () => document.querySelector('#big').naturalWidth > 0 && document.querySelectorAll('#controls .field').length > 10);
  for (const key of ['flip-v', 'brightness', 'size']) await turn(hand, key);
  assert.ok(await hand.evaluate(() => document.documentElement.scrollWidth <= innerWidth), 'it is no wider than a phone');
  await hand.evaluate(() => scrollTo(0, 0));
  if (process.argv[5]) await hand.screenshot({ path: process.argv[5] });
  assert.deepEqual(errors, []);
  console.log(`${turned.length} controls turned: ${turned.join(' ')}`);
  console.log('1 passed, 0 failed');
} finally {
  await browser.close();
  const ended = new Promise((resolve) => { server.on('exit', resolve); });
  server.kill('SIGTERM');
  await ended; // it keeps something still
  rmSync(folder, { recursive: true });
}
