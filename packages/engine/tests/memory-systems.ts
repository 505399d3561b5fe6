/** A source and a target in memory that keep the contract, and can fail at any call of theirs. */
import type {
  ApplyTransaction,
  Checkpoint,
  CopyRange,
  Session,
  SourceSide,
  TargetLane,
  TargetSide,
} from '@tide/connectors/contract'
import { asFailure, Failure } from '@tide/core/failure'
import type { SourceTransaction } from '@tide/core/records/change'
import { csvLine } from '@tide/core/records/csv'
import { keyText, type Key, type Row } from '@tide/core/records/value'

/** Decides at each call whether it fails, before or after it has worked. */
export type Trouble = () => 'before' | 'after' | undefined

const RANGE = 3
const now = () => '2026-11-20T10:00:00.000Z'

export async function troubled<T>(trouble: Trouble, work: () => T | Promise<T>): Promise<T> {
  const when = trouble()
  const fault = () => new Failure('transient', 'the connection was cut', 'wait')
  if (when === 'before') throw fault()
  const result = await work()
  if (when === 'after') throw fault()
  return result
}

/** One table of two columns; the first is the key. Its log is a list of transactions, positions count them. */
export class MemorySource {
  readonly rows = new Map<string, Row>()
  readonly log: SourceTransaction[] = []
  /** Called between ranges of a copy and at every read: the world goes on. */
  onTurn = () => {}

  commit(change: (put: (row: Row) => void, remove: (key: string) => void) => void): void {
    const events: SourceTransaction['events'] = []
    change(
      row => {
        const before = this.rows.get(row[0]!)
        events.push(
          before ? { op: 'update', lane: 0, before, after: row } : { op: 'insert', lane: 0, after: row },
        )
        this.rows.set(row[0]!, row)
      },
      key => {
        const before = this.rows.get(key)
        if (!before) return
        events.push({ op: 'delete', lane: 0, before })
        this.rows.delete(key)
      },
    )
    if (events.length > 0) this.log.push({ id: String(this.log.length), at: now(), events })
  }

  side(trouble: Trouble): SourceSide {
    const head = (from: number) => ({
      now: now(),
      completeUpTo: now(),
      pendingChanges: this.log.slice(from).reduce((sum, { events }) => sum + events.length, 0),
      oldestPending: this.log[from]?.at ?? null,
    })
    const place = (at: string) => at.split('/').map(Number) as [number, number?]
    const position = (at: string) => ({ kind: 'memory', incarnation: 'one', at })
    const { rows } = this
    const turn = () => this.onTurn()
    return {
      captureNote: '',
      captureStatements: async () => [],
      startCapture: () => troubled(trouble, () => position(String(this.log.length))),
      stopCapture: () => troubled(trouble, () => {}),
      acknowledge: () => troubled(trouble, () => {}),
      view: () =>
        troubled(trouble, () => ({
          position: null,
          readers: 2,
          async *copy(_lane, after) {
            let start = after ?? ''
            for (;;) {
              const range = await troubled(trouble, (): CopyRange => {
                const keys = [...rows.keys()].filter(key => key > start).sort()
                const some = keys.slice(0, RANGE)
                const csv = [Buffer.from(some.map(key => csvLine(rows.get(key)!)).join(''))]
                return { csv, upTo: keys.length > RANGE ? some.at(-1)! : null }
              })
              yield range
              turn()
              if (range.upTo === null) return
              start = range.upTo
            }
          },
          close: async () => {},
        })),
      head: (_follower, _lanes, from) => troubled(trouble, () => head(place(from.at)[0])),
      read: (_follower, _lanes, from, maxEvents) =>
        troubled(trouble, () => {
          turn()
          const [at, within = 0] = place(from.at)
          const transaction = this.log[at]
          if (!transaction) return { transactions: [], to: from, complete: true, head: head(at) }
          // Two events at a time at most, so that transactions come in parts.
          const events = transaction.events.slice(within, within + Math.min(2, maxEvents))
          const given = within + events.length
          // Some end with changes to tables that nobody chose: an empty part.
          const complete = given >= transaction.events.length && (at % 2 === 0 || events.length === 0)
          const to = position(complete ? String(at + 1) : `${at}/${given}`)
          return {
            transactions: events.length > 0 ? [{ ...transaction, events }] : [],
            to,
            complete,
            head: head(complete ? at + 1 : at),
          }
        }),
    }
  }
}

