/** Runs as a table: a row for each lane of each run, for a spreadsheet or a warehouse. */
import type { RunAnswer } from '../api/runs.ts'
import { runSeconds } from '../definition/run.ts'
import { csvLine } from '../records/csv.ts'

export type RunColumnType = 'text' | 'integer' | 'number' | 'time'

export interface RunColumn {
  name: string
  type: RunColumnType
  /** As they stand in the rows; times as milliseconds since 1970. */
  values: (string | number | null)[]
}

/** `now`: until when what still goes on has lasted; milliseconds since 1970. */
export function runColumns(runs: readonly RunAnswer[], now: number): RunColumn[] {
  const rows = runs.flatMap(run => {
    const lanes = run.lanes.length > 0 ? run.lanes : [null]
    return lanes.map(lane => {
      const { rows, bytes } = lane ?? run
      const seconds = runSeconds(lane && run.kind !== 'follow' ? lane : run, now)
      return { run, lane, rows, bytes, seconds }
    })
  })
  type Line = (typeof rows)[number]
  const column = (
    name: string,
    type: RunColumnType,
    of: (row: Line) => string | number | null,
  ): RunColumn => ({
    name,
    type,
    values: rows.map(of),
  })
  const time = (text: string | null) => (text === null ? null : Date.parse(text))
  return [
    column('run', 'text', ({ run }) => run.id),
    column('pipeline', 'text', ({ run }) => run.pipelineName),
    column('origin', 'text', ({ run }) => (run.origin === '' ? null : run.origin)),
    column('kind', 'text', ({ run }) => run.kind),
    column('state', 'text', ({ run }) => run.state),
    column('started_at', 'time', ({ run }) => time(run.startedAt)),
    column('ended_at', 'time', ({ run }) => time(run.endedAt)),
    column('table', 'text', ({ lane }) => lane?.table ?? null),
    column('mode', 'text', ({ lane }) => lane?.mode ?? null),
    column('rows', 'integer', ({ rows }) => rows),
    column('inserted', 'integer', ({ lane }) => lane?.inserted ?? null),
    column('updated', 'integer', ({ lane }) => lane?.updated ?? null),
    column('deleted', 'integer', ({ lane }) => lane?.deleted ?? null),
    column('truncated', 'integer', ({ lane }) => lane?.truncated ?? null),
    column('bytes', 'integer', ({ bytes }) => bytes),
    column('batches', 'integer', ({ lane }) => lane?.batches ?? null),
    column('seconds', 'number', ({ seconds }) => seconds),
    column('rows_per_minute', 'number', ({ rows, seconds }) => per(rows, seconds, 60)),
    column('gb_per_hour', 'number', ({ bytes, seconds }) => per(bytes / 1e9, seconds, 3600)),
    column('source_reads', 'integer', ({ run }) => run.reads),
    column('target_writes', 'integer', ({ run }) => run.writes),
    column('retries', 'integer', ({ run }) => run.retries),
    column('held', 'integer', ({ run }) => run.held),
    column('note', 'text', ({ run }) => run.note),
  ]
}

/** How much in so many seconds; null where no time went by. */
export function per(amount: number, seconds: number, every: number): number | null {
  return seconds > 0 ? (amount / seconds) * every : null
}

/** With a line of names; times as ISO 8601. */
export function runsCsv(columns: readonly RunColumn[]): string {
  const lines = columns[0]!.values.map((_, i) =>
    csvLine(
      columns.map(({ type, values }) => {
        const value = values[i]!
        return value === null ? null : type === 'time' ? new Date(value).toISOString() : String(value)
      }),
    ),
  )
  return [csvLine(columns.map(({ name }) => name)), ...lines].join('')
}
