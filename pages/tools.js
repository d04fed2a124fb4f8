'use strict';
// Small things that all parts use.

const el = (id) => document.getElementById(id);
const duration = (s) => s >= 86400 ? `${Math.floor(s / 86400)} d ${Math.floor(s % 86400 / 3600)} h`
  : s >= 3600 ? `${Math.floor(s / 3600)} h ${Math.floor(s % 3600 / 60)} min`
  : s >= 60 ? `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s` : `${Math.floor(s)} s`;
const size = (bytes) => bytes >= 1 << 30 ? `${(bytes / (1 << 30)).toFixed(1)} GiB` : bytes >= 1 << 20 ? `${(bytes / (1 << 20)).toFixed(1)} MiB` : `${Math.round(bytes / 1024)} KiB`;
const mbit = (kbps) => (kbps / 1000).toFixed(1);
const hostOf = (ip, port) => `${ip.includes(':') ? `[${ip}]` : ip}:${port}`;

// An element with its properties, attributes and children.
function make(tag, props = {}, ...children) {
  const node = document.createElement(tag);
  for (const [key, value] of Object.entries(props)) if (key in node) node[key] = value; else node.setAttribute(key, value);
  node.append(...children);
  return node;
}
const button = (text, act, props = {}) => {
  const node = make('button', { type: 'button', textContent: text, ...props });
  node.addEventListener('click', () => act(node));
  return node;
};
// Only what is another text is written, so that a screen reader is not told the same again.
const say = (node, text) => { if (node.textContent !== `${text}`) node.textContent = text; };

async function copy(node, text) {
  try {
    if (navigator.clipboard) await navigator.clipboard.writeText(text);
    else { // pages that came without TLS have no clipboard of their own
      const area = document.body.appendChild(make('textarea', { value: text }));
      area.select();
      document.execCommand('copy');
      area.remove();
    }
    node.textContent = W.copied;
  } catch {
    node.textContent = W.select;
  }
  setTimeout(() => { node.textContent = W.copy; }, 1500);
}

const addAddress = (list, address) => list.append(make('li', {}, make('a', { href: address, textContent: address }),
  button(W.copy, (node) => copy(node, address), { 'aria-label': W.copyOf(address) })));

function showRows(section, rows) {
  el(section).hidden = rows.length === 0;
  el(section).querySelector('tbody').replaceChildren(...rows.map((texts) => make('tr', {}, ...texts.map((text) => make('td', {}, text ?? '–')))));
}

// What an <img> can show of a feed: itself, the feed that stands in for it, or its snapshots, one after the other.
const sourceOf = (feed) => (feed.codec === 'jpeg' ? feed.name : feed.preview ?? (feed.suffixes.includes('.jpg') ? feed.name : null));
const streamsAs = (feed) => feed.codec === 'jpeg' || Boolean(feed.preview);
const standsFor = (feed, seen) => (feed.camera_state !== 'resting' || !seen ? feed.camera_state : feed.preview ? 'preview' : streamsAs(feed) ? 'resting' : 'snapshots');
const SNAPSHOTS_MS = 5000; // each takes a stream of the camera's for a moment

// Where the device is for this browser: behind a reverse proxy, with its prefix. All that is asked for is relative to it.
const BASE = new URL('.', location.href).href.replace(/\/$/, '');

// A request to the device: its answer, or an error with a sentence to show.
async function ask(method, path, body, headers = {}) {
  const answer = await fetch(path, { method, headers, body, signal: AbortSignal.timeout(8000) }).catch(() => { throw new Error(W.silent); });
  const json = (answer.headers.get('Content-Type') ?? '').includes('json') ? await answer.json() : null;
  if (!answer.ok) throw Object.assign(new Error(json?.detail ?? `${answer.status} ${answer.statusText}`), { status: answer.status, at: json?.at });
  return { json, etag: answer.headers.get('ETag') };
}
const patch = (changes, { seconds, etag } = {}) => ask('PATCH', seconds ? `settings/try/${seconds}` : 'settings', JSON.stringify(changes),
  { 'Content-Type': 'application/merge-patch+json', ...(etag ? { 'If-Match': etag } : {}) });
