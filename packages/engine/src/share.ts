/** Which of the pipelines that need an engine are this one's to run. */
import type { EngineRecord, PipelineWork } from '@tide/core/definition/pipeline'

type Me = Pick<EngineRecord, 'id' | 'home'>

/** Of the pipelines that do not run here: those tied to this folder, and others up to this engine's share. */
export function worthTaking(
  idle: readonly PipelineWork[],
  all: readonly PipelineWork[],
  me: Me,
  engines: readonly EngineRecord[],
): PipelineWork[] {
  const free = idle.filter(work => work.free && mustRun(work))
  const movable = free.filter(({ home }) => home === null)
  const has = all.filter(work => work.holder === me.id && !work.free && work.home === null).length
  const room = Math.max(0, shareOf(all, me, engines) - has)
  return [...free.filter(({ home }) => home === me.home), ...movable.slice(0, room)]
}

/** How many of the pipelines that any engine may run are this engine's part. */
export function shareOf(all: readonly PipelineWork[], me: Me, engines: readonly EngineRecord[]): number {
  const movable = all.filter(work => work.home === null && mustRun(work)).length
  const live = engines.filter(engine => engine.live || engine.id === me.id).length
  return Math.ceil(movable / Math.max(1, live))
}

/** Whether a pipeline needs an engine: it runs, or it is yet to be taken off its source. */
export function mustRun({ state, wanted, hasReason }: PipelineWork): boolean {
  return (
    ['Copying', 'Following', 'Waiting', 'Sending', 'Paused'].includes(state) ||
    ((state === 'Stopped' || state === 'Finished') && wanted === 'stop' && !hasReason)
  )
}
