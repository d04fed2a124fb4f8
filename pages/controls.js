'use strict';
// Controls made of what the device says that the camera has. A slider acts while it is dragged: one request at a time,
// and the newest value next. What comes back is shown where it is another one than was asked for.

const GROUPS = {
  view: ['flip-h', 'flip-v', 'rotate', 'zoom', 'pan', 'tilt', 'focus'],
  stream: ['size', 'rate', 'codec', 'quality', 'kbps', 'key-ms', 'profile', 'quality-least', 'quality-most', 'follow', 'follow-least', 'step'],
  picture: ['brightness', 'contrast', 'saturation', 'sharpness', 'hue', 'gamma'],
  light: ['exposure-us', 'gain', 'white-k', 'flicker', 'night', 'night-below', 'day-above', 'night-after', 'night-light', 'illumination', 'backlight'],
};
const labelOf = (row) => W.labels[row.key] ?? row.key.replaceAll('-', ' ');
const choicesOf = (row) => row.choices ?? (/^(.*: )?\d+(, \d+)* or \d+$/.test(row.unit) && row.unit !== '0 or 1' ? row.unit.match(/\d+/g).map(Number)
  : row.step && row.most - row.least === row.step && row.step > 1 ? [row.least, row.most] : null);
const isPreset = (row) => `${row.value}` === `${row.preset}` || (!row.changed && row.asked === undefined);
const isSwitch = (row) => row.least === 0 && row.most === 1;
const unitOf = (row) => (/ or |pixels/.test(row.unit) ? '' : W.units[row.unit] ?? row.unit);

// What a value is called: 0 means something else than none of it, with many.
const valueOf = (row, value) => (Number(value) === 0 && W.zero[row.key] ? W.zero[row.key] : `${value} ${unitOf(row)}`);

// An input for a setting. act is told of each change, with its value.
function inputOf(row, act, slider = true) {
  const label = labelOf(row), choices = choicesOf(row), name = row.key;
  let node;
  if (isSwitch(row)) {
    node = make('input', { type: 'checkbox', checked: row.value === 1, name, role: 'switch' });
    node.addEventListener('change', () => act(node.checked ? 1 : 0));
  } else if (choices) {
    const has = choices.some((c) => `${c}` === `${row.value}`);
    node = make('select', { name }, ...(has ? [] : [make('option', { value: row.value ?? '', textContent: row.value ?? W.none })]),
      ...choices.map((c) => make('option', { value: c, textContent: c })));
    node.value = row.value ?? '';
    node.addEventListener('change', () => act(typeof choices[0] === 'number' ? Number(node.value) : node.value));
  } else if (row.least !== undefined) {
    const slides = slider && row.most - row.least <= 100000 && row.needs === 'adjust';
    node = make('input', { type: slides ? 'range' : 'number', min: row.least, max: row.most, step: row.key === 'rate' ? (slides ? 1 : 'any') : row.step, name });
    node.value = row.value ?? (slides ? (typeof row.preset === 'number' ? row.preset : row.least) : '');
    node.placeholder = row.preset;
    node.addEventListener(slides ? 'input' : 'change', () => act(node.value === '' ? null : Number(node.value)));
  } else {
    node = make('input', { type: 'text', name, value: row.value ?? '', maxLength: 200, autocapitalize: 'none', spellcheck: false, placeholder: row.preset });
    node.addEventListener('change', () => act(node.value === '' ? null : node.value));
  }
  node.setAttribute('aria-label', `${label}${unitOf(row) ? `, ${unitOf(row)}` : ''}`);
  return node;
}

let open = null; // the feed whose controls are shown: rows by key, what is to be sent
const fieldOf = (key) => el('controls').querySelector(`[data-key="${key}"]`);

