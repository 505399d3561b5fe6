/** What is said of a pipeline by what is said of its origins. What one of them does not know, nobody knows of them all. */
import { stateOfOrigins } from '../definition/pipeline.ts'
import type { TideSample } from '../pace/tide.ts'
import type { LaneStatus, OriginStatus, PipelineStatus } from './pipelines.ts'

export interface OriginPart {
  tag: string
  connection: string
  status: PipelineStatus
}

/** `whole`: what is the pipeline's own. `lanes`: by the tag of the origin and the place among its lanes, as the plan has them. */
export function statusTogether(
  whole: Pick<PipelineStatus, 'id' | 'definition' | 'startedAt' | 'detailedUntil'>,
  lanes: readonly { origin?: string }[],
  parts: readonly OriginPart[],
): PipelineStatus {
  const statuses = parts.map(({ status }) => status)
  const stopped = parts.find(({ status }) => status.reason && status.reason.kind !== 'person')
  const troubled = parts.find(({ status }) => status.retry)
  const waiting = parts.find(({ status }) => status.waits)
  const [first] = statuses
  const sum = (of: (status: PipelineStatus) => number) => statuses.reduce((sum, one) => sum + of(one), 0)
  return {
    ...whole,
    fromName: parts.map(({ status }) => status.fromName).join(', '),
    toName: first!.toName,
    state: stateOfOrigins(statuses.map(({ state }) => state)),
    wanted: (['run', 'pause', 'stop'] as const).find(wanted =>
      statuses.some(status => status.wanted === wanted),
    )!,
    reason: stopped ? saidBy(stopped.tag, stopped.status.reason!) : (first!.reason ?? null),
    retry: troubled ? saidBy(troubled.tag, troubled.status.retry!) : null,
    waits: waiting ? saidBy(waiting.tag, waiting.status.waits!) : null,
    changing: statuses.some(({ changing }) => changing),
    // An origin that stands still by somebody's wish is not behind.
    lagSeconds: greatest(followed(statuses).map(({ lagSeconds }) => lagSeconds)),
    delay: delayOf(followed(statuses)),
    backlog: total(followed(statuses).map(({ backlog }) => backlog)),
    committedPerMinute: sum(status => status.committedPerMinute),
    landedPerMinute: sum(status => status.landedPerMinute),
    landed: sum(status => status.landed),
    completeUpTo: least(statuses.map(({ completeUpTo }) => completeUpTo)),
    consistent: statuses.every(({ consistent }) => consistent),
    position: null,
    lanes: lanesTogether(lanes, parts),
    strip: first!.strip.map((_, minute) => greatest(statuses.map(({ strip }) => strip[minute] ?? null))),
    sample: sampleTogether(statuses.map(({ sample }) => sample)),
    engine: statuses.find(({ engine }) => engine)?.engine ?? null,
    origins: parts.map(originStatus),
  }
}

/** The readings of several origins as those of one: of each, the newest by then. Without any before all have one. */
export function samplesTogether(
  series: readonly (readonly TideSample[])[],
  resolutionMs: number,
): TideSample[] {
  const slots = new Map<number, (TideSample | undefined)[]>()
  series.forEach((samples, origin) => {
    for (const sample of samples) {
      const at = Math.floor(sample.at / resolutionMs) * resolutionMs
      let slot = slots.get(at)
      if (!slot) slots.set(at, (slot = series.map(() => undefined)))
      slot[origin] = sample
    }
  })
  const newest: (TideSample | undefined)[] = series.map(() => undefined)
  return [...slots]
    .sort(([a], [b]) => a - b)
    .flatMap(([at, slot]) => {
      slot.forEach((sample, origin) => (newest[origin] = sample ?? newest[origin]))
      if (newest.includes(undefined)) return []
      return [
        {
          at,
          committed: newest.reduce((sum, one) => sum + one!.committed, 0),
          landed: newest.reduce((sum, one) => sum + one!.landed, 0),
          copied: newest.reduce((sum, one) => sum + one!.copied, 0),
          lag: greatest(slot.map(sample => sample?.lag ?? null)),
        },
      ]
    })
}

function originStatus({ tag, connection, status }: OriginPart): OriginStatus {
  const { id, state, wanted, reason, retry, waits, lagSeconds, backlog, landedPerMinute } = status
  const { completeUpTo, consistent, position, fromName: connectionName } = status
  return {
    ...{ id, tag, connection, connectionName, state, wanted, reason, retry, waits },
    ...{ lagSeconds, backlog, landedPerMinute, completeUpTo, consistent, position },
  }
}

function lanesTogether(lanes: readonly { origin?: string }[], parts: readonly OriginPart[]): LaneStatus[] {
  const next = new Map(parts.map(({ tag, status }) => [tag, status.lanes.values()]))
  return lanes.flatMap(({ origin = '' }) => {
    const lane = next.get(origin)?.next()
    return lane && !lane.done ? [{ ...lane.value, origin }] : []
  })
}

function sampleTogether(samples: readonly (TideSample | null)[]): TideSample | null {
  if (samples.includes(null)) return null
  const known = samples as TideSample[]
  return {
    at: Math.max(...known.map(({ at }) => at)),
    committed: known.reduce((sum, { committed }) => sum + committed, 0),
    landed: known.reduce((sum, { landed }) => sum + landed, 0),
    copied: known.reduce((sum, { copied }) => sum + copied, 0),
    lag: greatest(known.map(({ lag }) => lag)),
  }
}

/** Those that are meant to go on; all, where none is. */
function followed(statuses: readonly PipelineStatus[]): readonly PipelineStatus[] {
  const going = statuses.filter(({ state, reason }) => state !== 'Stopped' || reason?.kind !== 'person')
  return going.length > 0 ? going : statuses
}

function saidBy<T extends { message: string }>(tag: string, said: T): T {
  return { ...said, message: `${tag}: ${said.message}` }
}

function greatest(values: readonly (number | null)[]): number | null {
  return values.includes(null) ? null : Math.max(...(values as number[]))
}

function least(values: readonly (string | null)[]): string | null {
  return values.includes(null) ? null : [...(values as string[])].sort()[0]!
}

function total(values: readonly (number | null)[]): number | null {
  return values.reduce((sum, value) => (sum === null || value === null ? null : sum + value), 0)
}

function delayOf(statuses: readonly PipelineStatus[]): PipelineStatus['delay'] {
  const delays = statuses.map(({ delay }) => delay)
  if (delays.includes(null)) return null
  const known = delays as NonNullable<PipelineStatus['delay']>[]
  return known.reduce((worst, one) => (one.journal + one.target > worst.journal + worst.target ? one : worst))
}
