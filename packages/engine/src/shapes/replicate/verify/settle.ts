/**
 * What comes of rows in question. No two readings of two systems are of the same moment, so a difference is believed only where
 * the source's row was the same before the pipeline had landed everything up to then, and after the target was read.
 */
import type { Difference, LaneVerified } from '@tide/core/definition/verification'
import type { Key } from '@tide/core/records/value'
import { verdict, type Expected } from '@tide/core/verify/verdict'
import type { OpenPipeline } from '../open.ts'
import type { LaneSides } from './sides.ts'

const ROUNDS = 6
/** So many differences of a lane are kept; when there are as many, no more is looked at. */
export const MOST_DIFFERENCES = 10_000

export interface Question {
  key: Key
  /** So many rows of the source were before it. */
  at: number
}

export interface Settled {
  equal: number
  found: (Difference & { at: number })[]
  inMotion: number
}

export async function settle(
  questions: readonly Question[],
  sides: LaneSides,
  open: OpenPipeline,
  landed: (clock: string) => Promise<void>,
): Promise<Settled> {
  const { verified, lane, keyId } = sides
  const settled: Settled = { equal: 0, found: [], inMotion: 0 }
  let left = questions.map(one => [keyId(one.key), one] as const)
  const expected = () =>
    sides.expected(
      left.map(([, { key }]) => key),
      lane.movesEvery === undefined ? undefined : open.checkpoint.now.lanes[lane.index]!.swept,
    )
  let before = await expected()
  for (let round = 0; round < ROUNDS && left.length > 0; round++) {
    await landed(await sides.clock())
    const there = await sides.there(left.map(([, { key }]) => key))
    const after = await expected()
    const of = (rows: Map<string, Expected>, id: string): Expected => rows.get(id) ?? 'none'
    left = left.filter(([id, { key, at }]) => {
      const said = verdict(verified.lane, of(before, id), there.get(id) ?? [], of(after, id))
      if (said === 'again') return true
      if (said.agree) {
        if (said.equal) settled.equal++
        return false
      }
      if (said.kind === 'only target' && verified.keepsOthers) return false
      const kind = isHeld(open, sides, key, after.get(id)) ? 'held' : said.kind
      const columns = said.columns.map(place => verified.lane.writes[place]!.name)
      settled.found.push({ key, kind, columns, at })
      return false
    })
    before = after
  }
  settled.inMotion = left.length
  return settled
}

/** By the source's own key, where the target's tells of it. */
function isHeld(
  { holding }: OpenPipeline,
  { verified, lane }: LaneSides,
  key: Key,
  row: Expected | undefined,
): boolean {
  const parts = lane.plan.identity.map(name => {
    const place = verified.sourceKey.indexOf(name)
    if (place >= 0) return key[place]
    const written = verified.lane.writes.findIndex(
      ({ value }) => value.from === 'column' && value.column === name,
    )
    return Array.isArray(row) && written >= 0 ? (row[written] as string | null) : null
  })
  return parts.every(part => part !== null && part !== undefined) && holding.differs(lane, parts as Key)
}

export function counted(verified: LaneVerified, { equal, found, inMotion }: Settled): LaneVerified {
  const of = (kind: Difference['kind']) => found.filter(one => one.kind === kind).length
  const differences = [...verified.strip.differences]
  for (const { at } of found) {
    const bucket = Math.min(LAST_BUCKET, Math.floor(at / verified.strip.rows))
    differences[bucket] = (differences[bucket] ?? 0) + 1
  }
  return {
    ...verified,
    equal: verified.equal + equal,
    different: verified.different + of('different'),
    onlySource: verified.onlySource + of('only source'),
    onlyTarget: verified.onlyTarget + of('only target'),
    held: verified.held + of('held'),
    inMotion: verified.inMotion + inMotion,
    strip: { ...verified.strip, differences: Array.from(differences, one => one ?? 0) },
  }
}

/** The strip is planned for half as many buckets, by a count of rows that may be an old one. */
export const BUCKETS = 48
const LAST_BUCKET = 2 * BUCKETS - 1
