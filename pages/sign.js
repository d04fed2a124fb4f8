'use strict';
// Signing in without telling the password: an answer to the device's question (RFC 7616) is sent in its place. Pages that
// came without TLS are not given a browser's own hashes, so SHA-256 (FIPS 180-4) stands here.

const sha256 = (() => {
  const primes = [];
  for (let n = 2; primes.length < 64; n++) if (primes.every((p) => n % p)) primes.push(n);
  const fraction = (x) => Math.floor((x - Math.floor(x)) * 2 ** 32) >>> 0;
  const K = primes.map((p) => fraction(Math.cbrt(p)));
  const H = primes.slice(0, 8).map((p) => fraction(Math.sqrt(p)));
  const turn = (x, n) => x >>> n | x << 32 - n;
  const block = (h, view, at) => {
    const w = new Uint32Array(64);
    for (let i = 0; i < 64; i++) {
      if (i < 16) { w[i] = view.getUint32(at + 4 * i); continue; }
      const a = w[i - 15], b = w[i - 2];
      w[i] = w[i - 16] + (turn(a, 7) ^ turn(a, 18) ^ a >>> 3) + w[i - 7] + (turn(b, 17) ^ turn(b, 19) ^ b >>> 10);
    }
    const s = Uint32Array.from(h);
    for (let i = 0; i < 64; i++) {
      const one = s[7] + (turn(s[4], 6) ^ turn(s[4], 11) ^ turn(s[4], 25)) + (s[4] & s[5] ^ ~s[4] & s[6]) + K[i] + w[i];
      const two = (turn(s[0], 2) ^ turn(s[0], 13) ^ turn(s[0], 22)) + (s[0] & s[1] ^ s[0] & s[2] ^ s[1] & s[2]);
      s.copyWithin(1, 0, 7);
      s[4] += one;
      s[0] = one + two;
    }
    for (let i = 0; i < 8; i++) h[i] += s[i];
  };
  return (text) => {
    const bytes = new TextEncoder().encode(text);
    const padded = new Uint8Array(Math.ceil((bytes.length + 9) / 64) * 64);
    padded.set(bytes);
    padded[bytes.length] = 0x80;
    const view = new DataView(padded.buffer), h = Uint32Array.from(H);
    view.setUint32(padded.length - 4, bytes.length * 8);
    for (let at = 0; at < padded.length; at += 64) block(h, view, at);
    return [...h].map((x) => x.toString(16).padStart(8, '0')).join('');
  };
})();

// null: signed in; else why not, in a sentence.
async function signIn(name, password) {
  const { realm, nonce } = await (await fetch('who.json')).json();
  if (!nonce) return 'Nobody can sign in here: there are no users.';
  const cnonce = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, '0')).join('');
  const response = sha256([sha256(`${name}:${realm}:${password}`), nonce, '00000001', cnonce, 'auth', sha256('POST:/sign-in')].join(':'));
  const safe = name.replace(/["\\]/g, '');
  const answer = await fetch('sign-in', { method: 'POST', headers: { Authorization: `Digest username="${safe}", realm="${realm}", nonce="${nonce}", `
    + `uri="/sign-in", algorithm=SHA-256, response="${response}", qop=auth, nc=00000001, cnonce="${cnonce}"` } });
  if (answer.ok) return null;
  if (answer.status === 429) return 'Too many wrong tries from here. Wait a minute, then try again.';
  return 'That name and password do not belong together. Look for capitals, and try again.';
}
