/** One pass over a lane: what has changed on either side is taken in, merged, and written. */
import { createHash } from 'node:crypto'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import type { Side } from '@tide/core/merge/rule'
import type { LaneProgress } from '@tide/core/two-way/commit'
import { decidePair, settledPair } from '@tide/core/two-way/decide'
import { gather } from '@tide/core/two-way/gather'
import { SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { Half, Pair } from '@tide/core/two-way/pair'
import { letTold, settleGone } from './gone.ts'
import { takeIn } from './intake.ts'
import { References } from './references.ts'
import { labelled, stamp, writeSide, type Decision, type Writing } from './writing.ts'

/** What is written on one side may give something to write on the other; nothing goes back and forth for longer. */
const ROUNDS = 6
const PUT_TOGETHER = 500

export interface Passed {
  /** Records that were taken in. */
  taken: Record<Side, number>
  written: number
  /** Pairs that are not as they were, without a write. */
  put: number
  progress: LaneProgress
}

export async function passLane(
  writing: Writing,
  lane: CompiledLane,
  definition: TwoWayDefinition,
  before: LaneProgress | undefined,
  guard: NonNullable<TwoWayDefinition['guard']> | undefined,
): Promise<Passed> {
  const { apps, pairs, pipeline, signal } = writing
  const digest = digestOf(lane, definition)
  const cursors = before?.digest === digest ? before.cursors : { a: null, b: null }
  const [a, b] = await Promise.all(
    SIDES.map(side =>
      takeIn(apps[side], lane, side, { cursor: cursors[side], known: before !== undefined }, signal),
    ),
  )
  const records = { a: a!.records, b: b!.records }
  const known = await knownPairs(writing, lane, records)
  const strangers = await strangersFor(writing, lane, records, known)
  const gathered = gather(lane, { records, known, strangers, now: writing.now(), newId: writing.newId })
  if (gathered.over.length > 0) await pairs.commit(pipeline, { ...stamp(writing), over: gathered.over })
  const { written, put } = await mergeAll(writing, lane, gathered.pairs, known)
  const gone = { a: a!.gone, b: b!.gone }
  for (const side of SIDES)
    await mergeAll(writing, lane, await letTold(writing, lane, side, gone[side], guard))
  if (signal.aborted) throw signal.reason
  const progress: LaneProgress = {
    digest,
    cursors: { a: a!.cursor, b: b!.cursor },
    sweptAt: a!.anew || b!.anew ? null : (before?.sweptAt ?? null),
  }
  if (canonicalJson(progress) !== canonicalJson(before ?? null))
    await pairs.commit(pipeline, { ...stamp(writing), lane: { name: lane.name, ...progress } })
  for (const side of SIDES) {
    const cursor = progress.cursors[side]
    if (cursor !== null) await apps[side].taken?.(lane.objects[side].name, cursor)
  }
  return {
    taken: { a: records.a.size, b: records.b.size },
    written,
    put: put + gathered.over.length + gone.a.length + gone.b.length,
    progress,
  }
}

/** Another one: the lane is another by now, and all records are to be looked at. */
export function digestOf(lane: CompiledLane, { lanes }: TwoWayDefinition): string {
  const said = [lane.lane, lanes.map(({ a, b }) => [a, b]), SIDES.map(side => lane.objects[side].fields)]
  return createHash('sha256').update(canonicalJson(said)).digest('base64')
}

async function knownPairs(
  { pairs, pipeline }: Writing,
  { name }: CompiledLane,
  records: Record<Side, ReadonlyMap<string, Half>>,
): Promise<Pair[]> {
  const known = new Map<string, Pair>()
  for (const pair of await pairs.waiting(pipeline, name)) known.set(pair.id, pair)
  for (const side of SIDES)
    for (const pair of await pairs.find(pipeline, name, side, [...records[side].keys()]))
      known.set(pair.id, pair)
  return [...known.values()]
}

/** Those that a new record may be the same as; of known ones alone nothing is asked. */
async function strangersFor(
  { pairs, pipeline }: Writing,
  { name, lane }: CompiledLane,
  records: Record<Side, ReadonlyMap<string, Half>>,
  known: readonly Pair[],
): Promise<Pair[]> {
  if ((lane.pair ?? []).length === 0) return []
  const taken = known.filter(({ state }) => state !== 'stranger')
  const isNew = SIDES.some(side => {
    const ids = new Set(taken.flatMap(({ halves }) => halves[side]?.id ?? []))
    return [...records[side].keys()].some(id => !ids.has(id))
  })
  return isNew ? pairs.strangers(pipeline, name) : []
}

/** Merges and writes until nothing is left to write. `stored`: pairs as they are put down; those that come to the same are not put down again. */
export async function mergeAll(
  writing: Writing,
  lane: CompiledLane,
  all: readonly Pair[],
  stored: readonly Pair[] = [],
): Promise<Pick<Passed, 'written' | 'put'>> {
  const as = new Map(stored.map(pair => [pair.id, canonicalJson(pair)]))
  const references = new References(
    writing.apps,
    { find: (name, side, keys) => writing.pairs.find(writing.pipeline, name, side, keys) },
    writing.signal,
  )
  let [written, put] = [0, 0]
  let open = [...all]
  for (let round = 0; round < ROUNDS && open.length > 0 && !writing.signal.aborted; round++) {
    const find = await references.of(lane, open)
    const toWrite: Record<Side, Decision[]> = { a: [], b: [] }
    const still: Pair[] = []
    for (const pair of open) {
      if (isLeftAlone(pair)) {
        still.push(pair)
        continue
      }
      const decided = decidePair(lane, pair, find)
      const side = SIDES.find(
        one => decided.writes[one] && !wasRefused(pair, one, decided.writes[one].values),
      )
      if (side) toWrite[side].push({ pair, decided })
      else still.push(unwritten(lane, pair, decided))
    }
    const news = still.filter(pair => as.get(pair.id) !== canonicalJson(pair))
    await putAll(writing, lane, news)
    put += news.length
    const next: Pair[] = []
    for (const side of SIDES) {
      if (toWrite[side].length === 0) continue
      const { pairs, gone } = await writeSide(writing, lane, side, toWrite[side])
      written += toWrite[side].length
      for (const { pair } of toWrite[side]) as.delete(pair.id)
      next.push(...pairs.filter(({ waits }) => waits))
      for (const one of gone) next.push(...(await settleGone(writing, lane, one.pair, one.side)))
    }
    open = next
  }
  return { written, put }
}

/** A person is asked of the whole of it, or there is nothing to keep in step. */
function isLeftAlone({ state, held }: Pair): boolean {
  return state !== 'in step' || held.some(({ why }) => why === 'may be the same' || why === 'edited and gone')
}

function wasRefused({ held }: Pair, side: Side, values: object): boolean {
  const tried = JSON.stringify(values)
  return held.some(
    one => one.why === 'refused' && one.join === null && one.side === side && one.tried === tried,
  )
}

/** Nothing is to be written of it: what both sides say is agreed. */
function unwritten(lane: CompiledLane, pair: Pair, decided: Decision['decided']): Pair {
  const refused = pair.held.filter(
    one => one.why === 'refused' && one.join === null && Object.keys(decided.writes).length > 0,
  )
  return settledPair(lane, pair, { ...decided, held: [...refused, ...decided.held] }, {})
}

async function putAll(writing: Writing, lane: CompiledLane, some: readonly Pair[]): Promise<void> {
  for (let at = 0; at < some.length; at += PUT_TOGETHER)
    await writing.pairs.commit(writing.pipeline, {
      ...stamp(writing),
      put: some.slice(at, at + PUT_TOGETHER).map(pair => labelled(lane, pair)),
    })
}
