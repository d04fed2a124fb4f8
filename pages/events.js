'use strict';
// What happened, in sentences; new ones come by themselves. A device that keeps no events has no such list.

const LISTED_MOST = 30;
const ENDINGS = ['no sign of life came', 'nobody listens at its port any more', 'its connection is gone', 'it said goodbye', 'it may not watch any more'];
const plural = (n, one) => `${n} ${one}${n === 1 ? '' : 's'}`;

// d: the event. Those that are not here are told by their names.
const SENTENCES = {
  'camera-started': (d) => `the camera started, ${d.width}×${d.height} at ${d.fps}/s`,
  'camera-adjusted': (d) => `the camera chose ${d.width}×${d.height} at ${d.fps}/s by itself`,
  'camera-failed': (d) => `the camera failed (${d.error ?? 'unknown'}); tried again in ${(d.extra / 1000).toFixed(1)} s`,
  'camera-stalled': (d) => `no picture for ${(d.value / 1000).toFixed(1)} s; the camera is started again`,
  'camera-back': (d) => `the camera is back after ${(d.value / 1000).toFixed(1)} s`,
  'control-refused': (d) => `the camera refused ${d.control} = ${d.to}`,
  'control-lowered': (d) => `${d.control} is ${d.to} from now on, its pictures were too large`,
  'changed-by': (d) => `${d.text ?? 'somebody'} changed ${d.control} from ${d.from} to ${d.to}`,
  'frame-bad': (d) => `a damaged picture was left out, ${d.extra} so far`,
  'frame-too-large': (d) => `a picture of ${d.value} bytes was left out, ${d.extra} fit`,
  'viewer-came': (d) => `${d.peer ?? 'somebody'} watches, ${d.value} now`,
  'viewer-left': (d) => `${d.peer ?? 'somebody'} left after ${plural(d.extra, 'picture')}`,
  'viewer-stalled': (d) => `${d.peer ?? 'a viewer'} took nothing for ${(d.value / 1000).toFixed(1)} s and was closed`,
  'viewer-shed': (d) => `${d.peer ?? 'a viewer'} was closed, it held the memory of new pictures`,
  'viewer-refused': (d) => `${d.peer ?? 'a viewer'} was refused, ${d.value} watch already`,
  'session-ended': (d) => `${d.peer ?? 'a viewer'}'s session was ended: ${ENDINGS[d.value] ?? ''}`,
  'push-started': () => 'sending began',
  'push-failed': (d) => `it cannot be sent (${d.error ?? 'unknown'})`,
  'push-lost': () => 'the receiver went away',
  'controls-restored': (d) => `${plural(d.value, 'control')} set as before`,
  'controls-not-kept': () => 'controls that were changed could not be kept',
  'connections-full': (d) => `all ${d.value} connections are in use`,
  'not-found': (d) => `somebody asked for ${d.text ?? 'something'} that is not there`,
  'signed-in': (d) => `${d.text} signed in`,
  'sign-in-failed': (d) => (d.text ? `somebody could not sign in as ${d.text}` : 'somebody could not sign in'),
  'feed-changed': (d) => `it is changed to ${d.width}×${d.height} at ${d.fps}/s`,
  'feed-added': () => 'it was added',
  'feed-paused': () => 'it was paused',
  'feed-removed': () => 'it was removed',
  'settings-changed': (d) => `${d.text ?? 'somebody'} changed ${plural(d.value, 'setting')}`,
  'settings-returned': (d) => `${plural(d.value, 'setting')} came back as before, since nobody confirmed the change`,
  'settings-not-kept': () => 'settings that were changed could not be kept',
  lent: (d) => `${d.text} lent it`,
  'link-ended': (d) => `${d.text} called a link back`,
};

function tellEvent(d) {
  const list = el('happened').querySelector('ol'), item = document.createElement('li');
  const when = item.appendChild(document.createElement('time'));
  const date = d.unix_s ? new Date(d.unix_s * 1000) : null;
  when.textContent = date ? date.toLocaleTimeString() : `after ${seconds(d.uptime_s)}`;
  if (date) when.dateTime = date.toISOString();
  const title = cards.get(d.feed)?.node.querySelector('h2').textContent ?? d.feed;
  const sentence = (SENTENCES[d.event] ?? (() => d.event.replaceAll('-', ' ')))(d);
  item.append(` ${title ? `${title}: ` : ''}${sentence}`);
  item.className = d.level;
  list.prepend(item);
  while (list.childElementCount > LISTED_MOST) list.lastElementChild.remove();
  el('happened').hidden = false;
}

let events;
function listen() {
  if (events || document.hidden) return;
  events = new EventSource('/events');
  events.onmessage = (message) => tellEvent(JSON.parse(message.data));
}

function stopListening() {
  events?.close();
  events = null;
  el('happened').querySelector('ol').replaceChildren();
  el('happened').hidden = true;
}

document.addEventListener('visibilitychange', () => (document.hidden ? stopListening() : cards.size && listen()));
