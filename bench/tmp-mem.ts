import { comparedLine } from '@tide/core/send/compared-line'
import { lease } from '@tide/connectors/duckdb/instance'
import { FileSentStates } from '@tide/connectors/sent/sent-states'
import { createReadStream, createWriteStream, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs'
import { once } from 'node:events'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
const PAIRS = ['name', 'email', 'tier', 'orders', 'spent'].map(field => ({ field, from: { column: field } }))
const valuesOf = (i: number, changed: boolean) => ({ name: `Garden club number ${i}`, email: `club${i}@example.org`, tier: ['seed', 'bloom', 'evergreen'][i % 3]!, orders: String(changed ? i + 1 : i), spent: `${i % 10_000}.50` })
async function fileOf(path: string, rows: number) {
  const out = createWriteStream(path)
  for (let i = 0; i < rows; i++) {
    const mapped = { key: [`GC-${i}`], values: valuesOf(i, i % 100 === 0), matches: [], problem: null }
    if (!out.write(comparedLine(i, mapped as never, PAIRS as never))) await once(out, 'drain')
  }
  out.end(); await once(out, 'finish')
}
function mem(): string {
  const own = String(process.pid)
  return readdirSync('/proc').flatMap(pid => { if (!/^\d+$/.test(pid)) return []
    try { const s = readFileSync(`/proc/${pid}/status`, 'utf8'); if (/PPid:\s*(\d+)/.exec(s)?.[1] !== own) return []
      if (!s.includes('VmHWM')) return []
      return [`peak ${Math.round(Number(/VmHWM:\s*(\d+)/.exec(s)![1]) / 1024)} now ${Math.round(Number(/VmRSS:\s*(\d+)/.exec(s)![1]) / 1024)}`] } catch { return [] } }).join(' | ')
}
const rows = Number(process.argv[2])
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-difference-'))
const file = join(folder, 'result.csv'), states = new FileSentStates(join(folder, 'sent'))
await fileOf(file, rows)
const state = await states.open('bench', 'here')
const held = await lease(join(folder, 'sent', readdirSync(join(folder, 'sent')).find(n => n.endsWith('.duckdb'))!))
const connection = await held.connect()
const json = `'{"name":"Garden club number ' || i || '","email":"club' || i || '@example.org","tier":"' || ['seed', 'bloom', 'evergreen'][i % 3 + 1] || '","orders":"' || i || '","spent":"' || (i % 10000) || '.50"}'`
await connection.run(`INSERT INTO sent SELECT '["GC-' || i || '"]', 'rec' || i, ${json}, ${json}, '2026-11-30' FROM range(${rows}) r(i)`)
console.log('opened', mem())
await state.keepRun('first', PAIRS.map(({ field }) => field))
await held.disconnect(connection); await held.release(); await state.close()
const again = await states.open('bench', 'here')
for (let round = 0; round < 2; round++) {
  const began = performance.now()
  const compared = await again.compare(createReadStream(file), { matches: 0, fields: PAIRS.map(({ field }) => field) })
  console.log('compared', mem(), performance.now() - began)
  await compared.decide({ may: 'make identical' } as never)
  console.log('decided', mem(), performance.now() - began)
  await compared.close()
}
await again.close(); rmSync(folder, { recursive: true, force: true }); process.exit(0)
