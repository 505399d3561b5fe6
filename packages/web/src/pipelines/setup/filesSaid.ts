import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { landedFiles, type LandedFiles } from '@tide/core/definition/files'

export const FORMATS: Record<LandedFiles['format'], string> = {
  'json lines': 'JSON Lines',
  csv: 'CSV',
  parquet: 'Parquet',
}

export const COMPRESSIONS: Record<LandedFiles['compress'], string> = {
  none: 'not compressed',
  gzip: 'gzip',
  zstd: 'zstd',
  snappy: 'snappy',
}

/** What files there are, in a line. */
export function filesSaid(files: NonNullable<ReplicateDefinition['files']>): string {
  const { as, format, compress, folders } = landedFiles(files)
  if (as === 'merged') return 'Each table as an Iceberg table, into which changes are merged'
  return [
    `Every change as a row of ${FORMATS[format]}, ${COMPRESSIONS[compress]}`,
    ...(folders === '' ? [] : [`in folders ${folders}`]),
    ...(files.before ? ['with what a row was before'] : []),
  ].join(', ')
}
