'use strict';
// Which of the three parts is shown, who asks, and the figures once a second (/status.json).

let me = { role: 'none' }, status = null, failures = 0;
let learned = 0, sees = false; // who asks is looked at before anything else: a browser would show a window of its own to a stranger

function route() {
  const [, part, name] = location.hash.split('/').map(decodeURIComponent), where = sees ? part || 'wall' : '';
  for (const view of ['wall', 'feed', 'device']) el(`view-${view}`).hidden = view !== where;
  for (const link of document.querySelectorAll('nav a')) {
    if (link.hash === (where === 'device' ? '#/device' : '#/')) link.setAttribute('aria-current', 'page');
    else link.removeAttribute('aria-current');
  }
  if (where !== 'feed') closeFeed();
  if (where === 'device') { if (!el('view-device').opened) openDevice().catch(() => {}); el('view-device').opened = true; } else el('view-device').opened = false;
  if (status && sees) show(where, name);
}

function show(where, name) {
  const d = status.device;
  document.title = where === 'feed' ? `${status.feeds.find((f) => f.name === name)?.title ?? name} – ${d.name}` : d.name;
  say(el('name'), d.name);
  say(el('device'), W.summary(d));
  say(el('fingerprint'), W.fingerprint(d));
  say(el('about'), W.about(d));
  if (where === 'wall') showWall(status.feeds);
  else for (const name of [...cards.keys()]) dropCard(name);
  if (where === 'feed') showFeed(name, status);
  if (where !== 'device') return;
  showViewers(status.viewers);
  showPushes(status.pushes);
  showSignIns(status.sign_ins);
}

async function learn() {
  const { role } = me;
  me = await (await fetch('who.json', { signal: AbortSignal.timeout(4000) })).json();
  el('person').hidden = !me.name;
  say(el('who'), W.person(me));
  say(el('open'), W.users[me.users] ?? W.open(me.anybody));
  el('open').hidden = !me.users && (me.anybody === 'none' || (me.accounts > 0 && me.anybody === 'watch'));
  const may = me.role !== 'none';
  el('entry').hidden = may;
  el('views').hidden = !may;
  el('enter').hidden = !may || Boolean(me.name) || me.accounts === 0;
  if (!may) { // nothing of what was seen before stays
    for (const name of [...cards.keys()]) dropCard(name);
    closeFeed();
    history.clear();
    for (const section of ['watching', 'pushing', 'inside']) showRows(section, []);
    el('all-settings').replaceChildren();
    say(el('device'), '');
    forgetEvents();
  }
  if (may !== sees || role !== me.role) { // other settings, other controls
    sees = may;
    el('view-device').opened = false;
    closeFeed();
    route();
  }
}

el('entry').addEventListener('submit', async (event) => {
  event.preventDefault();
  const form = event.target, trouble = form.querySelector('.trouble');
  say(trouble, (await signIn(form.elements.name.value, form.elements.password.value).catch(() => W.silent)) ?? '');
  if (!trouble.textContent) { form.reset(); learned = 0; route(); }
});
el('out').addEventListener('click', async () => { await fetch('sign-out', { method: 'POST' }); learned = 0; });
el('enter').addEventListener('click', () => { el('entry').hidden = false; el('entry').elements.name.focus(); });

async function tick() {
  try {
    if (Date.now() - learned > 5000) { await learn(); learned = Date.now(); }
    if (sees && !document.hidden) {
      const answer = await fetch('status.json', { signal: AbortSignal.timeout(4000) });
      if (answer.status === 401 || answer.status === 403) learned = 0;
      else if (!answer.ok) throw new Error(answer.status);
      else {
        status = await answer.json();
        remember(status);
        route();
        listen();
        await watchTrial();
      }
    }
    failures = 0;
  } catch {
    if (++failures > 1) say(el('device'), W.lost(failures));
  }
  document.querySelector('header').classList.toggle('lost', failures > 1);
  setTimeout(tick, sees || failures ? 1000 : 300);
}

addEventListener('hashchange', () => { route(); document.querySelector('main:not([hidden]) h2, h1')?.focus(); });
addEventListener('keydown', (event) => {
  if (event.target.matches('input,select,textarea') || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === 'f' && shown) el('fill').click();
  else if (event.key === 'Escape' && shown && !document.fullscreenElement) location.hash = '#/';
  else if (/^[1-9]$/.test(event.key) && !el('view-wall').hidden) [...cards.values()][event.key - 1]?.node.querySelector('a').click();
});
tick();
