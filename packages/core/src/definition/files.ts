/** How rows land where the target is a lake: a folder or a bucket of files. */
import { EVERY_SECONDS } from './two-way.ts'
import { Type, type Static } from 'typebox'

/** Kinds of connections whose tables are files. */
const LAKES: readonly string[] = ['folder', 'bucket']

export const isLake = (kind: string | undefined) => kind !== undefined && LAKES.includes(kind)

/** Every change becomes a row that stays. */
export const isChangeFiles = ({ files }: { files?: FilesChoice | undefined }) =>
  files !== undefined && landedFiles(files).as === 'changes'

/** How many changes one file waits for, and how long. */
export const FILES_GATHER = { changes: 100_000, waitMs: 60_000 }

/** For how long a change waits, in seconds: for others, or for the next look at two apps; as was said, or as is usual. */
export function gathersSeconds(definition: {
  shape?: string
  speed?: { waits?: number } | undefined
  files?: FilesChoice | undefined
  every?: number | undefined
}): number {
  if (definition.shape === 'two-way') return definition.every ?? EVERY_SECONDS
  return definition.speed?.waits ?? (definition.files ? FILES_GATHER.waitMs / 1000 : 0)
}

/** Placeholders of `folders`: parts of the moment at which a change was committed, in UTC; of a copied row, at which it landed. */
export const FOLDER_PARTS = ['year', 'month', 'day', 'hour', 'date'] as const

const FORMATS = ['json lines', 'csv', 'parquet'] as const
const COMPRESSIONS = ['none', 'gzip', 'zstd', 'snappy'] as const

export const filesSchema = Type.Object(
  {
    /** `changes`: every change as a row, in order; `merged`: the table as it is now, which changes are merged into. */
    as: Type.Optional(Type.Enum(['changes', 'merged'])),
    format: Type.Optional(Type.Enum(FORMATS)),
    compress: Type.Optional(Type.Enum(COMPRESSIONS)),
    /** Each change also says what its row was before, as far as the source tells it. */
    before: Type.Optional(Type.Boolean()),
    /** Folders below a table's own, such as `date={date}/hour={hour}`; empty: none. */
    folders: Type.Optional(
      Type.String({
        title: 'Folders',
        maxLength: 200,
        pattern: `^$|^(?:[A-Za-z0-9_=-]|\\{(?:${FOLDER_PARTS.join('|')})\\})+(?:/(?:[A-Za-z0-9_=-]|\\{(?:${FOLDER_PARTS.join('|')})\\})+)*$`,
        patternSays: `is made of letters, digits, _, = and -, of / between folders, and of ${FOLDER_PARTS.map(part => `{${part}}`).join(', ')}`,
      }),
    ),
  },
  { additionalProperties: false },
)

export type FilesChoice = Static<typeof filesSchema>

/** The choice with nothing left open. */
export const landedFilesSchema = Type.Object({
  as: Type.Enum(['changes', 'merged']),
  format: Type.Enum(FORMATS),
  compress: Type.Enum(COMPRESSIONS),
  folders: Type.String(),
})

export type LandedFiles = Static<typeof landedFilesSchema>

/** What each format can be compressed by; what is best comes first. */
export const COMPRESSED_BY: Record<LandedFiles['format'], readonly LandedFiles['compress'][]> = {
  'json lines': ['gzip', 'none'],
  csv: ['gzip', 'none'],
  parquet: ['zstd', 'snappy', 'none'],
}

export function landedFiles({ as = 'changes', format, compress, folders = '' }: FilesChoice): LandedFiles {
  const written = as === 'merged' ? 'parquet' : (format ?? 'json lines')
  return { as, format: written, compress: compress ?? COMPRESSED_BY[written][0]!, folders }
}

/** The folders of a moment, ISO 8601 in UTC or canonical text of one. */
export function foldersOf(template: string, at: string): string {
  const [year, month, day, hour] = [at.slice(0, 4), at.slice(5, 7), at.slice(8, 10), at.slice(11, 13)]
  const parts: Record<string, string> = { year, month, day, hour, date: `${year}-${month}-${day}` }
  return template.replace(/\{(\w+)\}/g, (_, part: string) => parts[part]!)
}
