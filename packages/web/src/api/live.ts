/** The live state of all pipelines, kept by one event stream. */
import type { PipelineStatus } from '@tide/core/api/types'
import { create } from 'zustand'

interface Live {
  pipelines: PipelineStatus[] | undefined
  /** False while the stream is cut; what is shown is then old. */
  connected: boolean
  /** The time of the newest event, for relative times. */
  now: number
}

export const useLive = create<Live>(() => ({ pipelines: undefined, connected: true, now: Date.now() }))

/** Opens the stream; it reconnects by itself. */
export function followLive(): void {
  const events = new EventSource('/api/events')
  events.addEventListener('pipelines', event => {
    useLive.setState({ pipelines: JSON.parse(event.data), connected: true, now: Date.now() })
  })
  events.addEventListener('error', () => useLive.setState({ connected: false }))
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
