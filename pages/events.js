'use strict';
// What happened, in sentences; new ones come by themselves. A device that keeps no events has no such list.

const LISTED_MOST = 50;

function tellEvent(d) {
  const list = el('happened').querySelector('ol'), date = d.unix_s ? new Date(d.unix_s * 1000) : null;
  const when = make('time', {}, date ? date.toLocaleTimeString() : W.after(d.uptime_s));
  if (date) when.dateTime = date.toISOString();
  const title = status?.feeds.find((f) => f.name === d.feed)?.title ?? d.feed;
  const sentence = (W.events[d.event] ?? (() => d.event.replaceAll('-', ' ')))(d);
  list.prepend(make('li', { className: d.level }, when, ` ${title ? `${title}: ` : ''}${sentence}`));
  while (list.childElementCount > LISTED_MOST) list.lastElementChild.remove();
  el('happened').hidden = false;
}

let events;
function listen() {
  if (events || document.hidden || !sees) return;
  events = new EventSource('events');
  events.onmessage = (message) => tellEvent(JSON.parse(message.data));
  // A break is mended by the browser itself; where it was refused, as by a device that keeps no events, it is asked again after a while.
  events.onerror = () => { if (events?.readyState === EventSource.CLOSED) setTimeout(stopListening, 30000); };
}
function stopListening() {
  events?.close();
  events = null;
}
function forgetEvents() {
  stopListening();
  el('happened').querySelector('ol').replaceChildren();
  el('happened').hidden = true;
}
