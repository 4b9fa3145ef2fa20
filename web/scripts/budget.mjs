// Fails when the first load or a route weighs more than its budget (gzip).
import { readdirSync, readFileSync, statSync } from 'node:fs'

const FIRST = 200_000
const ROUTE = 150_000
const html = readFileSync('dist/index.html', 'utf8')
const size = (name) => statSync(`dist/assets/${name}.gz`).size
const scripts = readdirSync('dist/assets').filter((n) => n.endsWith('.js') || n.endsWith('.css'))
const first = scripts.filter((n) => html.includes(n))
const total = first.reduce((sum, n) => sum + size(n), 0)
console.log(`first load ${total} bytes gzip of ${FIRST} (${first.join(', ')})`)
let failed = total > FIRST
for (const name of scripts.filter((n) => !first.includes(n))) {
  const bytes = size(name)
  if (bytes > ROUTE) failed = true
  console.log(`  ${String(bytes).padStart(7)} of ${ROUTE} ${name}`)
}
if (failed) {
  console.error('over budget')
  process.exit(1)
}
