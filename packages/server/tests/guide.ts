/** The reading loop of the guide to change files, run as anybody would: in a process of its own. */
import { execFileSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

const guide = readFileSync(fileURLToPath(new URL('../../../docs/change-files.md', import.meta.url)), 'utf8')
const loop = /```js\n([\s\S]*?)```/.exec(guide)![1]!

type Rows = Record<string, unknown>

/** The table that a folder of change files makes, by its first key column; without the key and `seen`. */
export function readByTheGuide(folder: string): Record<string, Rows> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-guide-'))
  try {
    const script = join(place, 'read-changes.mjs')
    writeFileSync(script, loop)
    const table = join(place, 'table.json')
    execFileSync(process.execPath, [script, folder, table])
    const { rows } = JSON.parse(readFileSync(table, 'utf8')) as { rows: Record<string, Rows> }
    return Object.fromEntries(Object.values(rows).map(({ id, seen: _seen, ...row }) => [String(id), row]))
  } finally {
    rmSync(place, { recursive: true, force: true })
  }
}