interface TargetState {
  /** By table and key. */
  rows: [string, Row][]
  checkpoint: Checkpoint | undefined
}

type Change = (rows: TargetState['rows']) => TargetState['rows']

/** Rows as a bag, so that a doubled row shows; every write is a transaction, and several may be under way. */
export class MemoryTarget {
  state: TargetState = { rows: [], checkpoint: undefined }
  prepared = 0

  side(trouble: Trouble): TargetSide {
    const commit = (checkpoint: Checkpoint, ...changes: Change[]) => {
      const present = this.state.checkpoint
      if (!present || present.epoch > checkpoint.epoch) throw new Failure('structural', 'overtaken', 'stop')
      const rows = changes.reduce((rows, change) => change(rows), this.state.rows)
      this.state = { rows, checkpoint: structuredClone(checkpoint) }
    }
    const idOf = ({ table }: TargetLane, key: Key) => `${table.name}/${keyText(key)}`
    const without =
      (gone: ReadonlySet<string>): Change =>
      rows =>
        rows.filter(([id]) => !gone.has(id))
    const emptied =
      (lanes: readonly TargetLane[]): Change =>
      rows =>
        rows.filter(([id]) => !lanes.some(({ table }) => id.startsWith(`${table.name}/`)))
    const adding =
      (more: TargetState['rows']): Change =>
      rows => [...rows, ...more]
    return {
      profile: {
        naming: { fold: 'none', allowed: 'any', maxLength: 99 },
        typeOf: () => ({ native: 'TEXT' }),
        sameName: (a, b) => a === b,
      },
      ddl: () => [],
      prepare: (_steps, checkpoint) =>
        troubled(trouble, () => {
          if ((this.state.checkpoint?.epoch ?? 0) > checkpoint.epoch)
            throw new Failure('structural', 'overtaken', 'stop')
          this.prepared++
          this.state = { rows: [], checkpoint: structuredClone(checkpoint) }
        }),
      extend: (_steps, checkpoint) => troubled(trouble, () => commit(checkpoint)),
      load: (lane, { csv }, again, committing) =>
        troubled(trouble, async () => {
          const rows = Buffer.concat(csv as Uint8Array[])
            .toString()
            .split('\n')
            .filter(Boolean)
            .map((line): [string, Row] => {
              const row = line.split(',')
              return [idOf(lane, [row[0]!]), row]
            })
          const gone = new Set(again ? rows.map(([id]) => id) : [])
          await committing({ rows: rows.length, bytes: 1 }, checkpoint =>
            troubled(trouble, () => commit(checkpoint, without(gone), adding(rows))),
          )
        }),
      begin: () =>
        troubled(trouble, (): ApplyTransaction => {
          const changes: Change[] = []
          return {
            apply: effects =>
              troubled(trouble, () => {
                for (const { lane, effect } of effects) {
                  if (effect.truncate) changes.push(emptied([lane]))
                  const keys = [...effect.removed, ...effect.puts.map(({ key }) => key)]
                  changes.push(without(new Set(keys.map(key => idOf(lane, key)))))
                  changes.push(adding(effect.puts.map(({ key, row }) => [idOf(lane, key), row])))
                }
                return []
              }),
            commit: checkpoint => troubled(trouble, () => commit(checkpoint, ...changes)),
            rollback: async () => {},
          }
        }),
      readCheckpoint: () => troubled(trouble, () => structuredClone(this.state.checkpoint)),
      takeCheckpoint: (_pipeline, epoch, freshFrom) =>
        troubled(trouble, () => {
          const { checkpoint } = this.state
          if (!checkpoint || checkpoint.epoch < freshFrom) return undefined
          if (checkpoint.epoch < epoch) this.state = { ...this.state, checkpoint: { ...checkpoint, epoch } }
          return structuredClone(this.state.checkpoint)
        }),
      empty: (lanes, checkpoint) => troubled(trouble, () => commit(checkpoint, emptied(lanes))),
      forget: () => troubled(trouble, () => void (this.state = { ...this.state, checkpoint: undefined })),
      count: ({ name }) =>
        troubled(trouble, () => this.state.rows.filter(([id]) => id.startsWith(`${name}/`)).length),
    }
  }
}

/** A session that offers one side and nothing for people. */
export function sessionOf(sides: Pick<Session, 'source' | 'log' | 'target'>): Session {
  const none = () => Promise.reject(asFailure(new Error('not offered')))
  return { catalogue: none, preview: none, count: none, row: none, close: async () => {}, ...sides }
}
