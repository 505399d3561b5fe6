/** Runs in words and figures. */
import { runSeconds, type RunKind, type RunRecord } from '@tide/core/definition/run'
import { per } from '@tide/core/runs/table'
import { count } from '../format.ts'

export const KINDS: Record<RunKind, string> = {
  copy: 'Copy',
  follow: 'Following',
  verify: 'Verification',
  repair: 'Repair',
  rewind: 'Rewind',
  archive: 'Archive',
  send: 'Sending',
  'two-way': 'In step',
}

interface Moved {
  rows: number
  bytes: number
  startedAt: string
  endedAt: string | null
}

export const rowsPerMinute = ({ rows, ...span }: Moved, now: number) => per(rows, runSeconds(span, now), 60)

export const gbPerHour = ({ bytes, ...span }: Moved, now: number) =>
  per(bytes / 1e9, runSeconds(span, now), 3600)

export function rateSaid(rows: number | null): string {
  return rows === null ? '–' : count(rows)
}

export function gbSaid(gb: number | null): string {
  if (gb === null || gb === 0) return '–'
  return gb < 0.01 ? 'under 0.01' : gb < 10 ? gb.toFixed(2) : count(gb)
}

export function stateSaid({ state }: Pick<RunRecord, 'state'>): string {
  return state === 'going' ? 'goes on' : state
}
