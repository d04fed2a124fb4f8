'use strict';
// Shows every feed live with its figures. Everything it knows comes from /status.json, once a second.

const STREAMS_MOST = 4; // a browser opens six connections to one host; two stay free for figures and stills
const cards = new Map();
let me = { role: 'none' };
const el = (id) => document.getElementById(id);
let failures = 0;

const seconds = (s) => s >= 86400 ? `${Math.floor(s / 86400)} d ${Math.floor(s % 86400 / 3600)} h`
  : s >= 3600 ? `${Math.floor(s / 3600)} h ${Math.floor(s % 3600 / 60)} min`
  : s >= 60 ? `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s` : `${Math.floor(s)} s`;
const kib = (bytes) => bytes >= 1 << 20 ? `${(bytes / (1 << 20)).toFixed(1)} MiB` : `${Math.round(bytes / 1024)} KiB`;

async function copy(button, text) {
  try {
    if (navigator.clipboard) await navigator.clipboard.writeText(text);
    else { // pages that came without TLS have no clipboard of their own
      const area = document.body.appendChild(Object.assign(document.createElement('textarea'), { value: text }));
      area.select();
      document.execCommand('copy');
      area.remove();
    }
    button.textContent = 'Copied';
  } catch {
    button.textContent = 'Select it';
  }
  setTimeout(() => { button.textContent = 'Copy'; }, 1500);
}

function addAddress(list, address) {
  const item = list.appendChild(document.createElement('li'));
  const link = item.appendChild(document.createElement('a'));
  link.href = link.textContent = address;
  const button = item.appendChild(document.createElement('button'));
  button.type = 'button';
  button.textContent = 'Copy';
  button.setAttribute('aria-label', `Copy ${address}`);
  button.addEventListener('click', () => copy(button, address));
}

// Encrypted, where this page is and it can be had so.
function rtspOf(outlets) {
  return outlets.find((o) => o.scheme === (location.protocol === 'https:' ? 'rtsps' : 'rtsp')) ?? outlets.find((o) => o.scheme.startsWith('rtsp'));
}

function addressesOf(feed, { outlets, feeds }) {
  const list = [];
  const rtsp = rtspOf(outlets);
  if (rtsp) list.push(`${rtsp.scheme}://${location.hostname}:${rtsp.port}/${feed.name}`);
  for (const o of outlets.filter((outlet) => outlet.format && outlet.feed === feed.name)) list.push(`${o.scheme}://${location.hostname}:${o.port}`);
  for (const suffix of feed.suffixes) list.push(`${location.origin}/${feed.name}${suffix}`);
  const preview = feeds.find((other) => other.name === feed.preview);
  for (const suffix of preview ? preview.suffixes : []) list.push(`${location.origin}/${preview.name}${suffix}`);
  return list;
}

// Links to lend: whoever has the address may watch this one feed for a while.
async function lend(node, feed, status) {
  const form = node.querySelector('.lend form'), list = node.querySelector('.lend .addresses');
  const answer = await fetch(`/lend/${feed.name}/${form.minutes.value}/${form.viewers.value}`, { method: 'POST' });
  list.replaceChildren();
  if (!answer.ok) {
    list.appendChild(document.createElement('li')).textContent = answer.status === 409 ? 'The device does not know what time it is; a link could not end.' : 'It could not be lent.';
    return;
  }
  const { path, number, until } = await answer.json();
  const rtsp = rtspOf(status.outlets);
  if (rtsp) addAddress(list, `${rtsp.scheme}://${location.hostname}:${rtsp.port}${path}`);
  for (const suffix of feed.suffixes) addAddress(list, `${location.origin}${path}${suffix}`);
  const end = list.appendChild(document.createElement('li')).appendChild(document.createElement('button'));
  end.type = 'button';
  end.textContent = 'Call it back';
  end.addEventListener('click', async () => { if ((await fetch(`/end-link/${number}/${until}`, { method: 'POST' })).ok) list.replaceChildren(); });
}

