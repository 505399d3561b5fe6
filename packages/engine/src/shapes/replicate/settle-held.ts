/** What people do with held records: land them as the rows stand at the source now, with values of their own, or let them be. */
import type { LaneEffect } from '@tide/connectors/contract/target'
import { shapedEffect } from '@tide/core/apply/effect'
import type { Put } from '@tide/core/apply/net-effect'
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import type { HeldDeed, HeldRecord, HeldState } from '@tide/core/definition/held'
import { Failure } from '@tide/core/failure'
import { datasetId } from '@tide/core/records/dataset'
import type { SourceTransaction } from '@tide/core/records/change'
import { packRow, unpackRow } from '@tide/core/records/tuple'
import { keyText, type Key } from '@tide/core/records/value'
import { isRefusal } from './culprits.ts'
import { whyOf } from './refused.ts'
import { standingState } from './shapes.ts'
import type { WorkingLane } from './lanes.ts'
import type { OpenPipeline } from './open.ts'

interface One {
  lane: WorkingLane
  identity: Key
}

/** Says what came of it. A record whose row has landed since, or is gone at the source, is closed as superseded. */
export async function settleHeld(open: OpenPipeline, deed: HeldDeed): Promise<string> {
  const { holding } = open
  const records = await holding.records(deed.ids)
  const rows = rowsOf(open, records)
  if (rows.length === 0) return 'None of them is held any more.'
  if (deed.deed === 'drop') {
    for (const { lane, identity } of rows) await holding.letBe(lane, identity, deed.note)
    return `${said(rows.length)} let be: ${deed.note}`
  }
  if (deed.deed === 'correct' && rows.length > 1)
    throw new Failure('refused', 'Values were given for several rows.', 'Correct one row at a time.')
  const results = new Map<string, number>()
  for (const row of rows) {
    const result = await landOne(open, row, deed.deed === 'correct' ? deed.values : undefined)
    results.set(result, (results.get(result) ?? 0) + 1)
  }
  return [...results].map(([result, count]) => `${said(count)} ${result}`).join('; ')
}

/** A row is tried by itself: between two batches, as it stands now, it can be put whenever that goes in. */
async function landOne(
  open: OpenPipeline,
  { lane, identity }: One,
  values: Record<string, string | null> | undefined,
): Promise<string> {
  const { target, checkpoint, clock, holding, fetchRow } = open
  const at = clock()
  const transaction: SourceTransaction = { id: '', start: checkpoint.now.position.at, at, events: [] }
  const state = standingState(identity, await fetchRow(lane, identity), transaction)
  const { effect, misfits } = shapedEffect({ truncate: false, fresh: false, keys: [state] }, lane.shaper, at)
  const put = effect.puts[0]
  if (values && !put)
    throw new Failure(
      'refused',
      misfits.length > 0
        ? `No row can be made of it: ${misfits[0]!.misfit.reason}.`
        : 'The row is not at the source any more, or not in scope.',
      'Correct it at the source, or try it again without values of your own.',
    )
  if (misfits.length > 0) return `still held: ${misfits[0]!.misfit.reason}`
  const corrected = values && put ? withValues(lane, put, values) : put
  const effects: LaneEffect[] = [
    { lane: lane.target, effect: { ...effect, puts: corrected ? [corrected] : [] } },
  ]
  const end: HeldState = values ? 'corrected' : put ? 'landed' : 'superseded'
  const landed = new Map([[lane.index, [identity]]])
  const writing = await target.begin()
  try {
    await writing.apply(effects)
    await checkpoint.commit(
      now => holding.counted(brought(now), [], landed),
      next => writing.commit(next),
    )
  } catch (thrown) {
    await writing.rollback()
    if (!isRefusal(thrown)) throw thrown
    if (values)
      throw new Failure(
        'refused',
        `It still does not fit: ${whyOf(lane, thrown).reason}.`,
        thrown.remedy,
        thrown,
      )
    return `still held: ${whyOf(lane, thrown).reason}`
  }
  await holding.committed([], landed, end)
  return end === 'superseded' ? 'gone at the source by now' : values ? 'landed as corrected' : 'landed'
}

function withValues(lane: WorkingLane, put: Put, values: Record<string, string | null>): Put {
  const { writes, key } = lane.plan
  const row = unpackRow(put.row)
  for (const [name, value] of Object.entries(values)) {
    const place = writes.findIndex(column => column.name === name)
    if (place < 0)
      throw new Failure('refused', `The table has no column ${name}.`, 'Look at the record again.')
    if (key.includes(name))
      throw new Failure(
        'refused',
        `${name} is part of the key.`,
        'Correct another column, or the row at the source.',
      )
    row[place] = value
  }
  return { ...put, row: packRow(row) }
}

/** Rows are there as of now, ahead of what else has landed. */
function brought(stream: Stream): Stream {
  return { ...stream, consistent: false }
}

/** Each row once, with the lane that it is of. */
function rowsOf({ lanes }: OpenPipeline, records: readonly HeldRecord[]): One[] {
  const byTable = new Map(lanes.map(lane => [datasetId(lane.plan.source), lane]))
  const rows = new Map<string, One>()
  for (const { table, identity, state } of records) {
    const lane = byTable.get(table)
    if (lane && state === 'open') rows.set(`${lane.index} ${keyText(identity)}`, { lane, identity })
  }
  return [...rows.values()]
}

function said(rows: number): string {
  return rows === 1 ? '1 row' : `${rows.toLocaleString('en')} rows`
}
