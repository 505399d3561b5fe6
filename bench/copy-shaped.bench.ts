/** A table of 8 mixed columns copied from PostgreSQL into DuckDB: shaped by a mask, a scope and five expressions, against the same copy unshaped. */
import type { Definition } from '@tide/core/definition/definition'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { copyOurs, sayCopy } from './copying.ts'
import { fillMixed } from './copy-pg.ts'

const ROWS = Number(process.env.ROWS ?? 3_000_000)
const TO_REACH = 0.6

const add = (name: string, compute: string) => ({ like: '*.mixed', does: { add: name, compute } })
const SHAPING: Partial<Definition> = {
  columns: [
    { like: '*.code', does: { mask: 'hash' } },
    add('gross', 'orNull(amount * 1.2)'),
    add('shown', 'upper(trim(coalesce(label, "none")))'),
    add('month', 'startOf(at, "month")'),
    add('row_no', 'replaceMatches(coalesce(label, ""), "^.*, ", "")'),
    add('size', 'coalesce(flag, false) && coalesce(amount, 0.0) >= 500 ? "large" : "small"'),
  ],
  scopes: [{ like: '*', where: { column: 'id', op: 'is at least', value: '1' } }],
}

const source = await startRealPostgres()
await fillMixed(source, ROWS)
const from = { kind: 'postgres', config: { ...source.config, method: 'log' }, namespace: 'public' }
const copy = async (shaping: Partial<Definition>) => {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
  const measured = await copyOurs(
    folder,
    from,
    { kind: 'duckdb', config: { path: join(folder, 'w.duckdb') } },
    ROWS,
    shaping,
  )
  rmSync(folder, { recursive: true, force: true })
  return measured
}
const unshaped = await copy({})
const shaped = await copy(SHAPING)
await source.close()
sayCopy('copy-shaped', ROWS, shaped, unshaped, TO_REACH)
