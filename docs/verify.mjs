// Checks archives of published reports as docs/verify.md describes them: container, digests,
// signature, chain. It shares nothing with the program that made them. No dependencies.
//
//   node docs/verify.mjs KEYS.pem REPORT.zip…
import { createHash, createPublicKey, verify } from 'node:crypto'
import { readFileSync } from 'node:fs'

const [keyFile, ...files] = process.argv.slice(2)
if (!keyFile || files.length === 0) {
  console.error('usage: node verify.mjs KEYS.pem REPORT.zip…')
  process.exit(2)
}
const sha256 = (bytes) => createHash('sha256').update(bytes).digest('hex')
/** A text in one line, with what steers a terminal or turns what is read written out. */
const plain = (text) => String(text).replace(/[\p{C}\u2028\u2029]/gu, (c) => `\\u{${c.codePointAt(0).toString(16)}}`)
let wrong = 0
const bad = (what) => {
  wrong++
  console.log(`  WRONG  ${plain(what)}`)
}
const good = (what) => console.log(`  ok     ${plain(what)}`)

/** Public keys by id: the first 32 hexadecimal digits of the SHA-256 of their 32 bytes. */
function keysOf(text) {
  const keys = new Map()
  for (const pem of text.match(/-----BEGIN PUBLIC KEY-----[^-]+-----END PUBLIC KEY-----/g) ?? []) {
    const key = createPublicKey(pem)
    const raw = key.export({ type: 'spki', format: 'der' }).subarray(-32)
    keys.set(sha256(raw).slice(0, 32), key)
  }
  return keys
}

/** CRC-32 (ISO 3309), as zip has it. */
function crc32(bytes) {
  let c = ~0
  for (const b of bytes) {
    c ^= b
    for (let k = 0; k < 8; k++) c = c & 1 ? (c >>> 1) ^ 0xedb88320 : c >>> 1
  }
  return ~c >>> 0
}

/** The entries of a zip that is nothing but stored entries one after the other, its directory and its end. */
function entriesOf(zip) {
  const end = zip.length - 22
  if (end < 0 || zip.readUInt32LE(end) !== 0x06054b50) throw new Error('no zip, or something follows its end')
  const [count, size, start] = [zip.readUInt16LE(end + 10), zip.readUInt32LE(end + 12), zip.readUInt32LE(end + 16)]
  const none = (from, to) => zip.subarray(from, to).every((b) => b === 0)
  if (!none(end + 4, end + 8) || zip.readUInt16LE(end + 8) !== count || !none(end + 20, end + 22)) throw new Error('its end says more than an archive\'s says')
  if (start + size !== end) throw new Error('something lies between the directory and its end')
  const out = []
  let at = 0
  let entry = start
  for (let i = 0; i < count; i++) {
    if (zip.readUInt32LE(entry) !== 0x02014b50 || zip.readUInt32LE(at) !== 0x04034b50) throw new Error(`entry ${i + 1} is not where it belongs`)
    const [name, extra, comment] = [zip.readUInt16LE(entry + 28), zip.readUInt16LE(entry + 30), zip.readUInt16LE(entry + 32)]
    const bytes = zip.readUInt32LE(entry + 24)
    const called = zip.toString('utf8', entry + 46, entry + 46 + name)
    // Method, time, CRC and sizes stand in both headers; the CRC and the sizes may not differ.
    if (extra || comment || zip.readUInt32LE(entry + 42) !== at || zip.readUInt16LE(entry + 10) !== 0 || zip.readUInt32LE(entry + 12) !== 0) throw new Error(`entry ${i + 1} says more than an archive's says`)
    // Versions, flags, method and time before the CRC, disk and attributes behind the names' lengths: there are none.
    if (!none(entry + 4, entry + 16) || !none(entry + 34, entry + 42) || !none(at + 4, at + 14) || zip.readUInt32LE(entry + 20) !== bytes) throw new Error(`entry ${i + 1} says more than an archive's says`)
    if (!zip.subarray(entry + 8, entry + 32).equals(zip.subarray(at + 6, at + 30)) || !zip.subarray(entry + 46, entry + 46 + name).equals(zip.subarray(at + 30, at + 30 + name))) throw new Error(`the two headers of entry ${i + 1} differ`)
    const content = zip.subarray(at + 30 + name, at + 30 + name + bytes)
    if (crc32(content) !== zip.readUInt32LE(entry + 16)) throw new Error(`the CRC of entry ${i + 1} is another`)
    if (out.some(([before]) => before === called)) throw new Error(`entry ${i + 1} has the name of one before it`)
    out.push([called, content])
    at += 30 + name + bytes
    entry += 46 + name
  }
  if (at !== start || entry !== end) throw new Error('something lies beside the entries')
  return out
}