function fillField(field, row) {
  const input = inputOf(row, (value) => send(row.key, value)), out = make('output', {}), asked = row.why ? `${W.inForce(row.value)}: ${row.why}` : '';
  const shows = input.type === 'range' ? valueOf(row, row.value ?? row.preset ?? W.none) : Number(row.value) === 0 && W.zero[row.key] ? W.zero[row.key] : unitOf(row);
  const back = button('↺', () => send(row.key, null), { title: W.preset(row.preset), 'aria-label': W.presetOf(labelOf(row)), className: 'back' });
  back.disabled = isPreset(row);
  out.textContent = shows;
  if (input.type === 'range') input.addEventListener('input', () => { out.textContent = valueOf(row, input.value); });
  const line = make('label', {}, make('span', {}, labelOf(row)), input, out);
  field.replaceChildren(line, back, make('small', {}, [asked, W.notices[row.notice]].filter(Boolean).join(' · ')));
  field.classList.toggle('differs', Boolean(row.why));
  field.title = row.help;
}

function showControls(rows) {
  const groups = Object.entries(GROUPS).map(([name, keys]) => [name, keys.map((key) => rows.find((r) => r.key === key)).filter(Boolean)]);
  const known = new Set(Object.values(GROUPS).flat());
  groups.push(['feed', rows.filter((r) => !known.has(r.key))]);
  el('controls').replaceChildren(...groups.filter(([, list]) => list.length).map(([name, list]) => {
    const group = make('details', { open: name !== 'feed' }, make('summary', {}, W.groups[name]));
    for (const row of list) {
      const field = make('div', { className: 'field', 'data-key': row.key });
      fillField(field, row);
      group.append(field);
    }
    return group;
  }));
}

async function openControls(name) {
  const mine = open = { name, rows: [], waiting: {}, busy: false };
  if (!me.settings || (me.role !== 'adjust' && me.role !== 'administer')) return;
  try {
    const { json } = await ask('GET', 'settings/details');
    if (open !== mine) return;
    mine.rows = json.settings.filter((r) => r.section === 'feed' && r.name === name);
    showControls(mine.rows);
    say(el('kept'), json.kept ? '' : W.stays);
  } catch { mine.rows = []; } // who may only watch has none
  el('adjust').hidden = mine.rows.length === 0;
}

function closeControls() {
  open = null;
  el('controls').replaceChildren();
  el('adjust').hidden = true;
  stopComparing();
}

function send(key, value) {
  open.waiting[key] = value;
  if (!open.busy) flush(open);
}

async function flush(mine) {
  mine.busy = true;
  while (Object.keys(mine.waiting).length && open === mine) {
    const changes = mine.waiting;
    mine.waiting = {};
    try {
      const { json } = await patch({ feed: { [mine.name]: changes } });
      say(el('trouble'), '');
      const other = json.now.some((row) => ['codec', 'size'].includes(row.key));
      for (const row of json.now.filter((r) => r.name === mine.name)) {
        const field = fieldOf(row.key);
        if (field && !(row.key in mine.waiting) && !(field.contains(document.activeElement) && `${field.querySelector('input,select').value}` === `${row.value}`)) fillAgain(field, row);
      }
      if (other || Object.values(changes).includes(null)) await openControls(mine.name); // other ranges, other controls
    } catch (error) {
      say(el('trouble'), error.message);
      if (open === mine) { mine.waiting = {}; await openControls(mine.name); }
    }
    await new Promise((done) => { setTimeout(done, 120); });
  }
  mine.busy = false;
}

// The keyboard's focus stays where it is.
function fillAgain(field, row) {
  const had = field.contains(document.activeElement);
  fillField(field, row);
  if (had) field.querySelector('input,select').focus();
}

// A picture of this moment beside what comes.
function stopComparing() {
  el('before').hidden = true;
  el('frame').classList.remove('two');
  say(el('compare'), W.compare);
}
el('compare').addEventListener('click', () => {
  if (!el('before').hidden) { stopComparing(); return; }
  const img = el('big'), canvas = make('canvas', { width: img.naturalWidth, height: img.naturalHeight });
  canvas.getContext('2d').drawImage(img, 0, 0);
  const still = el('before').querySelector('img');
  still.src = canvas.toDataURL('image/jpeg', 0.9);
  still.alt = W.frozen(el('title').textContent);
  el('before').hidden = false;
  el('frame').classList.add('two');
  say(el('compare'), W.compareEnd);
});
