'use strict';
// One feed, at an address of its own: its picture, what holds it back, its figures over the last minutes, its addresses.

const SAMPLES = 300; // seconds
const history = new Map(); // by feed: what was measured each second, for as long as this page is open
let shown = null; // the feed that is shown, and what belongs to it

function remember(status) {
  for (const feed of status.feeds) {
    if (!history.has(feed.name)) history.set(feed.name, { list: [] });
    const h = history.get(feed.name), watching = status.viewers.filter((v) => v.feed === feed.name);
    const left = feed.skipped + feed.dropped;
    h.list.push({ fps: feed.fps, kbps: feed.kbps, age: Math.max(0, ...watching.map((v) => v.age_ms)), lost: Math.max(0, left - (h.left ?? left)), viewers: feed.viewers });
    h.left = left;
    if (h.list.length > SAMPLES) h.list.shift();
  }
}

// One line for each figure: a scale of its own, the last value, the highest.
function plot(name, list) {
  const most = Math.max(1, ...list.map((s) => s[name])), points = list.map((s, i) => `${SAMPLES - list.length + i},${40 - 36 * s[name] / most}`).join(' ');
  const last = list.at(-1)?.[name] ?? 0;
  const svg = `<svg viewBox="0 0 ${SAMPLES} 42" preserveAspectRatio="none" aria-hidden="true"><polyline points="${points}"/></svg>`;
  const node = make('figure', {}, make('figcaption', {}, make('b', {}, `${last}`), ` ${W.plots[name]}`, make('span', {}, `≤ ${most}`)));
  node.insertAdjacentHTML('beforeend', svg); // numbers alone
  return node;
}

function verdictOf(feed, viewers) {
  const V = W.verdict;
  if (V[feed.camera_state]) return V[feed.camera_state](feed);
  if (V[feed.held_by]) return V[feed.held_by](feed);
  const own = viewers.filter((v) => v.feed === feed.name), slow = own.filter((v) => V[v.held_by]).sort((a, b) => a.fps - b.fps)[0];
  if (slow) return V[slow.held_by === 'limit' ? 'share' : slow.held_by](slow, V.left(1 - slow.fps / feed.fps));
  const less = own.find((v) => v.given);
  if (less) return V.given(less);
  if (feed.follows_kbps) return V.follows(feed);
  return feed.viewers ? V.none(feed) : V.alone();
}

// Encrypted, where this page is and it can be had so.
const rtspOf = (outlets) => outlets.find((o) => o.scheme === (location.protocol === 'https:' ? 'rtsps' : 'rtsp')) ?? outlets.find((o) => o.scheme.startsWith('rtsp'));

function addressesOf(feed, { outlets, feeds }) {
  const rtsp = rtspOf(outlets), preview = feeds.find((other) => other.name === feed.preview);
  return [...(rtsp ? [`${rtsp.scheme}://${location.hostname}:${rtsp.port}/${feed.name}`] : []),
    ...outlets.filter((o) => o.format && o.feed === feed.name).map((o) => `${o.scheme}://${location.hostname}:${o.port}`),
    ...feed.suffixes.map((suffix) => `${BASE}/${feed.name}${suffix}`),
    ...(preview?.suffixes ?? []).map((suffix) => `${BASE}/${preview.name}${suffix}`)];
}

// Links to lend: whoever has the address may watch this one feed for a while.
async function lend(event) {
  event.preventDefault();
  const form = event.target, list = el('lend').querySelector('.addresses'), { feed, status } = shown;
  const answer = await fetch(`lend/${feed.name}/${form.minutes.value}/${form.viewers.value}`, { method: 'POST' });
  list.replaceChildren();
  if (!answer.ok) { list.append(make('li', {}, answer.status === 409 ? W.noClock : W.notLent)); return; }
  const { path, number, until } = await answer.json(), rtsp = rtspOf(status.outlets);
  if (rtsp) addAddress(list, `${rtsp.scheme}://${location.hostname}:${rtsp.port}${path}`);
  for (const suffix of feed.suffixes) addAddress(list, `${BASE}${path}${suffix}`);
  list.append(make('li', {}, button(W.callBack, async () => { if ((await fetch(`end-link/${number}/${until}`, { method: 'POST' })).ok) list.replaceChildren(); })));
}

function openFeed(feed, status) {
  closeFeed();
  const source = sourceOf(feed), img = el('big');
  shown = { name: feed.name, codec: feed.codec, feed, status, addresses: '' };
  img.hidden = !source;
  img.alt = W.live(feed.title);
  if (source) shown.picture = Object.assign(new Picture(img, source, streamsAs(feed)), streamsAs(feed) ? {} : { every: SNAPSHOTS_MS });
  el('still').href = `${source ?? feed.name}.jpg`;
  el('still').download = `${feed.name}.jpg`;
  el('still').hidden = el('fill').hidden = !source;
  el('snippet').textContent = `<a href="${BASE}/#/feed/${feed.name}">\n  <img src="${BASE}/${source ?? feed.name}.${streamsAs(feed) ? 'mjpeg' : 'jpg'}" alt="${feed.title}">\n</a>`;
  el('lend').querySelector('.addresses').replaceChildren();
  Picture.settle();
  openControls(feed.name);
}

function closeFeed() {
  shown?.picture?.end();
  closeControls();
  shown = null;
}

function showFeed(name, status) {
  const feed = status.feeds.find((f) => f.name === name);
  el('missing').hidden = Boolean(feed);
  el('one').hidden = !feed;
  say(el('missing'), W.noFeed(name));
  if (!feed) { closeFeed(); return; }
  if (shown?.name !== name || shown.codec !== feed.codec) openFeed(feed, status);
  Object.assign(shown, { feed, status });
  const set = (figure, text) => say(el('one').querySelector(`[data-figure=${figure}]`), text), rests = feed.camera_state === 'resting';
  say(el('title'), feed.title);
  if (feed.width && feed.height) el('frame').style.setProperty('--shape', `${feed.width} / ${feed.height}`);
  set('fps', rests ? '–' : W.of(feed.fps, feed.fps_set));
  set('kbps', rests ? '–' : feed.kbps_set ? `${feed.kbps} of ${feed.kbps_set}` : feed.kbps);
  set('size', `${feed.width}×${feed.height}`);
  set('age', rests || feed.newest_ms === null ? '–' : `${feed.newest_ms} ms`);
  set('viewers', feed.viewers);
  set('skipped', feed.skipped);
  const notice = noticeOf(feed, shown.picture?.source), lamp = el('state');
  const state = standsFor(feed, shown.picture);
  say(lamp, W.states[state] ?? state);
  lamp.className = `lamp ${state}`;
  say(el('notice'), notice);
  el('notice').hidden = !notice;
  say(el('verdict'), verdictOf(feed, status.viewers));
  el('plots').replaceChildren(...Object.keys(W.plots).map((figure) => plot(figure, history.get(name)?.list ?? [])));
  const addresses = addressesOf(feed, status);
  if (shown.addresses !== addresses.join()) {
    shown.addresses = addresses.join();
    el('addresses').replaceChildren();
    for (const address of addresses) addAddress(el('addresses'), address);
  }
  el('lend').hidden = me.role !== 'administer';
}

el('lend').querySelector('form').addEventListener('submit', lend);
el('fill').addEventListener('click', () => (document.fullscreenElement ? document.exitFullscreen() : el('frame').requestFullscreen()));
el('copy-snippet').addEventListener('click', (event) => copy(event.target, el('snippet').textContent));
