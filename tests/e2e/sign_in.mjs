// Signing in at the page in a real browser: wrong, right, lending, ending, signing out; and pages of others.
// SECURE=1: over HTTPS. node sign_in.mjs PATH-OF-BAMBINO [PICTURE.png [ENTRY.png]]
import { execFileSync, spawn } from 'node:child_process';
import assert from 'node:assert/strict';
import { createServer } from 'node:http';
import { mkdtempSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';

if (process.env.SECURE) process.env.NODE_TLS_REJECT_UNAUTHORIZED = '0'; // its certificate is its own

const flags = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
  '--disable-component-update', '--disable-sync'];

// The browser's own way to wait builds code from text, which the page's policy forbids.
async function until(page, condition, milliseconds = 10000) {
  for (const end = Date.now() + milliseconds; Date.now() < end; await page.waitForTimeout(50)) if (await page.evaluate(condition)) return;
  throw new Error(`it never came true: ${condition}`);
}
const command = process.argv[2], folder = mkdtempSync(join(tmpdir(), 'bambino-sign-'));
const config = join(folder, 'railway.ini'), password = 'a red locomotive';
mkdirSync(join(folder, 'keep'));
writeFileSync(config, `[device]\nname = Valley railway\nstate = keep\n[http]\n${process.env.SECURE ? 'secure' : 'listen'} = 127.0.0.1:0\n[rtsp]\nlisten = 127.0.0.1:0
[camera yard]\nview = yard\n[feed yard]\ntitle = Sidings\nrate = 10\nsize = 320x240\n[camera loco]\nview = cab\n[feed loco]\ntitle = Driver's cab\nrate = 10\nsize = 320x240\n`);
const users = (args, input) => execFileSync(command, ['users', config, ...args], { input, encoding: 'utf8' });
users(['add', 'stationmaster', '--may', 'administer'], password + '\n');
users(['add', 'guest', '--feeds', 'loco'], 'a green signal\n');

const server = spawn(command, ['run', config], { stdio: ['ignore', 'pipe', 'ignore'] });
let printed;
const url = await new Promise((resolve, reject) => {
  let text = '';
  server.on('exit', () => reject(new Error(`it ended: ${text}`)));
  server.stdout.on('data', (data) => {
    text += data;
    printed = text;
    if (text.includes('Ctrl-C')) resolve(text.match(/browser: (https?:\S+)/)[1]);
  });
});
// A page of somebody else's, at another origin.
const other = createServer((request, response) => response.end('<!doctype html><title>other</title>')).listen(0, '127.0.0.1');
await new Promise((resolve) => other.once('listening', resolve));

