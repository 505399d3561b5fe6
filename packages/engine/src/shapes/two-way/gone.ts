/** Records that are there no longer: found by looking through all keys now and then, and settled as the lane says. */
import type { TwoWayTrail } from '@tide/core/api/two-way'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { Failure } from '@tide/core/failure'
import { other, type Side } from '@tide/core/merge/rule'
import { decideGone, type PairWrite } from '@tide/core/two-way/decide'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import { SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { Pair } from '@tide/core/two-way/pair'
import { goneWith } from './gone-with.ts'
import { carryOut, labelled, stamp, writeSide, type Writing } from './writing.ts'

/** Pairs that have lost a half and are to be made whole again. `guard`: of how many somebody is asked first; undefined: of none. */
export async function sweepLane(
  writing: Writing,
  lane: CompiledLane,
  guard: NonNullable<TwoWayDefinition['guard']> | undefined,
): Promise<Pair[]> {
  const { pairs, pipeline } = writing
  const again: Pair[] = []
  const strangers = await pairs.strangers(pipeline, lane.name)
  for (const side of SIDES) {
    const kept = strangers.flatMap(({ id, halves }) => (halves[side] ? [{ id, key: halves[side].id }] : []))
    const keys = await pairs.keys(pipeline, lane.name, side)
    if (keys.length + kept.length === 0) continue
    const present = await keysIn(writing, lane, side)
    const strange = kept.filter(({ key }) => !present.has(key)).map(({ id }) => id)
    if (strange.length > 0) await pairs.commit(pipeline, { ...stamp(writing), over: strange })
    const missing = await goneOf(
      writing,
      lane,
      side,
      keys.filter(key => !present.has(key)),
    )
    const counts = guard !== undefined
    again.push(...(await letGo(writing, lane, side, { missing, of: keys.length, guard, counts })))
  }
  return again
}

interface Missing {
  /** Keys of records that are gone. */
  missing: readonly string[]
  /** Of so many. */
  of: number
  guard: NonNullable<TwoWayDefinition['guard']> | undefined
  /** Together with those that go next; what somebody has let go does not. */
  counts: boolean
}

/** The same of records whose side has told that they are gone. */
export async function letTold(
  writing: Writing,
  lane: CompiledLane,
  side: Side,
  missing: readonly string[],
  guard: NonNullable<TwoWayDefinition['guard']> | undefined,
): Promise<Pair[]> {
  if (missing.length === 0) return []
  const { pairs, pipeline } = writing
  const lately = writing.lost.lately(lostFrom(lane, side))
  const isMany = guard !== undefined && lately.rows + missing.length > guard.records
  const of = isMany ? (await pairs.keys(pipeline, lane.name, side)).length : missing.length
  const found = await pairs.find(pipeline, lane.name, side, missing)
  const strange = found.filter(({ state }) => state === 'stranger').map(({ id }) => id)
  if (strange.length > 0) await pairs.commit(pipeline, { ...stamp(writing), over: strange })
  const known = found.flatMap(({ state, halves }) => (state === 'stranger' ? [] : (halves[side]?.id ?? [])))
  const counts = guard !== undefined
  return letGo(writing, lane, side, { missing: known, of, guard: isMany ? guard : undefined, counts })
}

async function letGo(
  writing: Writing,
  lane: CompiledLane,
  side: Side,
  { missing, of, guard, counts }: Missing,
): Promise<Pair[]> {
  const { pairs, pipeline, apps } = writing
  const again: Pair[] = []
  const from = lostFrom(lane, side)
  const lately = writing.lost.lately(from)
  const [gone, there] = [lately.rows + missing.length, lately.rows + of]
  const most = guard && Math.max(guard.records, Math.floor((there * guard.percent) / 100))
  if (most !== undefined && missing.length > 0 && gone > most)
    throw new Failure(
      'guard',
      `${gone.toLocaleString('en')} of ${there.toLocaleString('en')} ${lane.objects[side].title} are gone from ${apps[side].name}.`,
      `Look there. If that is as it should be, let them go; what becomes of their other halves is said in the setup.`,
    )
  const lost = await pairs.find(pipeline, lane.name, side, missing)
  const isToGo = (pair: Pair) =>
    pair.state === 'in step' &&
    pair.halves[other(side)] !== null &&
    decideGone(lane, pair, side).do === 'remove'
  const toGo = lost.filter(isToGo)
  const went = toGo.length > 0 ? await goneWith(writing, lane, side, toGo) : new Set()
  const removed = toGo.filter(({ id }) => !went.has(id))
  await removeHalves(writing, lane, removed, other(side))
  for (const pair of lost.filter(one => !removed.includes(one)))
    again.push(...(await settleGone(writing, lane, pair, side)))
  if (counts) writing.lost.add(from, missing.length, of)
  return again
}

function lostFrom({ name }: CompiledLane, side: Side): string {
  return `${side} ${name}`
}

async function keysIn({ apps, signal }: Writing, lane: CompiledLane, side: Side): Promise<Set<string>> {
  const { name, key } = lane.objects[side]
  const present = new Set<string>()
  for await (const page of apps[side].list(name, { signal }))
    for (const record of page) if (record[key]) present.add(record[key])
  return present
}

/** Of keys that were not in the list those that are gone: a list that is read while records go may miss some that are there. */
async function goneOf(
  { apps, signal }: Writing,
  lane: CompiledLane,
  side: Side,
  missing: readonly string[],
): Promise<readonly string[]> {
  const { name, can } = lane.objects[side]
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
  let decided: ReturnType<typeof decideGone> =
    pair.state === 'in step' ? decideGone(lane, pair, gone) : { do: 'apart' }
  if (decided.do === 'remove' && (await goneWith(writing, lane, gone, [pair])).size > 0)
    decided = { do: 'apart' }
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
      const anew = madeAnew(lane, { ...pair, halves }, left)
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
      await removeHalves(writing, lane, [pair], left)
      return []
  }
}

function plain(side: Side, write: PairWrite) {
  return { writes: { [side]: write }, outcomes: [], held: [], waits: false }
}

/** Its other half is gone, and is to be made again; the key of the one that is gone says nothing any more. */
export function madeAnew({ lane }: CompiledLane, pair: Pair, left: Side): Pair {
  const half = pair.halves[left]!
  const link = lane.links?.[left]
  const record = link === undefined ? half.record : { ...half.record, [link]: null }
  const halves = { ...pair.halves, [left]: { ...half, record } }
  return { ...pair, halves, origin: left, base: {}, held: [], waits: false }
}

/** Deletes the records of a side; their pairs are over then. */
export async function removeHalves(
  writing: Writing,
  lane: CompiledLane,
  pairs: readonly Pair[],
  side: Side,
): Promise<void> {
  const together = writing.apps[side].mostTogether(lane.objects[side].name)
  const nothing = { outcomes: [], held: [], waits: false }
  for (let at = 0; at < pairs.length && !writing.signal.aborted; at += together) {
    const batch = pairs.slice(at, at + together)
    const intent: TwoWayIntent = {
      once: writing.newId(),
      run: writing.run,
      lane: lane.name,
      side,
      op: 'remove',
      operations: batch.map(({ id, halves }) => ({
        pair: id,
        id: halves[side]!.id,
        version: null,
        write: { op: 'change', values: {}, fields: [] },
        ...nothing,
      })),
    }
    await writing.pairs.commit(writing.pipeline, { ...stamp(writing), begin: [intent] })
    await carryOut(writing, lane, intent, new Map(batch.map(pair => [pair.id, pair])))
  }
}
