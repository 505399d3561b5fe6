/** Records that are there no longer: found by looking through all keys now and then, and settled as the lane says. */
import type { TwoWayTrail } from '@tide/core/api/two-way'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { Failure } from '@tide/core/failure'
import { other, type Side } from '@tide/core/merge/rule'
import { decideGone, type PairWrite } from '@tide/core/two-way/decide'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import { SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { Pair } from '@tide/core/two-way/pair'
import { carryOut, labelled, stamp, writeSide, type Writing } from './writing.ts'

/** Pairs that have lost a half and are to be made whole again. `guard`: of how many somebody is asked first; undefined: of none. */
export async function sweepLane(
  writing: Writing,
  lane: CompiledLane,
  guard: NonNullable<TwoWayDefinition['guard']> | undefined,
): Promise<Pair[]> {
  const { pairs, pipeline, apps } = writing
  const again: Pair[] = []
  for (const side of SIDES) {
    const keys = await pairs.keys(pipeline, lane.name, side)
    if (keys.length === 0) continue
    const missing = await missingOf(writing, lane, side, keys)
    const most = guard && Math.max(guard.records, Math.floor((keys.length * guard.percent) / 100))
    if (most !== undefined && missing.length > most)
      throw new Failure(
        'guard',
        `${missing.length.toLocaleString('en')} of ${keys.length.toLocaleString('en')} ${lane.objects[side].title} are gone from ${apps[side].name}.`,
        `Look there. If that is as it should be, let them go; what becomes of their other halves is said in the setup.`,
      )
    for (const pair of await pairs.find(pipeline, lane.name, side, missing))
      again.push(...(await settleGone(writing, lane, pair, side)))
  }
  return again
}

/** Keys that the app knows no longer. A list that is read while records go may miss some that are there, so each is asked for. */
async function missingOf(
  { apps, signal }: Writing,
  lane: CompiledLane,
  side: Side,
  keys: readonly string[],
): Promise<string[]> {
  const { name, key, can } = lane.objects[side]
  const present = new Set<string | null | undefined>()
  for await (const page of apps[side].list(name, { signal }))
    for (const record of page) present.add(record[key])
  const missing = keys.filter(one => !present.has(one))
  if (!can.read) return missing
  const gone: string[] = []
  for (const one of missing) if ((await apps[side].read(name, one, signal)) === undefined) gone.push(one)
  return gone
}

/** Does with a pair what is to be done when one half is gone; returns it where it is to be made whole again. */
export async function settleGone(
  writing: Writing,
  lane: CompiledLane,
  pair: Pair,
  gone: Side,
): Promise<Pair[]> {
  const { pairs, pipeline } = writing
  const lost = pair.halves[gone]
  const left = other(gone)
  const halves = { ...pair.halves, [gone]: null }
  // It was asleep, or somebody was asked already.
  const decided = pair.state === 'in step' ? decideGone(lane, pair, gone) : ({ do: 'apart' } as const)
  const trail = (why: string): Omit<TwoWayTrail, 'id'>[] => [
    {
      at: writing.now(),
      run: writing.run,
      lane: lane.name,
      pair: pair.id,
      side: gone,
      op: 'apart',
      record: lost?.id ?? null,
      field: null,
      was: null,
      became: null,
      why,
    },
  ]
  const put = (one: Pair, why: string) =>
    pairs.commit(pipeline, { ...stamp(writing), put: [labelled(lane, one)], trail: trail(why) })
  if (!halves.a && !halves.b) {
    await pairs.commit(pipeline, { ...stamp(writing), over: [pair.id], trail: trail('gone on both sides') })
    return []
  }
  switch (decided.do) {
    case 'hold':
      await put({ ...pair, halves, held: [decided.held], waits: false }, 'edited there, and gone here')
      return []
    case 'create': {
      const anew: Pair = { ...pair, halves, origin: left, base: {}, held: [], waits: false }
      await put(anew, 'the edit wins')
      return [anew]
    }
    case 'apart':
      await put({ ...pair, halves, state: 'apart', held: [], waits: false }, 'gone, and left')
      return []
    case 'mark': {
      await writeSide(writing, lane, left, [{ pair, decided: plain(left, decided.write) }])
      await put({ ...pair, halves, state: 'apart', held: [], waits: false }, 'gone, and marked')
      return []
    }
    case 'remove':
      await removeHalf(writing, lane, pair, left)
      return []
  }
}

function plain(side: Side, write: PairWrite) {
  return { writes: { [side]: write }, outcomes: [], held: [], waits: false }
}

/** Deletes the record of a side; the pair is over then. */
export async function removeHalf(
  writing: Writing,
  lane: CompiledLane,
  pair: Pair,
  side: Side,
): Promise<void> {
  const { id } = pair.halves[side]!
  const intent: TwoWayIntent = {
    once: writing.newId(),
    run: writing.run,
    lane: lane.name,
    side,
    op: 'remove',
    operations: [
      {
        pair: pair.id,
        id,
        version: null,
        write: { op: 'change', values: {}, fields: [] },
        outcomes: [],
        held: [],
        waits: false,
      },
    ],
  }
  await writing.pairs.commit(writing.pipeline, { ...stamp(writing), begin: [intent] })
  await carryOut(writing, lane, intent, new Map([[pair.id, pair]]))
}
