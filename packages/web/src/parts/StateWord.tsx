import type { PipelineStatus } from '@tide/core/api/pipelines'
import { doesOf } from '@tide/core/definition/definition'
import { count, duration, plural } from '../format.ts'

/** The state in words; colour only repeats it. */
export function StateWord({ pipeline }: { pipeline: PipelineStatus }) {
  return <span className={`font-semibold ${tone(pipeline)}`}>{stateText(pipeline)}</span>
}

/** Its engine is gone, and nobody else has what it takes to run it. */
export function waitsForEngine({ state, engine }: PipelineStatus): boolean {
  return state !== 'Stopped' && engine !== null && !engine.live && engine.affinity !== null
}

/** Its setup can be changed while it runs. */
export function canBeChanged({ state, wanted }: PipelineStatus): boolean {
  return wanted !== 'stop' && (state === 'Following' || state === 'Paused')
}

export function isArchive({ definition }: Pick<PipelineStatus, 'definition'>): boolean {
  return doesOf(definition) === 'archive'
}

/** Lanes that have stopped by themselves. */
function stoppedLanes({ lanes }: PipelineStatus): number {
  return lanes.filter(({ paused }) => paused?.why).length
}

function tone(pipeline: PipelineStatus): string {
  const { state, retry, reason } = pipeline
  const stopped = state === 'Stopped' && reason && reason.kind !== 'person'
  if (retry || waitsForEngine(pipeline) || stopped || stoppedLanes(pipeline) > 0) return 'text-buoy'
  return state === 'Paused' ? 'text-ochre' : 'text-ink'
}

export function stateText(pipeline: PipelineStatus): string {
  const { state, retry, wanted, engine } = pipeline
  if (waitsForEngine(pipeline)) return `Waiting for ${engine!.name}`
  if (retry) return `${state}, trying again`
  // How many of an archive's rows are in scope is not known before.
  if (state === 'Copying' && isArchive(pipeline)) return 'Archiving'
  if (state === 'Copying') return `Copying ${Math.floor(copyShare(pipeline) * 100)} %`
  if (wanted === 'stop' && state !== 'Stopped') return 'Stopping'
  if (state === 'Following' && stoppedLanes(pipeline) > 0)
    return `Following, but for ${plural(stoppedLanes(pipeline), 'lane')}`
  return state
}

/** How much of the planned rows has been copied, 0 to 1. */
export function copyShare({ lanes }: PipelineStatus): number {
  const planned = lanes.reduce((sum, lane) => sum + Math.max(lane.plannedRows, lane.copiedRows), 0)
  const copied = lanes.reduce(
    (sum, lane) => sum + (lane.copied ? Math.max(lane.plannedRows, lane.copiedRows) : lane.copiedRows),
    0,
  )
  return planned === 0 ? 0 : copied / planned
}

/** The one figure that matters: lag, or how long the copy will still take. */
export function mainFigure(pipeline: PipelineStatus): string {
  if (pipeline.definition.shape === 'send') return sendFigure(pipeline)
  if (pipeline.definition.shape === 'two-way')
    return pipeline.twoWay?.held ? `${count(pipeline.twoWay.held)} held` : ''
  if (pipeline.state === 'Copying') {
    const left = copySecondsLeft(pipeline)
    return left === null ? '' : `${duration(left)} left`
  }
  return pipeline.lagSeconds === null ? '' : duration(pipeline.lagSeconds)
}

/** Of one that sends: how far its run is, else how many records are held. */
function sendFigure({ send }: PipelineStatus): string {
  const { progress, held } = send ?? {}
  if (progress?.of) return `${Math.floor((progress.done / progress.of) * 100)} %`
  return held ? `${count(held)} held` : ''
}

/** Seconds the rest of the copy takes at the present rate; `null` while that is not known. */
export function copySecondsLeft({ lanes }: PipelineStatus): number | null {
  const rate = Math.max(0, ...lanes.map(lane => lane.rowsPerSecond))
  const left = lanes.reduce(
    (sum, lane) => sum + (lane.copied ? 0 : Math.max(0, lane.plannedRows - lane.copiedRows)),
    0,
  )
  return rate > 0 ? left / rate : null
}