// A stream that breaks off, as when the device starts again, is opened again.
function showPicture(card) {
  const { img, source, live } = card;
  const address = () => live ? `/${source}.mjpeg?${Date.now()}` : `/${source}.jpg?${Date.now()}`;
  img.onerror = () => setTimeout(() => { img.src = address(); }, 2000);
  if (!live) img.onload = () => setTimeout(() => { img.src = address(); }, 1000);
  img.src = address();
}

function addCard(feed, status, index) {
  const node = el('feed').content.firstElementChild.cloneNode(true);
  const card = { node, img: node.querySelector('img'), notice: node.querySelector('.notice'), lamp: node.querySelector('.lamp') };
  card.source = feed.codec === 'jpeg' ? feed.name : feed.preview;
  card.live = index < STREAMS_MOST;
  node.querySelector('h2').textContent = feed.title;
  card.img.alt = `${feed.title}, live`;
  for (const address of addressesOf(feed, status)) addAddress(node.querySelector('.addresses'), address);
  if (feed.width && feed.height) node.querySelector('.picture').style.aspectRatio = `${feed.width} / ${feed.height}`;
  if (card.source) showPicture(card);
  else card.img.hidden = true;
  node.querySelector('.lend form').addEventListener('submit', (event) => { event.preventDefault(); lend(node, feed, status); });
  cards.set(feed.name, card);
  el('feeds').append(node);
}

function noticeOf(feed, card) {
  if (feed.camera_state === 'waiting') return `The camera does not answer (${feed.camera_error}). It is started again on and on.`;
  if (feed.camera_state === 'starting') return 'The camera is starting.';
  if (feed.newest_ms > 3000 && feed.camera_state !== 'resting') // then its preview is what is seen
    return `This picture is ${Math.round(feed.newest_ms / 1000)} s old.`;
  if (!card.source) return 'A browser cannot show this feed. Open its address in a player.';
  return '';
}

function showFeed(feed) {
  const card = cards.get(feed.name);
  const set = (name, text) => { card.node.querySelector(`[data-figure=${name}]`).textContent = text; };
  const rests = feed.camera_state === 'resting'; // its last figures are those of whoever left
  set('fps', rests ? '–' : feed.fps === feed.fps_set ? feed.fps : `${feed.fps} of ${feed.fps_set}`);
  set('kbps', rests ? '–' : feed.kbps_set ? `${feed.kbps} of ${feed.kbps_set}` : feed.kbps);
  set('size', `${feed.width}×${feed.height}`);
  set('age', rests || feed.newest_ms === null ? '–' : `${feed.newest_ms} ms`);
  set('viewers', feed.viewers);
  set('skipped', feed.skipped);
  card.lamp.textContent = feed.camera_state;
  card.lamp.className = `lamp ${feed.camera_state}`;
  const notice = noticeOf(feed, card);
  card.notice.textContent = notice;
  card.notice.hidden = !notice;
}

const hostOf = (ip, port) => `${ip.includes(':') ? `[${ip}]` : ip}:${port}`;

function showRows(section, rows) {
  el(section).hidden = rows.length === 0;
  el(section).querySelector('tbody').replaceChildren(...rows.map((texts) => {
    const row = document.createElement('tr');
    for (const text of texts) row.appendChild(document.createElement('td')).textContent = text;
    return row;
  }));
}

function showViewers(viewers) {
  showRows('watching', viewers.map((v) => [v.peer ? hostOf(v.peer, v.peer_port) : '–', v.feed, v.via, v.fps ?? '–', v.kbps ?? '–', `${v.age_ms} ms`, v.skipped,
    seconds(v.watching_s)]));
}

