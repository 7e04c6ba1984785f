// Components stay small enough to be read at once: under 200 lines.
import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

const most = 199
let wrong = 0
for (const folder of ['src', 'src/components', 'src/pages']) {
  for (const name of readdirSync(folder).filter((n) => n.endsWith('.vue'))) {
    const lines = readFileSync(join(folder, name), 'utf8').trimEnd().split('\n').length
    if (lines > most) {
      console.error(`${folder}/${name} has ${lines} lines; at most ${most} are allowed`)
      wrong++
    }
  }
}
process.exitCode = wrong ? 1 : 0
