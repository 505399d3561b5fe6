/** What a pipeline holds back: rows that its target would not take, until they stand there or somebody lets them be. */
import type { LaneProgress, Stream } from '@tide/core/checkpoint/checkpoint'
import type { FoldedKey } from '@tide/core/apply/fold'
import { HELD_AT_MOST, heldTooLong, tooManyHeld, type HeldBounds } from '@tide/core/definition/held-bounds'
import {
  toldShaped,
  toldSource,
  toldValue,
  type HeldRecord,
  type HeldState,
} from '@tide/core/definition/held'
import { datasetId, printName } from '@tide/core/records/dataset'
import { unpackRow, type PackedRow } from '@tide/core/records/tuple'
import { keyText, type Key } from '@tide/core/records/value'
import { toldKey } from '@tide/core/shape/misfit'
import type { HeldRepository } from '../../repositories.ts'
import { LaneFailure } from './lane-failure.ts'
import type { WorkingLane } from './lanes.ts'

/** A row that will not land. */
export interface HeldRow {
  lane: WorkingLane
  state: FoldedKey
  /** As it would stand at the target; undefined where no such row could be made. */
  row: PackedRow | undefined
  column: string | null
  reason: string
  remedy: string
}

export interface HoldingSettings {
  repository: HeldRepository
  pipeline: string
  lanes: readonly WorkingLane[]
  /** Of each lane. */
  bounds?: HeldBounds | undefined
  /** Rows of a lane at the target; null: not known. */
  rowsThere?(lane: WorkingLane): number | null
  clock: () => string
  /** So many are kept. */
  told?(rows: number): void
}

export class Holding {
  private readonly settings: HoldingSettings
  /** By lane, the keys of which the target has another row than it should: since when they wait for somebody; null: for nobody. */
  private readonly differing: Map<string, string | null>[]

  private constructor(settings: HoldingSettings) {
    this.settings = settings
    this.differing = settings.lanes.map(() => new Map())
  }

  static async open(settings: HoldingSettings): Promise<Holding> {
    const holding = new Holding(settings)
    const { lanes, repository, pipeline } = settings
    const byTable = new Map(lanes.map(({ plan, index }) => [datasetId(plan.source), index]))
    for (const { table, identity, state, heldAt } of await repository.differing(pipeline)) {
      const index = byTable.get(table)
      if (index === undefined) continue
      holding.differing[index]!.set(keyText(identity), state === 'open' ? heldAt : null)
    }
    return holding
  }

  get most(): number {
    return this.settings.bounds?.most ?? HELD_AT_MOST
  }

  /** The target has another row under this key than it should, so that nothing can be taken from there. */
  differs({ index }: WorkingLane, identity: Key): boolean {
    const keys = this.differing[index]!
    return keys.size > 0 && keys.has(keyText(identity))
  }

  holdsAny({ index }: WorkingLane): boolean {
    return this.differing[index]!.size > 0
  }

  /** Keeps rows, before the commit that goes on without them. Throws a LaneFailure where they would be too many of a lane. */
  async keep(rows: readonly HeldRow[]): Promise<void> {
    if (rows.length === 0) return
    this.refuseTooMany(rows)
    const { repository, pipeline, clock } = this.settings
    const heldAt = clock()
    this.settings.told?.(rows.length)
    await repository.keep(
      rows.map(({ lane: { plan }, state, row, column, reason, remedy }) => ({
        pipeline,
        table: datasetId(plan.source),
        identity: state.identity,
        told: toldKey(plan, state.identity).map(part => toldValue(part)!),
        op: state.after ? 'put' : 'remove',
        position: state.transaction.start,
        number: state.number,
        committedAt: state.op === 'copy' ? null : state.transaction.at,
        source: state.after ? toldSource(plan, unpackRow(state.after)) : {},
        shaped: row ? toldShaped(plan, unpackRow(row)) : null,
        column,
        reason: toldValue(reason)!,
        remedy,
        heldAt,
      })),
    )
  }

