// Fails when the first load or a route weighs more than its budget (gzip). A
// route weighs all that is fetched when it is gone to after the first load.
import { readFileSync, statSync } from 'node:fs'

const FIRST = 200_000
const ROUTE = 150_000
const manifest = JSON.parse(readFileSync('dist/manifest.json', 'utf8'))
const size = (file) => statSync(`dist/${file}.gz`).size
const sum = (files) => [...files].reduce((total, file) => total + size(file), 0)

/** The files that a chunk needs, with all that it imports. */
function files(key, seen = new Set()) {
  const chunk = manifest[key]
  if (seen.has(chunk.file)) return seen
  seen.add(chunk.file)
  for (const css of chunk.css ?? []) seen.add(css)
  for (const key of chunk.imports ?? []) files(key, seen)
  return seen
}

const entry = Object.keys(manifest).find((key) => manifest[key].isEntry)
const first = files(entry)
let over = sum(first) > FIRST
console.log(`${String(sum(first)).padStart(7)} of ${FIRST} first load`)
const routes = Object.keys(manifest).filter((key) => manifest[key].isDynamicEntry && !first.has(manifest[key].file))
for (const key of routes.sort()) {
  const bytes = sum([...files(key)].filter((file) => !first.has(file)))
  over ||= bytes > ROUTE
  console.log(`${String(bytes).padStart(7)} of ${ROUTE} ${key}`)
}
if (over) {
  console.error('over budget')
  process.exit(1)
}