function showPushes(pushes) {
  showRows('pushing', pushes.map((p) => [p.to ? `${p.via}://${hostOf(p.to, p.to_port)}` : p.via, p.feed, p.format, p.fps ?? '–', p.kbps ?? '–', `${p.age_ms} ms`,
    p.skipped, p.error ? `${p.state}: ${p.error}` : p.state]));
}

function show(status) {
  const d = status.device;
  document.title = el('name').textContent = d.name;
  el('device').textContent = `${d.viewers} of ${d.viewers_most} viewers · up ${seconds(d.uptime_s)}`;
  el('fingerprint').textContent = d.fingerprint ? `Certificate, SHA-256: ${d.fingerprint}` : '';
  el('about').textContent = `Bambino ${d.version} · ${kib(d.memory_bytes)} of memory · figures: /status.json`;
  // What stands in for another feed has no card of its own.
  const previews = new Set(status.feeds.map((feed) => feed.preview));
  status.feeds.filter((feed) => !previews.has(feed.name)).forEach((feed, index) => {
    if (!cards.has(feed.name)) addCard(feed, status, index);
    showFeed(feed);
  });
  showViewers(status.viewers);
  showPushes(status.pushes);
  showSignIns(status.sign_ins);
  listen();
}

function showSignIns(list) {
  showRows('inside', list.map((s) => [s.name, s.peer, `${seconds(s.since_s)} ago`, s.idle_s < 5 ? 'now' : `${seconds(s.idle_s)} ago`, '']));
  el('inside').querySelectorAll('tbody tr').forEach((row, i) => {
    const end = row.lastElementChild.appendChild(document.createElement('button'));
    end.textContent = 'End';
    end.setAttribute('aria-label', `End the sign-in of ${list[i].name}`);
    end.addEventListener('click', () => fetch(`/end-sign-in/${list[i].number}`, { method: 'POST' }));
  });
}

async function learn() {
  me = await (await fetch('/who.json', { signal: AbortSignal.timeout(4000) })).json();
  el('person').hidden = !me.name;
  el('who').textContent = `${me.name}, may ${me.role}`;
  el('open').hidden = me.accounts > 0 || me.anybody === 'none';
  const sees = me.role !== 'none';
  el('entry').hidden = sees;
  if (!sees) { // nothing of what was seen before stays
    cards.forEach((card) => { card.img.onerror = card.img.onload = null; card.img.removeAttribute('src'); card.node.remove(); });
    cards.clear();
    for (const section of ['watching', 'pushing', 'inside']) showRows(section, []);
    el('device').textContent = '';
    stopListening();
  }
  return sees;
}

el('entry').addEventListener('submit', async (event) => {
  event.preventDefault();
  const form = event.target, trouble = form.querySelector('.trouble');
  try {
    trouble.textContent = (await signIn(form.elements.name.value, form.elements.password.value)) ?? '';
  } catch {
    trouble.textContent = 'The device does not answer.';
  }
  if (!trouble.textContent) { form.reset(); learned = 0; }
});
el('out').addEventListener('click', async () => { await fetch('/sign-out', { method: 'POST' }); learned = 0; });

// Who asks is looked at before anything else is asked for: a browser would show a window of its own to a stranger.
let learned = 0, sees = false;

async function tick() {
  try {
    if (Date.now() - learned > 5000) { sees = await learn(); learned = Date.now(); }
    if (sees) {
      const answer = await fetch('/status.json', { signal: AbortSignal.timeout(4000) });
      if (answer.status === 401 || answer.status === 403) learned = 0;
      else if (!answer.ok) throw new Error(answer.status);
      else show(await answer.json());
      for (const card of cards.values()) card.node.querySelector('.lend').hidden = me.role !== 'administer';
    }
    failures = 0;
  } catch (error) {
    if (++failures > 1) el('device').textContent = `The device has not answered for ${failures} s. Is it on, and on this network?`;
  }
  document.querySelector('header').classList.toggle('lost', failures > 1);
  setTimeout(tick, sees || failures ? 1000 : 300);
}
tick();