  /** The checkpoint's word on it, when these rows are kept and those keys have landed. */
  counted(
    stream: Stream,
    kept: readonly HeldRow[],
    landed: ReadonlyMap<number, readonly Key[] | 'all'>,
  ): Stream {
    let same = true
    const lanes = stream.lanes.map((lane, index): LaneProgress => {
      const own = this.differing[index]!
      const gone = landed.get(index)
      const added = kept.filter(row => row.lane.index === index)
      if (own.size === 0 && added.length === 0 && !lane.differs) return lane
      same = false
      const keys = new Set(gone === 'all' ? [] : own.keys())
      for (const key of gone === 'all' ? [] : (gone ?? [])) keys.delete(keyText(key))
      for (const { state } of added) keys.add(keyText(state.identity))
      const next = { ...lane, differs: keys.size }
      if (keys.size === 0) delete (next as LaneProgress).differs
      return next
    })
    if (same) return stream
    return { ...stream, lanes, consistent: stream.consistent && !lanes.some(({ differs }) => differs) }
  }

  /** After the commit. */
  async committed(
    kept: readonly HeldRow[],
    landed: ReadonlyMap<number, readonly Key[] | 'all'>,
    state: Exclude<HeldState, 'open'> = 'superseded',
  ): Promise<void> {
    const { repository, pipeline, lanes, clock } = this.settings
    for (const [index, keys] of landed) {
      const own = this.differing[index]!
      if (own.size === 0) continue
      const ended = keys === 'all' ? keys : keys.filter(key => own.has(keyText(key)))
      if (ended !== 'all' && ended.length === 0) continue
      if (ended === 'all') own.clear()
      else for (const key of ended) own.delete(keyText(key))
      const table = datasetId(lanes[index]!.plan.source)
      await repository.settle(pipeline, table, ended, { state, at: clock() })
    }
    const now = clock()
    for (const { lane, state } of kept) {
      const [own, key] = [this.differing[lane.index]!, keyText(state.identity)]
      own.set(key, own.get(key) ?? now)
    }
  }

  records(ids: readonly number[]): Promise<HeldRecord[]> {
    const { repository, pipeline } = this.settings
    return repository.get(pipeline, ids)
  }

  /** Closes all that is held of a row that a person lets be; it still differs. */
  async letBe({ plan, index }: WorkingLane, identity: Key, note: string): Promise<void> {
    const { repository, pipeline, clock } = this.settings
    const [own, key] = [this.differing[index]!, keyText(identity)]
    if (own.has(key)) own.set(key, null)
    await repository.settle(pipeline, datasetId(plan.source), [identity], {
      state: 'dropped',
      at: clock(),
      note,
    })
  }

  /** Nothing of these lanes is held any more: they are copied again. */
  async forget(indexes: readonly number[]): Promise<void> {
    await this.committed([], new Map(indexes.map(index => [index, 'all'])))
  }

  /** Throws a LaneFailure where a row of one of these lanes has waited for too long. */
  refuseOld(lanes: readonly WorkingLane[]): void {
    const { bounds = {}, clock } = this.settings
    if (bounds.hours === undefined) return
    const now = clock()
    for (const { index, plan } of lanes) {
      const old = [...this.differing[index]!.values()].filter(
        since => since !== null && heldTooLong(since, now, bounds),
      )
      if (old.length === 0) continue
      const rows = old.length === 1 ? 'A row' : `${old.length.toLocaleString('en')} rows`
      throw new LaneFailure(
        index,
        'value',
        `${rows} of ${printName(plan.source)} ${old.length === 1 ? 'is' : 'are'} held back for more than ${bounds.hours} hours.`,
        'Look at them in Held: try them again, correct them, or let them be; then let it go on.',
      )
    }
  }

  private refuseTooMany(rows: readonly HeldRow[]): void {
    const { bounds = {}, rowsThere } = this.settings
    for (const [index, own] of this.differing.entries()) {
      const added = rows.filter(row => row.lane.index === index)
      if (added.length === 0) continue
      const keys = new Set(own.keys())
      for (const { state } of added) keys.add(keyText(state.identity))
      const [{ lane, state, column, reason }] = added as [HeldRow]
      const tooMany = tooManyHeld(printName(lane.plan.source), keys.size, rowsThere?.(lane) ?? null, bounds)
      if (tooMany === undefined) continue
      const { plan } = lane
      const where = `${printName(plan.target)}${column === null ? '' : `.${column}`}`
      const key = toldKey(plan, state.identity).join(', ').slice(0, 60)
      const what = `${where}: ${reason}, in the row with ${plan.identity.join(', ')} ${key}.`
      throw this.most === 0
        ? new LaneFailure(
            index,
            'value',
            what,
            'Correct the value at the source and let it go on, or let rows be held back (Setup, Start).',
          )
        : new LaneFailure(
            index,
            'value',
            `${tooMany} ${what}`,
            'Mend what is wrong with them and let it go on, or let more be held back (Setup, Start).',
          )
    }
  }
}
