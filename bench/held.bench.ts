/** One row that does not fit among 20,000, into real targets: what finding and holding it costs, in landings of them all. */
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import { singleStream, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { DeletionGuard } from '@tide/core/apply/deletion-guard'
import type { Session } from '@tide/connectors/contract/session'
import { duckdb } from '@tide/connectors/duckdb/connector'
import { mariadb } from '@tide/connectors/mariadb/connector'
import { postgres } from '@tide/connectors/postgres/connector'
import { tableStep } from '@tide/core/plan/steps'
import type { Column } from '@tide/core/records/column'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { firstCheckpoint } from '../packages/engine/src/shapes/replicate/checkpoint.ts'
import { Holding } from '../packages/engine/src/shapes/replicate/holding.ts'
import { landStates } from '../packages/engine/src/shapes/replicate/land-states.ts'
import { standingState } from '../packages/engine/src/shapes/replicate/shapes.ts'
import { workingLane } from '../packages/engine/src/shapes/replicate/lanes.ts'
import { MemoryHeld } from '../packages/engine/tests/memory-held.ts'
import { say } from './bed.ts'

const ROWS = 20_000
const ROUNDS = 3
/** A misfit costs at most so many landings. */
const MOST = 20 * Math.log2(ROWS)

const reads: Column[] = [
  { name: 'id', type: { kind: 'int', bits: 32, signed: true }, nativeType: 'integer', nullable: false },
  { name: 'note', type: { kind: 'utf8' }, nativeType: 'text', nullable: true },
  {
    name: 'price',
    type: { kind: 'decimal', precision: 6, scale: 2 },
    nativeType: 'numeric(6,2)',
    nullable: true,
  },
]

async function measure(name: string, session: Session, schema: string): Promise<number> {
  const target = session.target!
  const writes = reads.map((column): WrittenColumn => ({
    ...column,
    nativeType: target.profile.typeOf({ ...column, sameKind: false, keyParts: column.name === 'id' ? 1 : 0 })
      .native,
    value: { from: 'column', column: column.name },
  }))
  const lane: Lane = {
    source: { namespace: 's', name: 't' },
    target: { namespace: schema, name: 't' },
    reads,
    identity: ['id'],
    writes,
    key: ['id'],
    scope: null,
    rows: ROWS,
    rowsExact: true,
    bytes: 0,
  }
  let checkpoint: Checkpoint = firstCheckpoint(
    'bench',
    1,
    { kind: 'none', incarnation: '', at: '' },
    { lanes: [lane], plan: 0 },
    0,
  )
  await target.prepare(
    [
      ...(target.profile.noSchema?.name === schema ? [] : [{ step: 'create schema', schema } as const]),
      tableStep(lane, 'create table'),
    ],
    checkpoint,
  )
  const working = workingLane(lane, 0, { origin: '', hash: text => text })
  const clock = () => new Date().toISOString()
  const repository = new MemoryHeld()
  const holding = await Holding.open({ repository, pipeline: 'bench', lanes: [working], clock })
  const guard = new DeletionGuard(100, Date.now)
  const parts = {
    target,
    clock,
    holding,
    guard,
    rowsThere: () => null,
    fetchRow: () => Promise.reject(new Error('nothing is fetched')),
  }
  let batch = 0
  const land = async (bad: boolean) => {
    const transaction = { id: '', start: String(batch++), at: clock(), events: [] }
    const states = Array.from({ length: ROWS }, (_, i) => {
      const id = String(i)
      const price = bad && i === 13_577 ? '12345.00' : '12.50'
      return standingState([id], [id, `note ${batch} of ${i}`, price], transaction)
    })
    const began = performance.now()
    await landStates(working, states, parts, (_, write, counted) => {
      checkpoint = { ...checkpoint, streams: [counted(singleStream(checkpoint))] }
      return write(checkpoint)
    })
    return (performance.now() - began) / 1000
  }
  await land(false)
  const median = (times: number[]) => times.sort((a, b) => a - b)[times.length >> 1]!
  const [plain, held, after]: [number[], number[], number[]] = [[], [], []]
  for (let round = 0; round < ROUNDS; round++) {
    plain.push(await land(false))
    held.push(await land(true))
    after.push(await land(false))
  }
  const kept = repository.records.filter(({ identity }) => identity[0] === '13577').length
  if (kept !== ROUNDS || repository.records.length !== ROUNDS)
    throw new Error(`${repository.records.length} were held where ${ROUNDS} should be`)
  const [whole, one, next] = [median(plain), median(held), median(after)]
  const landings = one / whole
  say(
    `${name}: ${ROWS} rows land in ${whole.toFixed(3)} s; with one that does not fit in ${one.toFixed(3)} s, as long as ${landings.toFixed(1)} landings (at most ${MOST.toFixed(0)}); the next in ${next.toFixed(3)} s`,
  )
  return landings
}

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const [real, maria] = [await startRealPostgres(), await startRealMariadb()]
const sessions: [string, Session, string][] = [
  ['DuckDB', await duckdb.open({ path: join(folder, 'w.duckdb') }), 'w'],
  ['PostgreSQL', await postgres.open(real.config), 'w'],
  ['MariaDB', await mariadb.open(maria.config), 'w'],
]
try {
  const landings: number[] = []
  for (const one of sessions) landings.push(await measure(...one))
  const worst = Math.max(...landings)
  say(
    `held: ratio ${(MOST / worst).toFixed(2)} (ours ${worst.toFixed(1)} landings, limit ${MOST.toFixed(0)})`,
  )
} finally {
  for (const [, session] of sessions) await session.close()
  await Promise.all([real.close(), maria.close()])
  rmSync(folder, { recursive: true, force: true })
}
