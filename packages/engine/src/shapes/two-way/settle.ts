/** What has become of calls that had no answer before a kill, or before a connection was lost. */
import type { TwoWayTrail } from '@tide/core/api/two-way'
import { sameIn } from '@tide/core/merge/form'
import type { IntendedWrite, TwoWayIntent } from '@tide/core/two-way/intent'
import { formOf, readHalf, type CompiledLane } from '@tide/core/two-way/lane'
import { settledPair } from '@tide/core/two-way/decide'
import type { Pair } from '@tide/core/two-way/pair'
import { keyOf } from '@tide/core/pairing/pair-up'
import { carryOut, labelled, removedTrail, stamp, type Writing } from './writing.ts'

/** Before anything else is done: an app that knows repeats is told again by the same name, of another it is read what is there. */
export async function settleIntents(writing: Writing, lanes: readonly CompiledLane[]): Promise<number> {
  const intents = await writing.pairs.intents(writing.pipeline)
  for (const intent of intents) {
    const lane = lanes.find(({ name }) => name === intent.lane)
    const pairs = await writing.pairs.get(
      writing.pipeline,
      intent.operations.map(({ pair }) => pair),
    )
    const known = new Map(pairs.map(pair => [pair.id, pair]))
    if (!lane) await writing.pairs.commit(writing.pipeline, { ...stamp(writing), settled: [intent.once] })
    else if (writing.apps[intent.side].knowsRepeats) await carryOut(writing, lane, intent, known)
    else await lookAfter(writing, lane, intent, known)
  }
  return intents.reduce((sum, { operations }) => sum + operations.length, 0)
}

async function lookAfter(
  writing: Writing,
  lane: CompiledLane,
  intent: TwoWayIntent,
  known: ReadonlyMap<string, Pair>,
): Promise<void> {
  const put: Pair[] = []
  const trail: Omit<TwoWayTrail, 'id'>[] = []
  const over: string[] = []
  const { side, op, run } = intent
  for (const operation of intent.operations) {
    const pair = known.get(operation.pair)
    if (!pair) continue
    const found = await foundAs(writing, lane, intent, operation, pair)
    const said = (
      record: string | null,
      more: Pick<TwoWayTrail, 'op' | 'field' | 'was' | 'became' | 'why'>,
    ) => trail.push({ at: writing.now(), run, lane: lane.name, pair: pair.id, side, record, ...more })
    if (op === 'remove') {
      if (found) continue
      over.push(pair.id)
      for (const one of removedTrail(pair.halves[side]?.record ?? {})) said(operation.id, one)
      continue
    }
    // What is not there was not done; it is decided anew, as the records are now.
    if (!found) {
      // Nobody asks for it again but who undoes.
      if (!pair.halves.a && !pair.halves.b) over.push(pair.id)
      continue
    }
    put.push(settledPair(lane, pair, operation, { [side]: found }))
    for (const { field, was, why } of operation.write.fields)
      said(found.id, {
        op: op === 'create' ? 'create' : 'change',
        field,
        was,
        became: found.record[field] ?? null,
        why,
      })
  }
  await writing.pairs.commit(writing.pipeline, {
    ...stamp(writing),
    put: put.map(pair => labelled(lane, pair)),
    over,
    trail,
    settled: [intent.once],
  })
}

/** The record that the call has made, or changed so; undefined: the call was not carried out. */
async function foundAs(
  { apps, signal }: Writing,
  lane: CompiledLane,
  { side, op }: TwoWayIntent,
  { id, write }: IntendedWrite,
  pair: Pair,
) {
  const app = apps[side]
  const object = lane.objects[side]
  if (op !== 'create') {
    const record = await app.read(object.name, id!, signal)
    if (!record || op === 'remove') return record && { id: id!, record }
    const done = Object.entries(write.values).every(([name, value]) => {
      const field = object.fields.find(one => one.name === name)!
      return sameIn(formOf(field), record[name] ?? null, value)
    })
    return done ? { id: id!, record } : undefined
  }
  const link = lane.lane.links?.[side]
  const far = pair.halves[side === 'a' ? 'b' : 'a']
  const rules = lane.lane.pair ?? []
  const wanted = { id: '', fieldOf: (field: string) => write.values[field] ?? null }
  for await (const page of app.list(object.name, { signal }))
    for (const record of page) {
      const key = record[object.key]
      if (!key) continue
      const one = { id: key, fieldOf: (field: string) => record[field] ?? null }
      const isIt =
        (link !== undefined && record[link] === far?.id) ||
        rules.some(rule => {
          const [made, there] = [keyOf(wanted, rule, side), keyOf(one, rule, side)]
          return made !== undefined && JSON.stringify(made) === JSON.stringify(there)
        })
      if (isIt) return { id: key, record: readHalf(lane, side, key, record).record }
    }
  return undefined
}
