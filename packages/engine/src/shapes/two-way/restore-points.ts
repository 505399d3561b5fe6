/** Restore points: records of both sides are kept before a pass that may write to many, and written back when somebody asks. */
import { Failure } from '@tide/core/failure'
import { sameIn, type Value } from '@tide/core/merge/form'
import type { Side } from '@tide/core/merge/rule'
import type { PairDecided, PairWrite } from '@tide/core/two-way/decide'
import { formOf, SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { Half, Pair } from '@tide/core/two-way/pair'
import {
  keptFields,
  POINTS_KEPT,
  restoringOf,
  type KeptPart,
  type PointWhy,
} from '@tide/core/two-way/restore'
import type { RestorePointRepository } from '../../repositories.ts'
import { agreedAsWritten } from './agreed.ts'
import { readAll } from './intake.ts'
import type { Places } from './places.ts'
import { labelled, stamp, writeSide, type Decision, type Writing } from './writing.ts'

/** So many records make a part. */
const TOGETHER = 2000

export interface Keeping {
  points: RestorePointRepository
  places: Places
  /** By lane: of what it is now. */
  digests: Record<string, string>
}

/** Keeps all records that take part, and on sides where records are looked for to pair all. */
export async function keepPoint(
  writing: Pick<Writing, 'pipeline' | 'pairs' | 'now' | 'newId' | 'signal'>,
  { points, places, digests }: Keeping,
  why: PointWhy,
): Promise<void> {
  const point = { id: writing.newId(), at: writing.now(), why, digests }
  await points.keep(writing.pipeline, point, partsOf(writing, places), POINTS_KEPT)
}

async function* partsOf(
  { pipeline, pairs, now, signal }: Pick<Writing, 'pipeline' | 'pairs' | 'now' | 'signal'>,
  { apps, lanes }: Places,
): AsyncGenerator<KeptPart> {
  for (const lane of lanes)
    for (const side of SIDES) {
      const paired = new Set(await pairs.keys(pipeline, lane.name, side))
      const isPairing = (lane.lane.pair ?? []).length > 0
      const at = now()
      const takesPart = (half: Half) => isPairing || paired.has(half.id) || lane.inScope(side, half, at)
      const fields = keptFields(lane, side)
      const records = [...(await readAll(apps[side], lane, side, signal)).values()].filter(takesPart)
      for (let from = 0; from < records.length; from += TOGETHER)
        yield {
          lane: lane.name,
          side,
          records: records
            .slice(from, from + TOGETHER)
            .map(({ id, record }) => [
              id,
              Object.fromEntries(fields.map(field => [field, record[field] ?? null])),
            ]),
        }
    }
}

/** Writes paired records back as they were; returns what was done, in words. */
export async function restore(
  writing: Writing,
  { points, places }: Pick<Keeping, 'points' | 'places'>,
  point: string,
): Promise<string> {
  const found = (await points.list(writing.pipeline)).find(({ id }) => id === point)
  if (!found)
    throw new Failure('refused', 'That restore point is there no more.', 'Choose one from the list.')
  const done = { change: 0, leave: 0 }
  const now = new Map<CompiledLane, Record<Side, Map<string, Half>>>()
  for await (const { lane: name, side, records } of points.records(writing.pipeline, point)) {
    const lane = places.lanes.find(one => one.name === name)
    if (!lane) continue
    let present = now.get(lane)
    if (!present) now.set(lane, (present = await presentOf(writing, lane)))
    const was = new Map(records)
    const pairs = await writing.pairs.find(writing.pipeline, name, side, [...was.keys()])
    const decisions: Decision[] = []
    for (const pair of pairs) {
      const halves = pair.halves
      if (!halves.a || !halves.b || pair.state === 'apart') continue
      const fresh: Pair = {
        ...pair,
        halves: {
          a: present.a.get(halves.a.id) ?? halves.a,
          b: present.b.get(halves.b.id) ?? halves.b,
        },
      }
      const id = halves[side]!.id
      const restoring = restoringOf(lane, side, was.get(id)!, present[side].get(id))
      if (restoring.does === 'change')
        decisions.push({ pair: fresh, decided: writingBack(lane, side, restoring.fields, pair) })
      else if (restoring.does === 'leave' && restoring.why === 'gone') done.leave++
    }
    const { pairs: written } = await writeSide(writing, lane, side, decisions)
    for (const one of written) if (one.halves[side]) present[side].set(one.halves[side].id, one.halves[side])
    done.change += await agree(writing, lane, side, decisions, written)
  }
  const left = done.leave > 0 ? `, ${done.leave} are gone and were left` : ''
  return `As of ${found.at}: ${done.change} records written back${left}.`
}

async function presentOf(
  { apps, signal }: Writing,
  lane: CompiledLane,
): Promise<Record<Side, Map<string, Half>>> {
  const [a, b] = await Promise.all(SIDES.map(side => readAll(apps[side], lane, side, signal)))
  return { a: a!, b: b! }
}

type Fields = { field: string; is: string | null; becomes: string | null }[]

function writingBack(lane: CompiledLane, side: Side, fields: Fields, { held }: Pair): PairDecided {
  const write: PairWrite = {
    op: 'change',
    values: Object.fromEntries(
      // A set is emptied by one without elements.
      fields.map(({ field, becomes }) => [field, becomes ?? (isSet(lane, side, field) ? '[]' : null)]),
    ),
    fields: fields.map(({ field, is }) => ({
      field,
      join: lane.names[lane.merge.joins.findIndex(join => join[side] === field)] ?? null,
      was: is,
      why: 'restored',
    })),
  }
  return { writes: { [side]: write }, outcomes: [], held, waits: false }
}

function isSet({ objects }: CompiledLane, side: Side, field: string): boolean {
  return objects[side].fields.find(({ name }) => name === field)?.type.kind === 'list'
}

/** Returns how many of them say what was written. */
async function agree(
  writing: Writing,
  lane: CompiledLane,
  side: Side,
  decisions: readonly Decision[],
  written: readonly Pair[],
): Promise<number> {
  const valuesOf = new Map(decisions.map(({ pair, decided }) => [pair.id, decided.writes[side]!.values]))
  const put = written.map(pair => agreedAsWritten(lane, pair, side, valuesOf.get(pair.id)!))
  if (put.length > 0)
    await writing.pairs.commit(writing.pipeline, {
      ...stamp(writing),
      put: put.map(pair => labelled(lane, pair)),
    })
  return put.filter(pair => isWritten(lane, pair, side, valuesOf.get(pair.id)!)).length
}

function isWritten(
  { objects }: CompiledLane,
  { halves }: Pair,
  side: Side,
  values: Readonly<Record<string, Value>>,
): boolean {
  return objects[side].fields
    .filter(({ name }) => Object.hasOwn(values, name))
    .every(field => sameIn(formOf(field), halves[side]?.record[field.name] ?? null, values[field.name]!))
}
