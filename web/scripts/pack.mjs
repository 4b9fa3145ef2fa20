// Writes a .gz beside every built text file, for the server to send as it is.
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { gzipSync } from 'node:zlib'

const walk = (dir) => readdirSync(dir).flatMap((n) => (statSync(join(dir, n)).isDirectory() ? walk(join(dir, n)) : [join(dir, n)]))
for (const file of walk('dist').filter((f) => /\.(js|css|html|svg)$/.test(f))) {
  writeFileSync(`${file}.gz`, gzipSync(readFileSync(file), { level: 9 }))
}
writeFileSync('dist/.keep', '')
