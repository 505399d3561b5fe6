/** Says at the target how a pipeline stands, in the transactions that bring its data. */
import type { ApplyTransaction, LaneEffect, TargetSide } from '@tide/connectors/contract/target'
import {
  singleStream,
  type Checkpoint,
  type LaneProgress,
  type Stream,
} from '@tide/core/checkpoint/checkpoint'
import type { RunRecord } from '@tide/core/definition/run'
import type { StatusRow, StatusTable, StatusTableName, StatusTables } from '@tide/core/plan/status'
import { printName } from '@tide/core/records/dataset'
import { packRow } from '@tide/core/records/tuple'
import type { Key } from '@tide/core/records/value'
import { canonicalMoment } from '@tide/core/shape/written'
import type { WorkingLane } from './lanes.ts'

/** Landings may be many a second. */
const EVERY_MS = 1_000

export interface ToldStatus {
  tables: StatusTables
  origin: string
  lanes: readonly WorkingLane[]
  now: () => number
  /** How the pipeline stands now. */
  state: () => string
  lag: () => number | null
  /** The newest of its runs. */
  runs: () => Iterable<RunRecord>
  /** The state that was written last, also before this session. */
  known: { stateWritten?: string }
}

export class TargetStatus {
  private readonly told: ToldStatus
  /** By table and key, what was written last, but for when. */
  private readonly written = new Map<string, string>()
  private at = -Infinity

  constructor(told: ToldStatus) {
    this.told = told
  }

  /** The same target, whose commits say so as well. */
  over(target: TargetSide): TargetSide {
    const begin = async (): Promise<ApplyTransaction> => {
      const transaction = await target.begin()
      return {
        apply: effects => transaction.apply(effects),
        rollback: () => transaction.rollback(),
        commit: async checkpoint => {
          const { effects, wrote } = this.effects(checkpoint)
          if (effects.length > 0) await transaction.apply(effects)
          await transaction.commit(checkpoint)
          wrote()
        },
      }
    }
    return new Proxy(target, {
      get: (its, name) => {
        if (name === 'begin') return begin
        const value: unknown = Reflect.get(its, name)
        // What a target keeps of itself must be its own, whoever asks it.
        return typeof value === 'function' ? (value.bind(its) as unknown) : value
      },
    })
  }

  /** What differs from what was written; `wrote`: it was. */
  private effects(checkpoint: Checkpoint): { effects: LaneEffect[]; wrote: () => void } {
    const { now, state, known, tables, lanes, runs } = this.told
    const changed = state() !== known.stateWritten
    if (!changed && now() - this.at < EVERY_MS) return { effects: [], wrote: () => {} }
    const stream = singleStream(checkpoint)
    const at = moment(new Date(now()).toISOString())
    const puts = new Map<
      StatusTableName,
      { said: string; id: string; row: Record<string, string | null> }[]
    >()
    const put = <T extends StatusTableName>(name: T, id: string, row: Omit<StatusRow<T>, 'written_at'>) => {
      const said = JSON.stringify(row)
      if (this.written.get(`${name} ${id}`) === said) return
      const whole = { ...row, written_at: at }
      puts.set(name, [...(puts.get(name) ?? []), { said, id: `${name} ${id}`, row: whole }])
    }
    for (const lane of lanes) put('lanes', String(lane.index), this.laneRow(lane, stream))
    for (const run of runs()) put('runs', run.id, this.runRow(run))
    if (changed)
      put('states', String(at), {
        since: at,
        origin: this.told.origin,
        state: state(),
        complete_up_to: moment(stream.completeUpTo),
      })
    const wrote = () => {
      this.at = now()
      if (changed) known.stateWritten = state()
      for (const [name, rows] of puts)
        if (name !== 'states') for (const { id, said } of rows) this.written.set(id, said)
    }
    return {
      effects: [...puts].map(([name, rows]) =>
        effectOf(
          tables[name],
          rows.map(({ row }) => row),
        ),
      ),
      wrote,
    }
  }

  private laneRow({ plan, index }: WorkingLane, stream: Stream): Omit<StatusRow<'lanes'>, 'written_at'> {
    const lane = stream.lanes[index]!
    const { origin, lag } = this.told
    const behind = lane.own ? null : lag()
    return {
      source_table: printName(plan.source),
      origin,
      target_table: printName(plan.target),
      state: stateOf(lane, this.told.state()),
      rows_copied: String(lane.copiedRows),
      inserted: String(lane.inserted),
      updated: String(lane.updated),
      deleted: String(lane.deleted),
      held: String(lane.differs ?? 0),
      last_change: moment(lane.lastChange),
      // What stands elsewhere than the others is not complete up to where they are.
      complete_up_to: lane.own ? null : moment(stream.completeUpTo),
      consistent: stream.consistent ? 't' : 'f',
      lag_seconds: behind === null ? null : behind.toFixed(1),
    }
  }

  private runRow(run: RunRecord): Omit<StatusRow<'runs'>, 'written_at'> {
    return {
      run: run.id,
      origin: this.told.origin,
      kind: run.kind,
      state: run.state,
      started_at: moment(run.startedAt),
      ended_at: moment(run.endedAt),
      rows_moved: String(run.rows),
      bytes: String(run.bytes),
      held: String(run.held),
    }
  }
}

const moment = (iso: string | null) => canonicalMoment(iso)

function stateOf({ copied, own, paused }: LaneProgress, state: string): string {
  if (paused) return paused.why === null ? 'Paused' : 'Stopped'
  if (!copied) return 'Copying'
  return own ? 'Catching up' : state
}

function effectOf(
  { table, columns, key }: StatusTable,
  rows: readonly Record<string, string | null>[],
): LaneEffect {
  const puts = rows.map(row => {
    const of: Key = key.map(name => row[name]!)
    return { key: of, identity: of, row: packRow(columns.map(({ name }) => row[name] ?? null)) }
  })
  const effect = { truncate: false, removed: [], puts }
  return { lane: { table, columns, key }, effect: key.length === 0 ? { ...effect, append: true } : effect }
}
