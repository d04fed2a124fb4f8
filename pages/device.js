'use strict';
// The device: facts, who watches, what is sent, its settings, and handing them over.

const LISTS = ['camera', 'feed', 'tcp', 'push'];
let settings = null; // as they were read, with their version

async function showFacts() {
  const { json: m } = me.settings ? await ask('GET', 'machine.json').catch(() => ({ json: null })) : { json: null };
  if (!m) { el('facts').replaceChildren(); return; }
  const F = W.facts, facts = [[F.model, m.model], [F.host, m.host], [F.system, m.system], [F.program, m.program], [F.uptime_s, duration(m.uptime_s)],
    [F.system_uptime_s, m.system_uptime_s && duration(m.system_uptime_s)], [F.processor_percent, W.percent(m.processor_percent, m.processors)],
    [F.reserved, W.reserved(m.reserved_bytes, m.spare_bytes)], [F.memory, m.memory_bytes && W.free(m.memory_free_bytes, m.memory_bytes)],
    [F.storage, m.storage_bytes && W.free(m.storage_free_bytes, m.storage_bytes)], [F.temperature_c, m.temperature_c && `${m.temperature_c} °C`],
    [F.links, m.links.map((l) => `${l.name}${l.mbps ? ` ${l.mbps} Mbit/s` : ''}${l.radio_quality ? ` radio ${l.radio_quality}` : ''}`).join(', ')]];
  el('facts').replaceChildren(...facts.filter(([, value]) => value).map(([name, value]) => make('div', {}, make('dt', {}, name), make('dd', {}, value))));
}

// What was typed and not sent yet, as a patch.
function changesOf(form) {
  const changes = {};
  for (const field of form.querySelectorAll('.field')) {
    if (field.changed === undefined) continue;
    const { section, name, key } = field.row;
    const to = name ? ((changes[section] ??= {})[name] ??= {}) : (changes[section] ??= {});
    to[key] = field.changed;
  }
  return changes;
}

function formField(row) {
  const field = make('div', { className: 'field' }), note = [W.notices[row.notice], row.why].filter(Boolean).join(' · ');
  field.row = row;
  const set = (value) => {
    field.changed = value;
    field.classList.add('typed');
    field.closest('form').classList.add('typed');
  };
  const input = inputOf(row, set, false);
  const back = button('↺', () => { set(null); input.value = ''; input.checked = false; }, { title: W.preset(row.preset), 'aria-label': W.presetOf(labelOf(row)), className: 'back' });
  back.disabled = isPreset(row);
  field.append(make('label', {}, make('span', {}, row.key), input, make('output', {}, unitOf(row))), back, make('small', {}, [row.help, note].filter(Boolean).join(' · ')));
  return field;
}

function linkAt(port) {
  const address = `${location.protocol}//${location.hostname}:${port}/`;
  return make('a', { href: address, textContent: address });
}

// One after the other: each begins with the settings as the one before left them.
let turn = Promise.resolve();
const change = (...what) => { turn = turn.then(() => changeNow(...what)); };
async function changeNow(changes, seconds, out) {
  try {
    const { json } = await patch(changes, { seconds, etag: settings?.etag });
    out.closest('form').classList.remove('typed');
    say(out, json.in_force === 'soon' ? W.soon : json.trial ? W.tried : json.kept ? W.kept : W.notKept);
    if (json.trial?.confirm_at.length) out.append(' ', W.confirmAt, ' ', linkAt(json.trial.confirm_at[0]));
    if (json.in_force === 'soon') setTimeout(() => openDevice(true).catch(() => {}), 2500); // it may be elsewhere then
    else await openDevice(true);
  } catch (error) {
    say(out, error.status === 412 ? W.changedAway : `${error.message}${error.at ? ` (${error.at})` : ''}`);
    if (error.status === 412) await openDevice(true);
  }
}

function sectionForm(section, name, rows) {
  const form = make('form', { className: 'settings' }), out = make('p', { role: 'status', className: 'trouble' });
  for (const row of rows) form.append(formField(row));
  const acts = make('div', { className: 'acts' }, make('button', { textContent: W.apply }), button(W.tryIt(60), () => change(changesOf(form), 60, out)));
  if (name) acts.append(button(W.remove, () => { if (confirm(W.sure(W.removeOf(name)))) change({ [section]: { [name]: null } }, 0, out); }, { 'aria-label': W.removeOf(name) }));
  form.append(acts, out);
  form.addEventListener('submit', (event) => { event.preventDefault(); change(changesOf(form), 0, out); });
  return make('details', {}, make('summary', {}, name ?? W.sections[section]), form);
}

// A new one: what it needs at least.
function adder(section, cameras, feeds) {
  const out = make('p', { role: 'status', className: 'trouble' }), form = make('form', { className: 'adder' });
  const name = make('input', { name: 'name', required: true, pattern: '[a-z0-9_\\-]{1,23}', placeholder: 'name', 'aria-label': `name of a new ${section}`, autocapitalize: 'none' });
  const choose = (list, key) => make('select', { name: key, 'aria-label': key }, ...list.map((n) => make('option', { textContent: n })));
  const more = section === 'feed' ? [choose(cameras, 'camera')] : [choose(feeds, 'feed'), make('input', { name: section === 'push' ? 'to' : 'listen', required: true,
    placeholder: section === 'push' ? 'udp://192.0.2.20:5000' : ':8600', 'aria-label': section === 'push' ? 'to' : 'listen' })];
  form.append(name, ...more, make('button', { textContent: W.add }), out);
  form.addEventListener('submit', (event) => {
    event.preventDefault();
    change({ [section]: { [name.value]: Object.fromEntries(more.map((input) => [input.name, input.value])) } }, 0, out);
  });
  return form;
}

