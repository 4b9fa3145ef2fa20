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
let wrong = 0
const bad = (what) => {
  wrong++
  console.log(`  WRONG  ${what}`)
}
const good = (what) => console.log(`  ok     ${what}`)

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
    if (extra || comment || zip.readUInt32LE(entry + 42) !== at || zip.readUInt16LE(entry + 10) !== 0 || zip.readUInt32LE(entry + 12) !== 0) throw new Error(`${called}: its entry says more than an archive's says`)
    if (!zip.subarray(entry + 8, entry + 28).equals(zip.subarray(at + 6, at + 26)) || !zip.subarray(entry + 46, entry + 46 + name).equals(zip.subarray(at + 30, at + 30 + name))) throw new Error(`${called}: its two headers differ`)
    const content = zip.subarray(at + 30 + name, at + 30 + name + bytes)
    if (crc32(content) !== zip.readUInt32LE(entry + 16)) throw new Error(`${called}: its CRC is another`)
    out.push([called, content])
    at += 30 + name + bytes
    entry += 46 + name
  }
  if (at !== start || entry !== end) throw new Error('something lies beside the entries')
  return out
}

const keys = keysOf(readFileSync(keyFile, 'utf8'))
const chains = new Map()
for (const file of files) {
  console.log(file)
  try {
    const entries = entriesOf(readFileSync(file))
    const [first, second] = entries
    if (first?.[0] !== 'manifest.json') throw new Error('it does not begin with manifest.json')
    const encoded = first[1]
    const m = JSON.parse(encoded.toString('utf8'))
    if (m.format !== 'kestite-manifest/1') throw new Error(`the format ${m.format} is not known here`)
    const signed = second?.[0] === 'signature'
    const rest = entries.slice(signed ? 2 : 1)
    if (rest.map((e) => e[0]).join('\n') !== m.files.map((f) => f.name).join('\n')) throw new Error('its files are not those of the manifest, in that order')
    rest.forEach(([name, content], i) => {
      if (content.length !== m.files[i].bytes || sha256(content) !== m.files[i].sha256) bad(`${name}: its digest is another`)
    })
    good(`${m.name}, ${m.period}, number ${m.number}: container and ${rest.length} digests`)
    const text = Buffer.concat([Buffer.from('kestite-manifest/1\n'), encoded])
    if (!signed || !m.key) bad('it is not signed')
    else if (!keys.has(m.key)) bad(`it is signed with the key ${m.key}, which was not given`)
    else if (!verify(null, text, keys.get(m.key), Buffer.from(second[1].toString('ascii'), 'base64'))) bad('the signature is not that of the key on this manifest')
    else good(`signed with the key ${m.key}`)
    const chain = `${m.organisation}\n${m.customer}`
    chains.set(chain, [...(chains.get(chain) ?? []), { m, sha256: sha256(encoded) }])
  } catch (e) {
    bad(e.message)
  }
}
for (const list of chains.values()) {
  list.sort((a, b) => a.m.number - b.m.number)
  list.forEach(({ m }, i) => {
    const before = list[i - 1]
    if ((m.number === 1) !== (m.previous === null) || (m.previous && m.previous.number !== m.number - 1)) bad(`number ${m.number} names what cannot be before it`)
    else if (before && before.m.number === m.number) bad(`two reports have the number ${m.number}`)
    else if (before && before.m.number === m.number - 1 && before.sha256 !== m.previous.sha256) bad(`number ${m.number} does not follow from number ${before.m.number}`)
    else if (m.previous && before?.m.number !== m.number - 1) console.log(`  note   number ${m.number - 1}, the one before number ${m.number}, was not given`)
  })
}
process.exit(wrong ? 1 : 0)
