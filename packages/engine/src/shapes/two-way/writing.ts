/** Writes to one side what is to be written there, call by call: what is about to be written is put down before, what came of it after. */
import { NotDone, type PlaceSide } from '@tide/connectors/contract/app'
import type { TwoWayTrail } from '@tide/core/api/two-way'
import type { WriteAnswer, WriteOperation } from '@tide/core/app/object'
import type { LostLately } from '@tide/core/apply/lost-lately'
import { Failure } from '@tide/core/failure'
import type { Value } from '@tide/core/merge/form'
import type { Side } from '@tide/core/merge/rule'
import type { PairCommit } from '@tide/core/two-way/commit'
import { settledPair, type Answered, type PairDecided } from '@tide/core/two-way/decide'
import type { IntendedWrite, TwoWayIntent } from '@tide/core/two-way/intent'
import { readHalf, SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { HeldField, Pair } from '@tide/core/two-way/pair'
import type { PairRepository } from '../../repositories.ts'

export interface Writing {
  pipeline: string
  epoch: number
  apps: Record<Side, PlaceSide>
  pairs: PairRepository
  /** Of the run that writes. */
  run: string
  now(): string
  newId(): string
  signal: AbortSignal
  /** By side and lane. */
  lost: LostLately<string>
  /** Something was done; for the account. */
  told(side: Side, lane: CompiledLane, op: TwoWayIntent['op'], done: number, refused: number): void
}

/** A pair with what was decided of it. */
export interface Decision {
  pair: Pair
  decided: PairDecided
}

/** What came of a write: the pair as it is then. A pair whose record was gone is told apart. */
export interface Written {
  pairs: Pair[]
  gone: { pair: Pair; side: Side }[]
}

export function labelled(lane: CompiledLane, pair: Pair): Pair & { label: string | null } {
  const labels = SIDES.map(side => {
    const { label } = lane.objects[side]
    return label === null ? null : (pair.halves[side]?.record[label] ?? null)
  })
  return { ...pair, label: labels.find(label => label) ?? null }
}

/** Writes one side of each; the decisions are of that lane, and each has a write to that side. */
export async function writeSide(
  writing: Writing,
  lane: CompiledLane,
  side: Side,
  decisions: readonly Decision[],
): Promise<Written> {
  const written: Written = { pairs: [], gone: [] }
  const together = writing.apps[side].mostTogether(lane.objects[side].name)
  for (const op of ['change', 'create'] as const) {
    const some = decisions.filter(({ decided }) => decided.writes[side]!.op === op)
    for (let at = 0; at < some.length && !writing.signal.aborted; at += together) {
      const batch = some.slice(at, at + together)
      const intent: TwoWayIntent = {
        once: writing.newId(),
        run: writing.run,
        lane: lane.name,
        side,
        op,
        operations: batch.map(({ pair, decided }) => ({
          pair: pair.id,
          id: pair.halves[side]?.id ?? null,
          version: pair.halves[side]?.version ?? null,
          write: decided.writes[side]!,
          outcomes: decided.outcomes,
          held: decided.held,
          waits: decided.waits,
        })),
      }
      const put = batch.map(({ pair }) => labelled(lane, pair))
      await writing.pairs.commit(writing.pipeline, { ...stamp(writing), put, begin: [intent] })
      const done = await carryOut(writing, lane, intent, new Map(batch.map(({ pair }) => [pair.id, pair])))
      written.pairs.push(...done.pairs)
      written.gone.push(...done.gone)
    }
  }
  return written
}

export function stamp({ epoch, now }: Pick<Writing, 'epoch' | 'now'>): Pick<PairCommit, 'epoch' | 'at'> {
  return { epoch, at: now() }
}

/** Makes the call of an intent that is put down, and puts down what came of it. */
export async function carryOut(
  writing: Writing,
  lane: CompiledLane,
  intent: TwoWayIntent,
  pairs: ReadonlyMap<string, Pair>,
): Promise<Written> {
  const { apps, pipeline, signal } = writing
  const { side, once, op, operations } = intent
  const answers = await apps[side]
    .write(
      lane.objects[side].name,
      operations.map(one => asWritten(op, one)),
      { once, signal },
    )
    .catch(async (thrown: unknown) => {
      if (thrown instanceof NotDone)
        await writing.pairs.commit(pipeline, { ...stamp(writing), settled: [once] })
      throw thrown
    })
  const written: Written = { pairs: [], gone: [] }
  const trail: Omit<TwoWayTrail, 'id'>[] = []
  let refused = 0
  const over: string[] = []
  for (const [i, operation] of operations.entries()) {
    const pair = pairs.get(operation.pair)
    // It was taken apart meanwhile.
    if (!pair) continue
    const came = await cameOf(writing, lane, intent, { operation, pair, answer: answers[i]! })
    if (came.gone) written.gone.push({ pair: came.pair, side })
    else if (came.over) over.push(pair.id)
    else written.pairs.push(came.pair)
    if (came.refused) refused++
    trail.push(...came.trail)
  }
  await writing.pairs.commit(pipeline, {
    ...stamp(writing),
    put: written.pairs.map(pair => labelled(lane, pair)),
    over,
    settled: [once],
    trail,
  })
  writing.told(side, lane, op, operations.length - refused, refused)
  return written
}

function asWritten(op: TwoWayIntent['op'], { id, version, write }: IntendedWrite): WriteOperation {
  const values = write.values
  if (op === 'create') return { op, values }
  if (op === 'remove') return { op, id: id!, values: {} }
  return { op, id: id!, values, ...(version === null ? {} : { version }) }
}

interface CameOf {
  pair: Pair
  trail: Omit<TwoWayTrail, 'id'>[]
  gone?: true
  over?: true
  refused?: true
}

async function cameOf(
  writing: Writing,
  lane: CompiledLane,
  { side, op, run }: TwoWayIntent,
  { operation, pair, answer }: { operation: IntendedWrite; pair: Pair; answer: WriteAnswer },
): Promise<CameOf> {
  const at = writing.now()
  const said = (
    record: string | null,
    more: Pick<TwoWayTrail, 'op' | 'field' | 'was' | 'became' | 'why'>,
  ) => ({
    at,
    run,
    lane: lane.name,
    pair: pair.id,
    side,
    record,
    ...more,
  })
  const present = pair.halves[side]
  if (op === 'remove') {
    if (answer.answer === 'refused') return refusedPair(lane, side, operation, pair, answer)
    const record = operation.id
    return { pair, over: true, trail: removedTrail(present?.record ?? {}).map(one => said(record, one)) }
  }
  if (answer.answer === 'gone') return { pair, trail: [], gone: true }
  if (answer.answer === 'changed') {
    // Somebody was faster: it is read, and merged again.
    const now = await writing.apps[side].read(lane.objects[side].name, operation.id!, writing.signal)
    if (!now) return { pair, trail: [], gone: true }
    const halves = { ...pair.halves, [side]: readHalf(lane, side, operation.id!, now) }
    return { pair: { ...pair, halves, waits: true }, trail: [] }
  }
  if (answer.answer === 'refused') {
    // What was to be made again for itself alone is not there, and nobody asks for it again.
    if (!pair.halves.a && !pair.halves.b) return { pair, over: true, refused: true, trail: [] }
    return refusedPair(lane, side, operation, pair, answer)
  }
  const answered = answeredAs(writing, lane, side, operation, answer, present?.record ?? {})
  let after = settledPair(lane, pair, operation, { [side]: answered })
  if (!answer.record && lane.objects[side].can.read) {
    // What is read now may be another's edit by now; what we wrote is what is agreed.
    const now = await writing.apps[side].read(lane.objects[side].name, answered.id, writing.signal)
    if (!now) return { pair: after, trail: [], gone: true }
    after = {
      ...after,
      halves: { ...after.halves, [side]: readHalf(lane, side, answered.id, now) },
      waits: true,
    }
  }
  const trail = operation.write.fields.map(({ field, was, why }) =>
    said(answered.id, {
      op: op === 'create' ? 'create' : 'change',
      field,
      was,
      became: answered.record[field] ?? operation.write.values[field] ?? null,
      why,
    }),
  )
  // A record can be made of nothing but presets.
  if (trail.length === 0)
    trail.push(said(answered.id, { op: 'create', field: null, was: null, became: null, why: 'new' }))
  return { pair: after, trail }
}

/** All that is known of the record: it may be wanted again. */
export function removedTrail(
  record: Readonly<Record<string, Value>>,
): Pick<TwoWayTrail, 'op' | 'field' | 'was' | 'became' | 'why'>[] {
  const removed = { op: 'delete' as const, became: null, why: 'gone' }
  const fields = Object.entries(record).filter(([, was]) => was !== null)
  if (fields.length === 0) return [{ ...removed, field: null, was: null }]
  return fields.map(([field, was]) => ({ ...removed, field, was }))
}

/** The record as the call has left it, as far as that is known. */
function answeredAs(
  { apps }: Writing,
  lane: CompiledLane,
  side: Side,
  { id: known, write }: IntendedWrite,
  answer: Extract<WriteAnswer, { answer: 'done' }>,
  before: Record<string, Value>,
): Answered {
  const id = known ?? answer.id
  const { key } = lane.objects[side]
  if (id === null)
    throw new Failure(
      'structural',
      `${apps[side].name} does not say which record it has made.`,
      'Say in the description where the key stands in its answer.',
    )
  return { id, record: answer.record ?? { ...before, ...write.values, [key]: id } }
}

function refusedPair(
  lane: CompiledLane,
  side: Side,
  { write }: IntendedWrite,
  pair: Pair,
  { field, reason }: Extract<WriteAnswer, { answer: 'refused' }>,
): CameOf {
  const i = field === null ? -1 : lane.merge.joins.findIndex(join => join[side] === field)
  const isOfOne = i >= 0 && field !== null && field in write.values
  const held: HeldField = {
    join: isOfOne ? lane.names[i]! : null,
    why: 'refused',
    side,
    reason,
    remedy: 'Correct the record where it was edited; or let it be tried again as it is.',
    tried: isOfOne ? write.values[field] : JSON.stringify(write.values),
  }
  const others = pair.held.filter(
    one => !(one.why === 'refused' && one.join === held.join && one.side === side),
  )
  // The other fields go without it.
  return { pair: { ...pair, held: [...others, held], waits: isOfOne }, trail: [], refused: true }
}
