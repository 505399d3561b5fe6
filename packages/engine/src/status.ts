/** How a pipeline stands, as far as the engine that has it knows. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { doesOf, type Definition } from '@tide/core/definition/definition'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { originsOf } from '@tide/core/definition/origins'
import { depthStrip } from '@tide/core/pace/tide'
import { STRIP_MINUTES, type Kept } from './kept.ts'
import type { EngineParts } from './parts.ts'

type Parts = Pick<EngineParts, 'connections' | 'surroundings'>

export async function statusOf(
  record: PipelineRecord,
  { runner, minutes, sample }: Kept,
  parts: Parts,
): Promise<PipelineStatus> {
  // Whoever still runs the plan of before knows nothing of these lanes.
  const live = runner?.plan === record.plan ? runner.status : undefined
  const meter = live && live.state !== 'Stopped' ? runner!.meter : undefined
  const following = live?.state !== 'Copying' ? meter : undefined
  const { from, to } = record.definition
  return {
    id: record.id,
    definition: record.definition,
    ...(await namesOf({ from, to }, parts)),
    wanted: record.wanted,
    startedAt: record.startedAt,
    detailedUntil: record.detailedUntil,
    retry: live?.retry ?? null,
    waits: live?.waits ?? null,
    changing: record.change !== null,
    state: live?.state ?? record.state,
    reason: meter ? null : record.reason,
    completeUpTo: live?.completeUpTo ?? null,
    consistent: live?.consistent ?? false,
    position: live?.position ?? null,
    lanes: live?.lanes ?? idleLanes(record),
    ...(live?.send ? { send: live.send } : {}),
    ...(live?.twoWay ? { twoWay: live.twoWay } : {}),
    lagSeconds: live?.twoWay ? behind(live.completeUpTo, parts.surroundings.now()) : (following?.lag ?? null),
    delay: following?.delay ?? null,
    backlog: meter?.backlog ?? null,
    committedPerMinute: meter?.committedPerMinute ?? 0,
    landedPerMinute: meter?.landedPerMinute ?? 0,
    landed: runner?.meter.landed ?? 0,
    strip: depthStrip(minutes, parts.surroundings.now(), STRIP_MINUTES),
    sample,
    origins: [],
    engine: null,
  }
}

/** Of what is looked at now and then: since it was known last that nothing is left to do. */
function behind(completeUpTo: string | null, now: number): number | null {
  return completeUpTo === null ? null : Math.max(0, now - Date.parse(completeUpTo)) / 1000
}

export async function namesOf(
  { from, to }: Pick<Definition, 'from' | 'to'>,
  { connections }: Pick<Parts, 'connections'>,
): Promise<{ fromName: string; toName: string }> {
  const nameOf = async (id: string) => (await connections.describe(id))?.name ?? ''
  const sources = originsOf({ from }).map(({ connection }) => nameOf(connection))
  const [toName, ...names] = await Promise.all([nameOf(to), ...sources])
  return { fromName: names.join(', '), toName: toName! }
}

export function idleLanes(record: PipelineRecord): PipelineStatus['lanes'] {
  return record.lanes.map(lane => ({
    source: lane.source,
    target: lane.target,
    copied: record.state === 'Finished' && doesOf(record.definition) === 'copy',
    detached: false,
    paused: null,
    copiedRows: 0,
    plannedRows: lane.rows,
    rowsPerSecond: 0,
    secondsLeft: null,
    inserted: 0,
    updated: 0,
    deleted: 0,
    truncated: 0,
    bytes: 0,
    rowsThere: null,
    differs: 0,
    leftOut: 0,
    lastChange: null,
  }))
}
