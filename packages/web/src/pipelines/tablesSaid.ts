import type { PipelineStatus } from '@tide/core/api/pipelines'
import { laneName } from '@tide/core/definition/two-way'
import { chosenTables } from '@tide/core/definition/choose'
import { datasetId } from '@tide/core/records/dataset'
import { plural } from '../format.ts'

/** How many tables a pipeline has; before its start only the patterns may be known that choose them. */
export function tablesSaid({ lanes, definition }: PipelineStatus): string {
  if (definition.shape === 'send') return definition.object || 'no object yet'
  if (definition.shape === 'two-way') return definition.lanes.map(laneName).join(', ') || 'no places yet'
  const { patterns = [] } = definition
  if (lanes.length > 0) return plural(new Set(lanes.map(({ source }) => datasetId(source))).size, 'table')
  // Those that are named take part whether they are there or not.
  const named = chosenTables(definition, []).length
  const byHand = named > 0 || patterns.length === 0 ? plural(named, 'table') : ''
  const byPattern = patterns.length > 0 ? `tables by ${plural(patterns.length, 'pattern')}` : ''
  return [byHand, byPattern].filter(Boolean).join(' and ')
}

/** Where the records come from, in a few words. */
export function sourcesSaid({ origins, fromName }: Pick<PipelineStatus, 'origins' | 'fromName'>): string {
  return origins.length > 0 ? plural(origins.length, 'origin') : fromName
}
