/** What people ask of single pairs, and of what a run has written. */
import type { TwoWayDeed, Undone } from '@tide/core/api/two-way'
import { Failure } from '@tide/core/failure'
import { other, type Side } from '@tide/core/merge/rule'
import { decidePair, type PairWrite } from '@tide/core/two-way/decide'
import { readHalf, SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { Pair, PairDecision } from '@tide/core/two-way/pair'
import { MOST_UNDONE, undoingOf, writtenHalves, type WrittenHalf } from '@tide/core/two-way/undo'
import type { Undoing } from '@tide/core/two-way/undoing'
import { agreedAsWritten } from './agreed.ts'
import { madeAnew, removeHalves } from './gone.ts'
import { mergeAll } from './pass.ts'
import type { Places } from './places.ts'
import { References } from './references.ts'
import { labelled, stamp, writeSide, type Writing } from './writing.ts'

type Asked = Exclude<TwoWayDeed, { deed: 'pass' | 'keep' | 'restore' }>

/** Returns what was done, in words. */
export async function carryOutDeed(writing: Writing, places: Places, asked: Asked): Promise<string> {
  if (asked.deed === 'undo') return undo(writing, places, asked.of)
  const pairs = await writing.pairs.get(writing.pipeline, asked.pairs)
  if (pairs.length === 0)
    throw new Failure('refused', 'None of these pairs is there any more.', 'Look at the list again.')
  for (const pair of pairs) {
    const lane = places.lanes.find(({ name }) => name === pair.lane)
    if (!lane) throw new Failure('refused', `${pair.lane} are no lane any more.`, 'Look at the setup.')
    if (asked.deed === 'take apart') await takeApart(writing, lane, pair)
    else if (asked.deed === 'try again') await mergeAll(writing, lane, [tried(pair)])
    else await decide(writing, lane, pair, asked.decision)
  }
  const many = pairs.length === 1 ? '1 pair' : `${pairs.length} pairs`
  if (asked.deed === 'take apart') return `${many} taken apart; both records stay as they are.`
  return asked.deed === 'try again' ? `${many} tried again.` : `Decided for ${many}.`
}

/** What was refused is sent again as it is. */
function tried(pair: Pair): Pair {
  return { ...pair, held: pair.held.filter(({ why }) => why !== 'refused') }
}

async function takeApart(writing: Writing, lane: CompiledLane, pair: Pair): Promise<void> {
  // Each half stays known, so that neither is made again on the other side.
  const alone = SIDES.flatMap((side): Pair[] =>
    pair.halves[side]
      ? [
          {
            ...pair,
            id: writing.newId(),
            origin: side,
            halves: { a: null, b: null, [side]: pair.halves[side] },
            base: {},
            state: 'apart',
            held: [],
            waits: false,
          },
        ]
      : [],
  )
  await writing.pairs.commit(writing.pipeline, {
    ...stamp(writing),
    over: [pair.id],
    put: alone.map(one => labelled(lane, one)),
  })
}

async function decide(
  writing: Writing,
  lane: CompiledLane,
  pair: Pair,
  decision: PairDecision,
): Promise<void> {
  if ('same' in decision) return decideSame(writing, lane, pair, decision.same)
  if ('wins' in decision) {
    const left = pair.halves.a ? 'a' : 'b'
    if (decision.wins === 'the deletion') return removeHalves(writing, lane, [pair], left)
    await mergeAll(writing, lane, [madeAnew(lane, pair, left)])
    return
  }
  if (!lane.names.includes(decision.join))
    throw new Failure('refused', `${decision.join} is no field pair of ${lane.name}.`, 'Look at the setup.')
  const references = new References(
    writing.apps,
    { find: (name, side, keys) => writing.pairs.find(writing.pipeline, name, side, keys) },
    writing.signal,
  )
  const fresh = await readAnew(writing, lane, pair)
  const find = await references.of(lane, [fresh])
  const decided = decidePair(lane, fresh, find, { [decision.join]: decision.decided })
  const still = decided.held.find(({ join }) => join === decision.join)
  if (still) throw new Failure('refused', still.reason, still.remedy)
  const side = SIDES.find(one => decided.writes[one])
  const next = side ? (await writeSide(writing, lane, side, [{ pair: fresh, decided }])).pairs : [fresh]
  // Where nothing is to be written, both are agreed as they stand.
  await mergeAll(
    writing,
    lane,
    next.map(one => (side ? one : agreedAsTheyStand(lane, one, decision.join))),
  )
}

function agreedAsTheyStand(lane: CompiledLane, pair: Pair, join: string): Pair {
  const { a, b } = lane.merge.joins[lane.names.indexOf(join)]!
  const now: [string | null, string | null] = [
    pair.halves.a?.record[a] ?? null,
    pair.halves.b?.record[b] ?? null,
  ]
  return { ...pair, base: { ...pair.base, [join]: now }, held: pair.held.filter(one => one.join !== join) }
}

/** What a person decides is of the records as they are now. */
async function readAnew({ apps, signal }: Writing, lane: CompiledLane, pair: Pair): Promise<Pair> {
  const halves = { ...pair.halves }
  for (const side of SIDES) {
    const half = halves[side]
    if (!half || !lane.objects[side].can.read) continue
    const record = await apps[side].read(lane.objects[side].name, half.id, signal)
    if (record) halves[side] = readHalf(lane, side, half.id, record)
  }
  return { ...pair, halves }
}

async function decideSame(
  writing: Writing,
  lane: CompiledLane,
  pair: Pair,
  same: string | null,
): Promise<void> {
  const here: Side = pair.halves.a ? 'a' : 'b'
  const free: Pair = { ...pair, held: [], alone: true }
  if (same === null) {
    await mergeAll(writing, lane, [free])
    return
  }
  const there = other(here)
  const { name, title } = lane.objects[there]
  const [known] = await writing.pairs.find(writing.pipeline, lane.name, there, [same])
  if (known?.halves[here])
    throw new Failure('refused', `${title} ${same} is paired already.`, 'Take that pair apart first.')
  const record = await writing.apps[there].read(name, same, writing.signal)
  if (!record) throw new Failure('refused', `There is no ${title} ${same} any more.`, 'Choose another.')
  const joined: Pair = { ...free, halves: { ...pair.halves, [there]: readHalf(lane, there, same, record) } }
  await writing.pairs.commit(writing.pipeline, {
    ...stamp(writing),
    over: known ? [known.id] : [],
    put: [labelled(lane, joined)],
  })
  await mergeAll(writing, lane, [joined])
}

/** Writes back what was written, newest first, where the field still says so; what was made is deleted where the app allows. */
async function undo(writing: Writing, places: Places, of: Undone): Promise<string> {
  const trail = await writing.pairs.trail(writing.pipeline, { ...of, limit: MOST_UNDONE })
  if (trail.length === 0)
    throw new Failure(
      'refused',
      'run' in of ? 'Nothing is known of that run.' : 'Nothing was written in that time.',
      'Choose one that has written something.',
    )
  const done = { change: 0, delete: 0, create: 0, leave: 0 }
  for (const half of writtenHalves(trail)) {
    const lane = places.lanes.find(({ name }) => name === half.lane)
    done[lane ? await undoHalf(writing, lane, half) : 'leave']++
  }
  const said = [
    done.change > 0 && `${done.change} records are as they were`,
    done.delete > 0 && `${done.delete} that were made are deleted`,
    done.create > 0 && `${done.create} that were deleted are made again`,
    done.leave > 0 && `${done.leave} were edited since, or are gone, and were left`,
  ].filter(Boolean)
  return `Undone: ${said.join(', ')}.`
}

async function undoHalf(
  writing: Writing,
  lane: CompiledLane,
  written: WrittenHalf,
): Promise<Undoing['does']> {
  const { side } = written
  const [pair] = await writing.pairs.get(writing.pipeline, [written.pair])
  if (!pair) return makeAgain(writing, lane, written)
  const fresh = await readAnew(writing, lane, pair)
  const undoing = undoingOf(lane, written, fresh.halves[side])
  // A pair is over when one half is deleted.
  if (undoing.does === 'leave' || undoing.does === 'create') return 'leave'
  if (undoing.does === 'delete') {
    const rest = fresh.halves[other(side)]
    await removeHalves(writing, lane, [fresh], side)
    // The record that it was made of stays, and is not made again.
    if (rest)
      await writing.pairs.commit(writing.pipeline, {
        ...stamp(writing),
        put: [
          labelled(lane, {
            ...fresh,
            id: writing.newId(),
            halves: { a: null, b: null, [other(side)]: rest },
            base: {},
            state: 'apart',
            held: [],
            waits: false,
          }),
        ],
      })
    return 'delete'
  }
  const { fields } = undoing
  const write: PairWrite = {
    op: 'change',
    values: Object.fromEntries(fields.map(({ field, becomes }) => [field, becomes])),
    fields: fields.map(({ field, is }) => ({
      field,
      join: lane.names[lane.merge.joins.findIndex(join => join[side] === field)] ?? null,
      was: is,
      why: 'undone',
    })),
  }
  const decided = { writes: { [side]: write }, outcomes: [], held: fresh.held, waits: false }
  const { pairs } = await writeSide(writing, lane, side, [{ pair: fresh, decided }])
  for (const after of pairs)
    await writing.pairs.commit(writing.pipeline, {
      ...stamp(writing),
      put: [labelled(lane, agreedAsWritten(lane, after, side, write.values))],
    })
  return 'change'
}

/** What was deleted, for itself alone: what its other half was is gone by somebody's own hand. */
async function makeAgain(
  writing: Writing,
  lane: CompiledLane,
  written: WrittenHalf,
): Promise<Undoing['does']> {
  const { side, pair: id, record } = written
  const undoing = undoingOf(lane, written, null)
  if (undoing.does !== 'create' || (await isThere(writing, lane, side, record))) return 'leave'
  const { fields } = undoing
  const write: PairWrite = {
    op: 'create',
    values: Object.fromEntries(fields.map(({ field, becomes }) => [field, becomes])),
    fields: fields.map(({ field }) => ({ field, join: null, was: null, why: 'undone' })),
  }
  const pair: Pair = {
    id,
    lane: lane.name,
    origin: side,
    halves: { a: null, b: null },
    base: {},
    state: 'apart',
    held: [],
    alone: false,
    waits: false,
  }
  const decided = { writes: { [side]: write }, outcomes: [], held: [], waits: false }
  const { pairs } = await writeSide(writing, lane, side, [{ pair, decided }])
  // Its app may not have it.
  return pairs.length > 0 ? 'create' : 'leave'
}

/** Somebody may have brought it back, where that keeps its key. */
async function isThere(
  { apps, signal }: Writing,
  lane: CompiledLane,
  side: Side,
  record: string | null,
): Promise<boolean> {
  const { name, can } = lane.objects[side]
  return record !== null && can.read && (await apps[side].read(name, record, signal)) !== undefined
}
