/** Whether a verification finds equal what is equal, and just what somebody has changed behind its back; and repairs that. */
import { agrees, differing, type DifferenceKind } from '@tide/core/definition/verification'
import type { Lane } from '@tide/core/plan/lane'
import { verifiedLane } from '@tide/core/verify/verified-lane'
import { identOf, targetRows, unmarked } from './compare.ts'
import type { Following } from './following.ts'
import type { Systems } from './systems.ts'

/** What is not so, in words; nothing when all is. The pipeline is halted before and after. */
export async function agreement(
  systems: Systems,
  following: Following,
  folder: string,
  compared: () => Promise<string>,
): Promise<string> {
  const { plan, target } = following
  const indexes = verifiable(following)
  if (indexes.length === 0) return ''
  following.goOn()
  try {
    const first = await following.verify(indexes)
    if (!first) return stuck(following)
    for (const [i, verified] of first.entries())
      if (agrees(verified) !== true)
        return `verified: ${plan.lanes[indexes[i]!]!.target.name} is equal, and ${told(following, verified)}`
    await following.halt()
    const changed = new Map<number, Changed>()
    for (const index of indexes) {
      const lane = plan.lanes[index]!
      // Of what others have put there, nothing is missed.
      if (lane.there === 'add' || lane.deletes === 'keep') continue
      const one = await tamper(systems, following, lane, index, folder)
      if (one) changed.set(index, one)
    }
    if (changed.size === 0) return ''
    following.goOn()
    const second = await following.verify([...changed.keys()])
    if (!second) return stuck(following)
    for (const [i, [index, { kind, column }]] of [...changed].entries()) {
      const name = plan.lanes[index]!.target.name
      const verified = second[i]!
      const found = following.verifications.differences.filter(
        one => one.lane === index && one.repairedAt === null,
      )
      const right =
        found.length === 1 && found[0]!.kind === kind && (!column || found[0]!.columns.join() === column)
      if (!right || differing(verified) !== 1)
        return `verified: ${name} on ${target} has one row that is ${kind} ${column ?? ''}, and ${told(following, verified)} ${JSON.stringify(found).slice(0, 300)}`
    }
    if (!(await following.repair([...changed.keys()]))) return stuck(following)
    await following.halt()
    const left = await compared()
    return left && `repaired, and still: ${left}`
  } finally {
    await following.halt()
  }
}

/** Whether what is equal is found so, where nobody can change anything behind its back; what is not so, in words. */
export async function isVerified(following: Following): Promise<string> {
  const indexes = verifiable(following)
  if (indexes.length === 0) return ''
  following.goOn()
  try {
    const found = await following.verify(indexes)
    if (!found) return stuck(following)
    const odd = found.find(one => agrees(one) !== true)
    return odd ? `verified: all is equal, and ${told(following, odd)}` : ''
  } finally {
    await following.halt()
  }
}

function verifiable({ plan }: Following): number[] {
  const shaping = { origin: '', hash: (text: string) => text }
  return plan.lanes.flatMap((lane, i) => ('because' in verifiedLane(lane, shaping) ? [] : [i]))
}

interface Changed {
  kind: DifferenceKind
  column?: string
}

/** Takes one row away, empties one value, or doubles a row where nothing forbids that. Undefined: there is none. */
async function tamper(
  systems: Systems,
  { target }: Following,
  lane: Lane,
  index: number,
  folder: string,
): Promise<Changed | undefined> {
  const ident = identOf(target)
  const table = `${ident(lane.target.namespace)}.${ident(lane.target.name)}`
  const mine = unmarked(lane, ident) || ' WHERE 1 = 1'
  const run = (sql: string) => targetRows(systems, target, folder, sql)
  const [first] = await run(`SELECT 1 FROM ${table}${mine} LIMIT 1`)
  if (!first) return undefined
  const one = (condition: string) => {
    switch (target) {
      case 'postgres':
        return ` WHERE ctid = (SELECT ctid FROM ${table}${mine}${condition} LIMIT 1)`
      case 'duckdb':
        return ` WHERE rowid = (SELECT rowid FROM ${table}${mine}${condition} LIMIT 1)`
      default:
        return `${mine}${condition} LIMIT 1`
    }
  }
  if (index % 3 === 1 && target === 'duckdb') {
    await run(`INSERT INTO ${table} SELECT * FROM ${table}${one('')}`)
    return { kind: 'different' }
  }
  if (index % 3 !== 2) {
    const nullable = lane.writes.filter(
      ({ nullable, name, value }) => nullable && value.from === 'column' && !lane.key.includes(name),
    )
    for (const { name } of nullable) {
      const [filled] = await run(`SELECT 1 FROM ${table}${mine} AND ${ident(name)} IS NOT NULL LIMIT 1`)
      if (!filled) continue
      await run(`UPDATE ${table} SET ${ident(name)} = NULL${one(` AND ${ident(name)} IS NOT NULL`)}`)
      return { kind: 'different', column: name }
    }
  }
  await run(`DELETE FROM ${table}${one('')}`)
  return { kind: 'only source' }
}

function told(following: Following, verified: object): string {
  return `told ${JSON.stringify(verified)} ${JSON.stringify(following.verifications.differences).slice(0, 600)}`
}

function stuck(following: Following): string {
  return `a verification does not end: ${JSON.stringify(following.verifications.lanes.map(lane => lane.verified))} ${JSON.stringify(following.stopped())}`
}