const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags });
const fill = async (page, name, word) => {
  await page.fill('[name=name]', name);
  await page.fill('[name=password]', word);
  await page.click('#entry button');
};
try {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ignoreHTTPSErrors: true });
  const page = await context.newPage();
  const seen = [], errors = [];
  page.on('pageerror', (error) => errors.push(error));
  page.on('request', (request) => seen.push(request.url() + JSON.stringify(request.headers()) + (request.postData() ?? '')));
  await page.goto(url);
  await page.waitForSelector('#entry:not([hidden])');
  assert.equal(await page.locator('article').count(), 0, 'nothing is seen before');
  if (process.argv[4]) await page.screenshot({ path: process.argv[4] });
  await fill(page, 'stationmaster', 'a red locomotiv');
  await until(page, () => document.querySelector('.trouble').textContent.includes('do not belong together'));
  await fill(page, 'stationmaster', password);
  await until(page, () => document.querySelector('article img')?.naturalWidth > 0, 10000);
  assert.match(await page.textContent('#who'), /stationmaster, may administer/);
  assert.ok(!seen.some((text) => text.includes('locomotiv')), 'no password crosses the network');
  await page.goto(`${url}#/device`);
  await page.waitForSelector('#inside tbody tr');
  const player = new AbortController();
  const watched = fetch(`${url}yard.mjpeg`, { signal: player.signal, headers: { Cookie: (await context.cookies()).map((c) => `${c.name}=${c.value}`).join('; ') } }).catch(() => null);
  await page.waitForSelector('#watching tbody tr');
  assert.match(await page.textContent('#watching tbody'), /127\.0\.0\.1:\d+/);
  await watched;
  player.abort();
  if (process.env.SECURE) {
    assert.match(await page.textContent('#fingerprint'), /SHA-256: ([0-9A-F]{2}:){31}[0-9A-F]{2}$/);
    assert.ok(printed.includes((await page.textContent('#fingerprint')).slice(-95)), 'the one that was printed');
    assert.ok((await context.cookies()).every((cookie) => cookie.secure && cookie.httpOnly && cookie.sameSite === 'Strict'));
  }

  // What happened: himself, and who watches.
  await until(page, () => /stationmaster signed in/.test(document.querySelector('#happened ol').textContent));
  assert.match(await page.textContent('#happened ol'), /Sidings: 127\.0\.0\.1 watches, 1 now/);

  // Lent: another browser, which is nobody, sees this one feed and no other.
  await page.goto(`${url}#/feed/yard`);
  await page.click('#lend summary');
  await page.click('#lend form button');
  await page.waitForSelector('#lend .addresses a');
  if (process.env.SECURE) assert.ok((await page.$$eval('#addresses a', (all) => all.map((a) => a.href))).some((href) => href.startsWith('https:')));
  if (process.argv[3]) await page.screenshot({ path: process.argv[3] });
  const links = await page.$$eval('#lend .addresses a', (all) => all.map((a) => a.href));
  const still = links.find((link) => link.endsWith('yard.jpg'));
  assert.equal((await fetch(still)).status, 200);
  assert.equal((await fetch(still.replace('yard', 'loco'))).status, 401, 'it is for this feed');
  await page.click('text=Call it back');
  await until(page, () => !document.querySelector('#lend .addresses a'));
  assert.equal((await fetch(still)).status, 401, 'and called back');

  // Pages of others can neither read nor change anything, though the browser is signed in.
  const foreign = await context.newPage();
  await foreign.goto(`http://127.0.0.1:${other.address().port}/`);
  const tried = await foreign.evaluate(async (base) => {
    const outcome = async (path, init) => { try { return (await fetch(base + path, init)).status; } catch { return 'refused'; } };
    const image = await new Promise((done) => {
      const img = document.body.appendChild(new Image());
      img.onload = () => done('shown');
      img.onerror = () => done('refused');
      img.src = `${base}yard.jpg`;
    });
    return [await outcome('status.json', { credentials: 'include' }), await outcome('lend/yard/60', { method: 'POST', credentials: 'include', mode: 'no-cors' }), image];
  }, url);
  assert.deepEqual([tried[0], tried[2]], ['refused', 'refused']);
  assert.equal((await page.evaluate(async () => (await (await fetch('/status.json')).json()).sign_ins.length)), 1);
  await foreign.close();

  // A guest sees what is his, and cannot end others.
  const visit = await browser.newContext({ ignoreHTTPSErrors: true });
  const guest = await visit.newPage();
  await guest.goto(url);
  await guest.waitForSelector('#entry:not([hidden])');
  await fill(guest, 'guest', 'a green signal');
  await guest.waitForSelector('article');
  assert.deepEqual(await guest.$$eval('article h2', (all) => all.map((h) => h.textContent).filter((t) => /cab|Sidings/.test(t))), ["Driver's cab"]);
  assert.equal(await guest.evaluate(async () => (await fetch('/end-sign-in/0', { method: 'POST' })).status), 403);
  assert.ok(!(await guest.evaluate(async () => (await fetch('/status.json')).text())).includes('"peer"'), 'no addresses of others');
  await until(guest, () => document.querySelectorAll('#happened li').length > 0);
  assert.ok(!/signed in|Sidings|127/.test(await guest.textContent('#happened ol')), 'what happens to others is not his');

  await page.goto(`${url}#/device`);
  // The administrator ends the guest's sign-in; the guest's page asks again.
  await until(page, () => document.querySelectorAll('#inside tbody tr').length === 2, 8000);
  await page.click('#inside tr:has-text("guest") button');
  await guest.waitForSelector('#entry:not([hidden])', { timeout: 10000 });
  await page.click('#out');
  await page.waitForSelector('#entry:not([hidden])', { timeout: 10000 });
  assert.equal(await page.locator('article').count(), 0);
  assert.equal(await page.locator('#happened li').count(), 0, 'nothing stays to be read');
  assert.deepEqual(errors, []);
  console.log('1 passed, 0 failed');
} finally {
  await browser.close();
  other.close();
  server.removeAllListeners('exit');
  server.kill('SIGTERM');
  rmSync(folder, { recursive: true });
}
