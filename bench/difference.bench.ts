/** What differs between 1,000,000 rows and what was sent of them, 1 % of them changed; limit: one join of the same by hand, in the same DuckDB. */
import { comparedLine } from '@tide/core/send/compared-line'
import type { FieldPair } from '@tide/core/definition/send'
import { lease } from '@tide/connectors/duckdb/instance'
import { FileSentStates } from '@tide/connectors/sent/sent-states'
import { createReadStream, createWriteStream, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs'
import { once } from 'node:events'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { say } from './bed.ts'

const ROUNDS = 3
const PAIRS: FieldPair[] = ['name', 'email', 'tier', 'orders', 'spent'].map(field => ({
  field,
  from: { column: field },
}))

const valuesOf = (i: number, changed: boolean) => ({
  name: `Garden club number ${i}`,
  email: `club${i}@example.org`,
  tier: ['seed', 'bloom', 'evergreen'][i % 3]!,
  orders: String(changed ? i + 1 : i),
  spent: `${i % 10_000}.50`,
})

/** One in a hundred has changed since. */
async function fileOf(path: string, rows: number): Promise<void> {
  const out = createWriteStream(path)
  for (let i = 0; i < rows; i++) {
    const mapped = { key: [`GC-${i}`], values: valuesOf(i, i % 100 === 0), matches: [], problem: null }
    if (!out.write(comparedLine(i, mapped, PAIRS))) await once(out, 'drain')
  }
  out.end()
  await once(out, 'finish')
}

/** Most memory of a child process of ours that was ever in use, in MB. */
function childrenPeak(): number {
  const own = String(process.pid)
  return Math.max(
    ...readdirSync('/proc').flatMap(pid => {
      if (!/^\d+$/.test(pid)) return []
      try {
        const status = readFileSync(`/proc/${pid}/status`, 'utf8')
        if (/PPid:\s*(\d+)/.exec(status)?.[1] !== own) return []
        return [Number(/VmHWM:\s*(\d+)/.exec(status)?.[1] ?? 0) / 1024]
      } catch {
        return []
      }
    }),
    0,
  )
}

async function measure(rows: number): Promise<{ ours: number; limit: number; peak: number }> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-difference-'))
  const [file, states] = [join(folder, 'result.csv'), new FileSentStates(join(folder, 'sent'))]
  await fileOf(file, rows)
  const state = await states.open('bench', 'here')
  const held = await lease(
    join(
      folder,
      'sent',
      readdirSync(join(folder, 'sent')).find(name => name.endsWith('.duckdb'))!,
    ),
  )
  const connection = await held.connect()
  try {
    const json = `'{"name":"Garden club number ' || i || '","email":"club' || i || '@example.org","tier":"' || ['seed', 'bloom', 'evergreen'][i % 3 + 1] || '","orders":"' || i || '","spent":"' || (i % 10000) || '.50"}'`
    await connection.run(
      `INSERT INTO sent SELECT '["GC-' || i || '"]', 'rec' || i, ${json}, ${json}, '2026-11-30' FROM range(${rows}) r(i)`,
    )
    await state.keepRun(
      'first',
      PAIRS.map(({ field }) => field),
    )
    const staging = await held.staging()
    // The same file, where SQL may read it.
    await copyTo(file, join(staging, 'limit.csv'))
    let [ours, limit] = [Infinity, Infinity]
    for (let round = 0; round < ROUNDS; round++) {
      let began = performance.now()
      const compared = await state.compare(createReadStream(file), {
        matches: 0,
        fields: PAIRS.map(({ field }) => field),
      })
      const counts = await compared.decide({ may: 'make identical' })
      ours = Math.min(ours, (performance.now() - began) / 1000)
      await compared.close()
      if (counts.change !== rows / 100 || counts.unchanged !== rows - rows / 100)
        throw new Error(JSON.stringify(counts))
      began = performance.now()
      const [[differ]] = (await connection.ask(
        `SELECT count(*)::INT FROM read_csv('${join(staging, 'limit.csv')}', header = false, columns = {n: 'BIGINT', key: 'VARCHAR', vals: 'VARCHAR', firsts: 'VARCHAR', f: 'VARCHAR', r: 'VARCHAR', m: 'VARCHAR'}, delim = ',', quote = '"', escape = '"', auto_detect = false) r
         FULL JOIN sent s USING (key) WHERE r.vals IS DISTINCT FROM s.told`,
      )) as [[number]]
      limit = Math.min(limit, (performance.now() - began) / 1000)
      if (differ !== rows / 100) throw new Error(`${differ} differ`)
    }
    return { ours, limit, peak: childrenPeak() }
  } finally {
    await held.disconnect(connection)
    await held.release()
    await state.close()
    rmSync(folder, { recursive: true, force: true })
  }
}

async function copyTo(from: string, to: string): Promise<void> {
  const out = createWriteStream(to)
  createReadStream(from).pipe(out)
  await once(out, 'finish')
}

const one = await measure(1_000_000)
say(
  `1,000,000 rows: ours ${one.ours.toFixed(2)} s, by hand ${one.limit.toFixed(2)} s, at most ${Math.round(one.peak)} MB`,
)
const five = await measure(5_000_000)
say(
  `5,000,000 rows: ours ${five.ours.toFixed(2)} s, by hand ${five.limit.toFixed(2)} s, at most ${Math.round(five.peak)} MB`,
)
say(
  `difference: ratio ${(one.ours / one.limit).toFixed(2)} (ours ${one.ours.toFixed(2)} s, limit ${one.limit.toFixed(2)} s; to reach: at most 3; memory ${Math.round(one.peak)} MB, with five times the rows ${Math.round(five.peak)} MB)`,
)
process.exit(0)
