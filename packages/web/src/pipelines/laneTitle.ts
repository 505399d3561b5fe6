import type { LaneStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'

/** The table a lane is of, and the origin where there are several. */
export function laneTitle({ source, origin }: Pick<LaneStatus, 'source' | 'origin'>): string {
  return origin === undefined ? printName(source) : `${printName(source)} of ${origin}`
}
