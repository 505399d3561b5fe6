/** How pipelines stand, whichever engine has them. */
import type { RunBy } from '@tide/core/api/engines'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { statusTogether } from '@tide/core/api/together'
import { runsOf, sourceOf, type EngineRecord, type PipelineRecord } from '@tide/core/definition/pipeline'
import type { Kept } from './kept.ts'
import type { EngineParts } from './parts.ts'
import { idleLanes, namesOf, statusOf } from './status.ts'

export interface Engines {
  me: Pick<EngineRecord, 'id' | 'home'>
  /** All that are known, this one among them. */
  all: readonly EngineRecord[]
}

/** `keep`: what this engine has of a pipeline. */
export async function statusesOf(
  records: readonly PipelineRecord[],
  engines: Engines,
  keep: (id: string) => Kept,
  parts: EngineParts,
): Promise<PipelineStatus[]> {
  const runs = records.flatMap(runsOf)
  const known = new Map((await statusesOfRuns(runs, engines, keep, parts)).map(one => [one.id, one]))
  return records.map(record => {
    const { id, definition, startedAt, detailedUntil, lanes, origins } = record
    if (origins.length === 0) return known.get(id)!
    const own = origins.map(run => ({
      tag: run.origin,
      connection: sourceOf(run),
      status: known.get(run.id)!,
    }))
    return statusTogether({ id, definition, startedAt, detailedUntil }, lanes, own)
  })
}

async function statusesOfRuns(
  records: readonly PipelineRecord[],
  engines: Engines,
  keep: (id: string) => Kept,
  parts: EngineParts,
): Promise<PipelineStatus[]> {
  const { me } = engines
  const elsewhere = records.filter(({ holder, home }) =>
    holder === null ? home !== null && home !== me.home : holder !== me.id,
  )
  const told = elsewhere.length > 0 ? await parts.leases.told(elsewhere.map(({ id }) => id)) : []
  const byId = new Map(told.map(one => [one.status.id, one]))
  return Promise.all(
    records.map(async record => {
      const engine = runBy(record, engines)
      const other = byId.get(record.id)
      if (!other) return { ...(await statusOf(record, keep(record.id), parts)), engine }
      const { definition, wanted, startedAt, reason, state } = record
      const names = await namesOf(definition, parts)
      const changing = record.change !== null
      const lanes = other.status.lanes.length === record.lanes.length ? other.status.lanes : idleLanes(record)
      const now = { definition, wanted, startedAt, reason, ...names, engine, changing, lanes }
      if (other.fresh) return { ...other.status, ...now }
      const unknown = {
        lagSeconds: null,
        delay: null,
        backlog: null,
        committedPerMinute: 0,
        landedPerMinute: 0,
      }
      return { ...other.status, ...now, ...unknown, state, retry: null, waits: null }
    }),
  )
}

/** Nothing while there is this engine alone, and nothing that it could not run. */
function runBy({ holder, home, affinity }: PipelineRecord, { me, all }: Engines): RunBy | null {
  const by = all.find(({ id }) => id === holder) ?? all.find(engine => engine.home === home)
  const others = all.some(({ id, live }) => live && id !== me.id)
  if (!by || (by.id === me.id && !others)) return null
  const { name, live, seenAt } = by
  return { name, here: by.id === me.id, live, seenAt, affinity }
}
