'use strict';
// All feeds at once. A picture is fetched only while somebody can see it: not in a hidden tab, not out of sight, not paused.

const STREAMS_MOST = 4; // a browser opens six connections to one host; two stay free for figures and stills
const cards = new Map();
const choice = { columns: 'auto', every: 'live', ...JSON.parse(localStorage.getItem('wall') ?? '{}') };

// What an <img> shows of a feed. live: a stream while there is a connection for it, else stills every so many ms.
class Picture {
  constructor(img, source, wantsStream) {
    Object.assign(this, { img, source, wantsStream, seen: true, paused: false, every: 1000, streams: false, at: 0 });
    Picture.all.add(this);
    img.addEventListener('load', () => { if (!this.streams) this.later(this.every); });
    img.addEventListener('error', () => this.later(2000)); // it broke off, as when the device starts again
  }
  get wanted() { return this.source && this.seen && !this.paused && !document.hidden; }
  later(ms) { clearTimeout(this.timer); this.timer = setTimeout(() => this.fetch(), ms); }
  fetch() {
    if (!this.wanted) return;
    this.img.src = `${this.source}.${this.streams ? 'mjpeg' : 'jpg'}?${Date.now()}`;
  }
  stop() { // what was last seen stays, as a picture of its own
    clearTimeout(this.timer);
    const { img } = this;
    if (img.naturalWidth && this.streams && this.source) {
      const canvas = make('canvas', { width: img.naturalWidth, height: img.naturalHeight });
      canvas.getContext('2d').drawImage(img, 0, 0);
      img.src = canvas.toDataURL('image/jpeg', 0.8);
    } else if (!img.complete) img.removeAttribute('src');
    this.streams = this.running = false;
  }
  static all = new Set();
  // Who may stream is decided for all of them together: the first ones that are seen.
  static settle() {
    let left = STREAMS_MOST;
    for (const p of Picture.all) {
      const streams = p.wanted && p.wantsStream && left > 0;
      if (streams) left--;
      if (p.running && (!p.wanted || p.streams !== streams)) p.stop();
      if (p.running || !p.wanted) continue;
      p.running = true;
      p.streams = streams;
      p.fetch();
    }
  }
  end() { this.source = null; this.stop(); this.img.removeAttribute('src'); Picture.all.delete(this); Picture.settle(); }
}
const sight = new IntersectionObserver((entries) => {
  for (const e of entries) for (const p of Picture.all) if (p.img === e.target) p.seen = e.isIntersecting;
  Picture.settle();
}, { rootMargin: '64px' });
document.addEventListener('visibilitychange', () => { Picture.settle(); if (document.hidden) stopListening(); else listen(); });

const everyOf = ({ streams }) => (choice.every !== 'live' ? choice.every * 1000 : streams ? 1000 : SNAPSHOTS_MS);

function applyChoice() {
  el('feeds').dataset.columns = choice.columns;
  el('feeds').style.setProperty('--columns', choice.columns);
  for (const card of cards.values()) {
    const { picture } = card, live = card.streams && choice.every === 'live';
    if (!picture) continue;
    Object.assign(picture, { wantsStream: live, every: everyOf(card) });
    if (picture.running && picture.streams !== live) picture.stop();
  }
  localStorage.setItem('wall', JSON.stringify(choice));
  Picture.settle();
}

const noticeOf = (feed, source) => feed.camera_state === 'waiting' ? W.noticeWaiting(feed)
  : feed.camera_state === 'no-signal' ? W.noticeNoSignal
  : feed.camera_state === 'starting' ? W.noticeStarting
  : feed.camera_state === 'off' ? W.noticeOff
  : feed.newest_ms > 3000 && feed.camera_state !== 'resting' ? W.noticeOld(Math.round(feed.newest_ms / 1000)) // resting: its preview is what is seen
  : source ? '' : W.notShown;

function addCard(feed) {
  const node = el('card').content.firstElementChild.cloneNode(true), img = node.querySelector('img');
  const source = sourceOf(feed);
  const card = { node, source, codec: feed.codec, streams: streamsAs(feed) };
  node.querySelector('h2 a').textContent = feed.title;
  node.querySelectorAll('a').forEach((a) => { a.href = `#/feed/${feed.name}`; });
  img.alt = W.live(feed.title);
  if (source) {
    card.picture = new Picture(img, source, card.streams && choice.every === 'live');
    card.picture.every = everyOf(card);
    card.picture.seen = false;
    sight.observe(img);
  } else img.hidden = true;
  const pause = node.querySelector('.pause');
  pause.hidden = !source;
  pause.setAttribute('aria-label', `${W.pause}: ${feed.title}`);
  pause.addEventListener('click', () => {
    const paused = card.picture.paused = !card.picture.paused;
    pause.textContent = paused ? '▶' : '❚❚';
    pause.setAttribute('aria-label', `${paused ? W.play : W.pause}: ${feed.title}`);
    node.classList.toggle('still', paused);
    Picture.settle();
  });
  cards.set(feed.name, card);
  el('feeds').append(node);
}

function dropCard(name) {
  const card = cards.get(name);
  if (card.picture) { sight.unobserve(card.picture.img); card.picture.end(); }
  card.node.remove();
  cards.delete(name);
}

function showCard(feed) {
  const { node, source } = cards.get(feed.name), rests = feed.camera_state === 'resting'; // its last figures are those of whoever left
  const set = (name, text) => say(node.querySelector(`[data-figure=${name}]`), text);
  if (feed.width && feed.height) node.querySelector('.picture').style.aspectRatio = `${feed.width} / ${feed.height}`;
  set('fps', rests ? '–' : W.of(feed.fps, feed.fps_set));
  set('size', `${feed.width}×${feed.height}`);
  set('viewers', feed.viewers);
  const lamp = node.querySelector('.lamp'), notice = node.querySelector('.notice'), text = noticeOf(feed, source);
  const state = standsFor(feed, source); // what is seen moves
  say(lamp, W.states[state] ?? state);
  lamp.className = `lamp ${state}`;
  say(notice, text);
  notice.hidden = !text;
}

// What stands in for another feed has no card of its own.
function showWall(feeds) {
  const previews = new Set(feeds.map((feed) => feed.preview)), shown = feeds.filter((feed) => !previews.has(feed.name));
  for (const name of [...cards.keys()]) {
    const feed = shown.find((f) => f.name === name);
    if (!feed || feed.codec !== cards.get(name).codec) dropCard(name);
  }
  for (const feed of shown) {
    if (!cards.has(feed.name)) addCard(feed);
    showCard(feed);
  }
  el('empty').hidden = shown.length > 0;
}

el('columns').value = choice.columns;
el('every').value = choice.every;
el('columns').addEventListener('change', (e) => { choice.columns = e.target.value; applyChoice(); });
el('every').addEventListener('change', (e) => { choice.every = e.target.value; applyChoice(); });
applyChoice();