function showSettings(rows) {
  const sections = [...new Set(rows.map((r) => r.section))], all = (section) => [...new Set(rows.filter((r) => r.section === section).map((r) => r.name))];
  const nodes = [];
  for (const section of Object.keys(W.sections)) {
    const list = LISTS.includes(section);
    if (!list && !sections.includes(section)) continue;
    if (!list) { nodes.push(sectionForm(section, null, rows.filter((r) => r.section === section))); continue; }
    nodes.push(make('h3', {}, W.sections[section]));
    for (const name of all(section)) // what is turned while looking at the picture stands beside that
      nodes.push(sectionForm(section, name, rows.filter((r) => r.section === section && r.name === name && (section !== 'feed' || r.needs !== 'adjust'))));
    if (section !== 'camera') nodes.push(adder(section, all('camera'), all('feed')));
  }
  el('all-settings').replaceChildren(...nodes);
}

async function openDevice(again) {
  if (!location.hash.startsWith('#/device')) return;
  showFacts();
  const administers = me.settings && me.role === 'administer';
  el('facts').parentElement.hidden = !me.settings;
  el('administer').hidden = !administers;
  if (!administers) return;
  const opened = again ? [...document.querySelectorAll('#all-settings details[open] > summary')].map((s) => s.textContent) : [];
  const [{ json }, { etag }, { json: changes }] = await Promise.all([ask('GET', 'settings/details'), ask('GET', 'settings'), ask('GET', 'settings/changes')]);
  settings = { etag };
  if (!document.querySelector('#all-settings form.typed')) showSettings(json.settings); // what is being typed stays
  for (const s of document.querySelectorAll('#all-settings summary')) if (opened.includes(s.textContent)) s.parentElement.open = true;
  say(el('stores'), json.kept ? '' : W.stays);
  say(el('changes-head'), W.changes(changes.changes.length));
  el('changes').replaceChildren(...changes.changes.map((c) => make('li', {}, W.change(c))));
  el('forget').disabled = changes.changes.length === 0;
}

// What is tried is told on every page, with how long it still lasts.
async function watchTrial() {
  if (me.settings && (me.role === 'adjust' || me.role === 'administer')) {
    const { json } = await ask('GET', 'settings/trial').catch(() => ({ json: null }));
    const trial = json?.trial;
    el('trial').hidden = !trial;
    if (trial) {
      say(el('trial-text'), W.trial(trial));
      const here = Number(location.port || (location.protocol === 'https:' ? 443 : 80)), elsewhere = trial.confirm_at.length && !trial.confirm_at.includes(here);
      el('trial-keep').hidden = Boolean(elsewhere);
      el('trial-where').hidden = !elsewhere;
      el('trial-where').replaceChildren(W.confirmAt, ' ', linkAt(trial.confirm_at[0]));
    }
  } else el('trial').hidden = true;
}

const act = (method, path, out, done, body) => async () => {
  try {
    await ask(method, path, body?.());
    say(out, done);
  } catch (error) { say(out, error.message); }
  setTimeout(() => openDevice(true).catch(() => {}), 1500);
};
el('trial-keep').addEventListener('click', act('POST', 'settings/keep', el('trial-text'), W.kept));
el('trial-undo').addEventListener('click', act('POST', 'settings/return', el('trial-text'), ''));
el('forget').addEventListener('click', () => { if (confirm(W.sure(el('forget').textContent))) act('DELETE', 'settings/changes', el('handed'), W.restored)(); });
el('restart').addEventListener('click', () => { if (confirm(W.sure(W.restart))) act('POST', 'restart', el('handed'), W.restarting)(); });
el('restore').addEventListener('change', async (event) => {
  const text = await event.target.files[0].text();
  await act('PUT', 'settings/file', el('handed'), W.restored, () => text)();
  event.target.value = '';
});

const showViewers = (viewers) => showRows('watching', viewers.map((v) => [v.peer ? hostOf(v.peer, v.peer_port) : '–', v.feed, v.via, v.fps, v.kbps, `${v.age_ms} ms`, v.skipped, duration(v.watching_s)]));
const showPushes = (pushes) => showRows('pushing', pushes.map((p) => [p.to ? `${p.via}://${hostOf(p.to, p.to_port)}` : p.via, p.feed, p.format, p.fps, p.kbps, `${p.age_ms} ms`,
  p.skipped, p.error ? `${p.state}: ${p.error}` : p.state === 'sending' && !p.confirmed ? W.unconfirmed : p.state]));
function showSignIns(list) {
  showRows('inside', list.map((s) => [s.name, s.peer, W.ago(s.since_s + 5), W.ago(s.idle_s), '']));
  el('inside').querySelectorAll('tbody tr').forEach((row, i) => row.lastElementChild.append(
    button(W.end, () => fetch(`end-sign-in/${list[i].number}`, { method: 'POST' }), { 'aria-label': W.endOf(list[i].name) })));
}
