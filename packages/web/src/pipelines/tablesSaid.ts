import type { PipelineStatus } from '@tide/core/api/pipelines'
import { datasetId } from '@tide/core/records/dataset'
import { plural } from '../format.ts'

/** How many tables a pipeline has; before its start only the patterns may be known that choose them. */
export function tablesSaid({ lanes, definition: { tables, patterns = [] } }: PipelineStatus): string {
  if (lanes.length > 0) return plural(new Set(lanes.map(({ source }) => datasetId(source))).size, 'table')
  const byHand = tables.length > 0 || patterns.length === 0 ? plural(tables.length, 'table') : ''
  const byPattern = patterns.length > 0 ? `tables by ${plural(patterns.length, 'pattern')}` : ''
  return [byHand, byPattern].filter(Boolean).join(' and ')
}

/** Where the records come from, in a few words. */
export function sourcesSaid({ origins, fromName }: Pick<PipelineStatus, 'origins' | 'fromName'>): string {
  return origins.length > 0 ? plural(origins.length, 'origin') : fromName
}
