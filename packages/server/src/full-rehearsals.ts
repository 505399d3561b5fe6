/** Rehearsals with all rows: read at the sources, shaped as they would be copied, and counted. Nothing is written. */
import type { FullRehearsal, SharedKeys } from '@tide/core/api/rehearsal'
import { asFailure, Failure } from '@tide/core/failure'
import type { Lane } from '@tide/core/plan/lane'
import { datasetId } from '@tide/core/records/dataset'
import { keyOf, keyText, type Row } from '@tide/core/records/value'
import { toldKey } from '@tide/core/shape/misfit'
import { LaneRehearsal, type HoldsOf } from '@tide/core/shape/rehearsal'
import { keyedHash } from '@tide/engine/keyed-hash'
import type { Questions } from './questions.ts'
import { scanOf } from './scan.ts'
import type { SessionCache } from './sessions.ts'

const KEPT = 20
const BATCH_ROWS = 1_000
/** Of a table, so many keys are held against those of other origins. */
const KEYS = 500_000
const READ_MS = 4 * 3_600_000
/** Nobody has asked for so long: whoever wanted to know has left. */
const ABANDONED_MS = 60_000

export interface ToRehearse {
  lanes: readonly Lane[]
  /** The connection that a lane is read through. */
  connectionOf(lane: Lane): string
  holdsOf: HoldsOf | undefined
}

interface Going {
  ending: AbortController
  seenAt: number
  state: FullRehearsal['state']
  problem: FullRehearsal['problem']
  lanes: { lane: Lane; rehearsal: LaneRehearsal; read: boolean; shared: SharedKeys | null }[]
  /** By table, the origin of each key that was read. */
  keys: Map<string, Map<string, string>>
}

export class FullRehearsals {
  private readonly all = new Map<string, Going>()
  private readonly sessions: Pick<SessionCache, 'use'>
  private readonly questions: Questions
  private readonly maskKey: Uint8Array

  constructor(sessions: Pick<SessionCache, 'use'>, questions: Questions, maskKey: Uint8Array) {
    this.sessions = sessions
    this.questions = questions
    this.maskKey = maskKey
  }

  begin(id: string, { lanes, connectionOf, holdsOf }: ToRehearse): FullRehearsal {
    const landedAt = new Date().toISOString()
    const hash = keyedHash(this.maskKey)
    const going: Going = {
      ending: new AbortController(),
      seenAt: Date.now(),
      state: 'reading',
      problem: null,
      lanes: lanes.map(lane => ({
        lane,
        rehearsal: new LaneRehearsal(lane, { origin: lane.origin ?? '', hash }, holdsOf, landedAt),
        read: false,
        shared: null,
      })),
      keys: new Map(),
    }
    this.all.set(id, going)
    const over = [...this.all].find(([, { state }]) => state !== 'reading')
    if (this.all.size > KEPT && over) this.all.delete(over[0])
    // Whatever becomes of it, the keys are of no more use.
    const reading = this.read(going, connectionOf).finally(() => going.keys.clear())
    reading.then(
      () => (going.state = going.ending.signal.aborted ? 'ended' : 'done'),
      (thrown: unknown) => {
        going.state = going.ending.signal.aborted ? 'ended' : 'failed'
        const { message, remedy } = asFailure(thrown)
        if (going.state === 'failed') going.problem = { message, remedy }
      },
    )
    return this.of(id)
  }

  of(id: string): FullRehearsal {
    const going = this.all.get(id)
    if (!going) throw new Failure('refused', `There is no rehearsal ${id} any more.`, 'Begin another.')
    going.seenAt = Date.now()
    const { state, problem, lanes } = going
    return {
      id,
      state,
      problem,
      lanes: lanes.map(({ lane: { source, origin = '', rows }, rehearsal, read, shared }) => ({
        source,
        origin,
        expected: rows,
        read,
        shared,
        ...rehearsal.result,
      })),
    }
  }

  end(id: string): void {
    this.all.get(id)?.ending.abort()
  }

  private async read(going: Going, connectionOf: ToRehearse['connectionOf']): Promise<void> {
    for (const one of going.lanes) {
      const { lane, rehearsal } = one
      const connection = connectionOf(lane)
      const asked = {
        line: `${connection} rehearses`,
        atOnce: 1,
        maxRows: BATCH_ROWS,
        timeoutMs: READ_MS,
        signal: going.ending.signal,
      }
      await this.questions.ask(asked, ({ signal }) =>
        this.sessions.use(connection, async session => {
          const table = { dataset: lane.source, columns: lane.reads }
          for await (const rows of scanOf(session)(table, {
            batchRows: BATCH_ROWS,
            timeoutMs: READ_MS,
            signal,
          })) {
            if (Date.now() - going.seenAt > ABANDONED_MS) going.ending.abort()
            signal.throwIfAborted()
            for (const row of rows) {
              rehearsal.add(row)
              if (lane.origin !== undefined) meet(going, one, row)
            }
            // Others get their turn.
            await new Promise(resolve => setImmediate(resolve))
          }
        }),
      )
      one.read = true
    }
  }
}

/** Whether another origin has a row of the same key, of as many as can be kept in memory. */
function meet({ keys }: Going, one: Going['lanes'][number], row: Row): void {
  const { source, identity, reads, origin = '' } = one.lane
  const table = datasetId(source)
  const known = keys.get(table) ?? new Map<string, string>()
  keys.set(table, known)
  const key = keyOf(
    row,
    identity.map(name => reads.findIndex(column => column.name === name)),
  )
  const text = keyText(key)
  const other = known.get(text)
  if (other !== undefined && other !== origin) {
    one.shared ??= {
      rows: 0,
      all: known.size < KEYS,
      example: { key: toldKey(one.lane, key), origin: other },
    }
    one.shared.rows++
  } else if (known.size < KEYS) known.set(text, origin)
  else if (one.shared) one.shared.all = false
}