/** The manifest, where it is written as docs/verify.md says: its members, in their order, each of its kind. */
function manifestOf(encoded) {
  const text = (v) => typeof v === 'string'
  const whole = (v) => Number.isSafeInteger(v)
  const link = (v) => v === null || (whole(v.number) && text(v.sha256))
  const kinds = {
    format: (v) => v === 'kestite-manifest/1', organisation: text, customer: text, customer_name: text, number: whole, agreement: text, name: text, period: text, report: whole,
    published_at: (v) => text(v) && /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z$/.test(v) && !Number.isNaN(Date.parse(v)), published_by: text, evidence: text,
    files: (v) => Array.isArray(v) && v.every((f) => text(f?.name) && whole(f.bytes) && text(f.sha256)), previous: link, ledger: link, key: text,
  }
  try {
    const m = JSON.parse(encoded.toString('utf8'))
    const inOrder = (of, names) => of && Object.fromEntries(names.map((n) => [n, of[n]]))
    const again = { ...inOrder(m, Object.keys(kinds)), files: m.files.map((f) => inOrder(f, ['name', 'bytes', 'sha256'])), previous: inOrder(m.previous, ['number', 'sha256']), ledger: inOrder(m.ledger, ['number', 'sha256']) }
    // <, > and & and the line ends of Unicode are written as \u003c is.
    const written = JSON.stringify(again, null, 1).replace(/[<>&\u2028\u2029]/g, (c) => `\\u${c.charCodeAt(0).toString(16).padStart(4, '0')}`) + '\n'
    if (Object.entries(kinds).every(([name, fits]) => fits(m[name])) && Buffer.from(written).equals(encoded)) return m
  } catch {
    // it is none
  }
  throw new Error('its manifest is not one of kestite-manifest/1, written as that is')
}

/** The bytes of a signature; undefined where it is not written as one is. */
function signatureOf(entry) {
  const text = entry.toString('latin1')
  const bytes = Buffer.from(text, 'base64')
  return bytes.length === 64 && `${bytes.toString('base64')}\n` === text ? bytes : undefined
}

const keys = keysOf(readFileSync(keyFile, 'utf8'))
const chains = new Map()
for (const file of files) {
  console.log(plain(file))
  try {
    const entries = entriesOf(readFileSync(file))
    const [first, second] = entries
    if (first?.[0] !== 'manifest.json') throw new Error('it does not begin with manifest.json')
    const encoded = first[1]
    const m = manifestOf(encoded)
    const signed = second?.[0] === 'signature'
    const rest = entries.slice(signed ? 2 : 1)
    // Who signed it is judged before anything that it says is shown.
    const text = Buffer.concat([Buffer.from('kestite-manifest/1\n'), encoded])
    const signature = signed && signatureOf(second[1])
    if (!signed || !m.key) bad('it is not signed')
    else if (!keys.has(m.key)) bad(`it is signed with the key "${m.key}", which was not given`)
    else if (!signature || !verify(null, text, keys.get(m.key), signature)) bad('the signature is not that of the key on this manifest')
    else good(`signed with the key ${m.key}`)
    const names = m.files.map((f) => f.name)
    if (names.some((n, i) => n === 'manifest.json' || n === 'signature' || n.includes('/') || names.indexOf(n) !== i)) throw new Error('the manifest names what cannot be')
    if (rest.length !== names.length || rest.some(([name], i) => name !== names[i])) throw new Error('its files are not those of the manifest, in that order')
    const other = rest.filter(([, content], i) => content.length !== m.files[i].bytes || sha256(content) !== m.files[i].sha256)
    if (other.length > 0) throw new Error(`${other.map(([name]) => `"${name}"`).join(', ')}: the digest is another`)
    good(`${m.name}, ${m.period}, number ${m.number}: container and ${rest.length} digests`)
    const chain = `${m.organisation}\0${m.customer}`
    chains.set(chain, [...(chains.get(chain) ?? []), { m, sha256: sha256(encoded) }])
  } catch (e) {
    bad(e.message)
  }
}
for (const list of chains.values()) {
  list.sort((a, b) => a.m.number - b.m.number)
  list.forEach(({ m, sha256: own }, i) => {
    const before = list[i - 1]
    if (m.number < 1 || (m.number === 1) !== (m.previous === null) || (m.previous && m.previous.number !== m.number - 1)) bad(`number ${m.number} names what cannot be before it`)
    else if (before?.m.number === m.number) own === before.sha256 || bad(`two reports have the number ${m.number}`)
    else if (m.previous && before?.m.number !== m.number - 1) console.log(`  note   number ${m.number - 1}, the one before number ${m.number}, was not given`)
    else if (m.previous && before.sha256 !== m.previous.sha256) bad(`number ${m.number} does not follow from number ${before.m.number}`)
  })
}
process.exit(wrong ? 1 : 0)
