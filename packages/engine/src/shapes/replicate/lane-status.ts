import type { LaneStatus } from '@tide/core/api/pipelines'
import type { LaneProgress } from '@tide/core/checkpoint/checkpoint'
import { secondsLeft } from '@tide/core/pace/rate'
import type { Lane } from '@tide/core/plan/lane'

/** How a lane stands; `rate`: rows a second that its copy has come to lately. */
export function laneStatus(
  { source, target, rows }: Lane,
  progress: LaneProgress | undefined,
  rate: number,
  rowsThere: number | null,
): LaneStatus {
  const copied = progress?.copied ?? false
  const copiedRows = progress?.copiedRows ?? 0
  const rowsPerSecond = progress && !copied ? rate : 0
  return {
    source,
    target,
    copied,
    detached: progress?.own !== undefined && progress.paused === undefined,
    paused: progress?.paused ?? null,
    copiedRows,
    plannedRows: rows,
    rowsPerSecond,
    secondsLeft: copied ? 0 : secondsLeft(Math.max(0, rows - copiedRows), rowsPerSecond),
    inserted: progress?.inserted ?? 0,
    updated: progress?.updated ?? 0,
    deleted: progress?.deleted ?? 0,
    truncated: progress?.truncated ?? 0,
    bytes: progress?.bytes ?? 0,
    rowsThere,
    differs: progress?.differs ?? 0,
    leftOut: progress?.leftOut?.changes ?? 0,
    lastChange: progress?.lastChange ?? null,
    ...(progress?.archive
      ? { archive: { deleted: progress.archive.deleted, kept: progress.archive.kept } }
      : {}),
  }
}
