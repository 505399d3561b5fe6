/** A target in memory that keeps the contract, and what makes it, or a source, fail at any call. */
import type { ApplyTransaction, Gathering, TargetLane, TargetSide } from '@tide/connectors/contract/target'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { LogSide } from '@tide/connectors/contract/source'
import type { Session } from '@tide/connectors/contract/session'
import { asFailure, Failure } from '@tide/core/failure'
import { unpackRow } from '@tide/core/records/tuple'
import { keyText, type Key, type Row } from '@tide/core/records/value'
import type { MemoryLog } from './memory-log.ts'

/** Decides at each call whether it fails, before or after it has worked. */
export type Trouble = () => 'before' | 'after' | undefined

export async function troubled<T>(trouble: Trouble, work: () => T | Promise<T>): Promise<T> {
  const when = trouble()
  const fault = () => new Failure('transient', 'the connection was cut', 'wait')
  if (when === 'before') throw fault()
  const result = await work()
  if (when === 'after') throw fault()
  return result
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
  gathering: Gathering = { changes: 1, waitMs: 0 }
  /** What its constraints say of rows that would be there; undefined: nothing. */
  refuses: (rows: TargetState['rows']) => string | undefined = () => undefined

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
        nameKey: name => name,
        needsKey: 'unique',
        keepsOthers: true,
      },
      gathering: this.gathering,
      ddl: () => [],
      prepare: (steps, checkpoint) =>
        troubled(trouble, () => {
          if ((this.state.checkpoint?.epoch ?? 0) > checkpoint.epoch)
            throw new Failure('structural', 'overtaken', 'stop')
          this.prepared++
          // Tables that are not made for it keep what is in them.
          const rows = steps.length > 0 ? [] : this.state.rows
          this.state = { rows, checkpoint: structuredClone(checkpoint) }
        }),
      make: () => Promise.reject(new Error('nobody shares this target')),
      change: (steps, again, checkpoint) =>
        troubled(trouble, () => {
          const replaced = steps.flatMap(step =>
            step.step === 'replace table' ? [{ table: step.table, columns: [], key: [] }] : [],
          )
          commit(checkpoint, emptied([...replaced, ...again]))
        }),
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
          const said = this.refuses([...this.state.rows, ...rows])
          if (said !== undefined) throw new Failure('value', said, 'Correct it.')
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
                  changes.push(adding(effect.puts.map(({ key, row }) => [idOf(lane, key), unpackRow(row)])))
                }
                const said = this.refuses(changes.reduce((rows, change) => change(rows), this.state.rows))
                if (said !== undefined) throw new Failure('value', said, 'Correct it.')
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
      count: ({ table }) =>
        troubled(trouble, () => this.state.rows.filter(([id]) => id.startsWith(`${table.name}/`)).length),
    }
  }
}

/** The log of a source, whose calls may fail, and whose reading may be cut at any entry. */
export function troubledLog(log: MemoryLog, trouble: Trouble): LogSide {
  const { side } = log
  log.onEntry = () => {
    if (trouble()) throw new Failure('transient', 'the connection was cut', 'wait')
  }
  return {
    ...side,
    open: (...asked) => troubled(trouble, () => side.open(...asked)),
    extend: (...asked) => troubled(trouble, () => side.extend(...asked)),
    inspectHistory: (...asked) => troubled(trouble, () => side.inspectHistory(...asked)),
    inspectTables: (...asked) => troubled(trouble, () => side.inspectTables(...asked)),
    close: (...asked) => troubled(trouble, () => side.close(...asked)),
    view: (...asked) =>
      troubled(trouble, async () => {
        const view = await side.view(...asked)
        return {
          ...view,
          async *copy(...of) {
            for await (const range of view.copy(...of)) yield await troubled(trouble, () => range)
          },
        }
      }),
  }
}

/** A session that offers one side and nothing for people. */
export function sessionOf(sides: Pick<Session, 'log' | 'target'>): Session {
  const none = () => Promise.reject(asFailure(new Error('not offered')))
  return { catalogue: none, preview: none, count: none, row: none, close: async () => {}, ...sides }
}
