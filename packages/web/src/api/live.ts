/** The live state of all pipelines, kept by one event stream. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { TideSample } from '@tide/core/pace/tide'
import { create } from 'zustand'

/** Two hours of readings, one a second. */
const READINGS = 7200

interface Live {
  pipelines: PipelineStatus[] | undefined
  /** Readings that came in since the page was opened, by pipeline. */
  readings: Record<string, TideSample[]>
  /** False while the stream is cut; what is shown is then old. */
  connected: boolean
  /** The time of the newest event, for relative times. */
  now: number
}

export const useLive = create<Live>(() => ({
  pipelines: undefined,
  readings: {},
  connected: true,
  now: Date.now(),
}))

const TRY_AGAIN_MS = 1_000

/**
 * Keeps the stream open while the page is looked at; it reconnects by itself. A browser grants few connections to one
 * server, and a page that is hidden or left (it may be kept for going back) must not hold one.
 */
export function followLive(): void {
  let events: EventSource | undefined
  const leave = () => {
    events?.close()
    events = undefined
  }
  const follow = () => {
    if (events || document.visibilityState === 'hidden') return
    events = new EventSource('/api/events')
    events.addEventListener('pipelines', take)
    events.addEventListener('error', () => {
      useLive.setState({ connected: false })
      // After an answer that is no stream (the server is just starting) a browser does not try again by itself.
      if (events?.readyState !== EventSource.CLOSED) return
      leave()
      setTimeout(follow, TRY_AGAIN_MS)
    })
  }
  document.addEventListener('visibilitychange', () =>
    document.visibilityState === 'hidden' ? leave() : follow(),
  )
  window.addEventListener('pagehide', leave)
  window.addEventListener('pageshow', follow)
  follow()
}

function take(event: MessageEvent<string>): void {
  const pipelines: PipelineStatus[] = JSON.parse(event.data)
  useLive.setState(({ readings }) => ({
    pipelines,
    readings: withReadings(readings, pipelines),
    connected: true,
    now: Date.now(),
  }))
}

function withReadings(readings: Live['readings'], pipelines: readonly PipelineStatus[]): Live['readings'] {
  const next = { ...readings }
  for (const { id, sample } of pipelines) {
    const before = next[id] ?? []
    if (sample && before.at(-1)?.at !== sample.at) next[id] = [...before.slice(-READINGS), sample]
  }
  return next
}

export function usePipeline(id: string | undefined): PipelineStatus | undefined {
  return useLive(live => live.pipelines?.find(pipeline => pipeline.id === id))
}

/** Puts an answer in at once, before the next event comes. */
export function putPipeline(status: PipelineStatus): void {
  useLive.setState(({ pipelines = [] }) => ({
    pipelines: pipelines.some(({ id }) => id === status.id)
      ? pipelines.map(one => (one.id === status.id ? status : one))
      : [...pipelines, status],
  }))
}

export function dropPipeline(id: string): void {
  useLive.setState(({ pipelines = [] }) => ({ pipelines: pipelines.filter(one => one.id !== id) }))
}
