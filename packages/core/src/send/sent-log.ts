/** A table at the source that says what was sent, for those who query there. */
import type { SendResult } from '../api/send.ts'
import { toldTable, type StatusTable } from '../plan/status.ts'
import type { TargetProfile } from '../plan/input.ts'
import type { DatasetName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import { canonicalMoment } from '../shape/written.ts'

const TEXT: LogicalType = { kind: 'utf8' }

/** A run's results are numbered in the order in which they came. */
const COLUMNS = {
  run: TEXT,
  number: { kind: 'int', bits: 64, signed: true },
  sent_at: { kind: 'timestamp', zoned: true },
  what: TEXT,
  row_key: TEXT,
  record_id: TEXT,
  fields_before: TEXT,
  fields_sent: TEXT,
  refused_field: TEXT,
  refused_reason: TEXT,
  note: TEXT,
} as const satisfies Record<string, LogicalType>

export function sentLogTable(table: DatasetName, profile: Pick<TargetProfile, 'typeOf'>): StatusTable {
  return toldTable(table, { key: 2, columns: COLUMNS }, profile)
}

/** In the order of the columns, canonical text. Keys of one column stand for themselves, others are JSON lists; fields are JSON objects. */
export function sentLogRow({ n, ...result }: SendResult & { n: number }): (string | null)[] {
  const { run, at, op, key, id, was, values, refused, note } = result
  const row: Record<keyof typeof COLUMNS, string | null> = {
    run,
    number: String(n),
    sent_at: canonicalMoment(at),
    what: refused ? 'refused' : op,
    row_key: key.length === 1 ? key[0]! : JSON.stringify(key),
    record_id: id,
    fields_before: was && JSON.stringify(was),
    fields_sent: values && JSON.stringify(values),
    refused_field: refused?.field ?? null,
    refused_reason: refused?.reason ?? null,
    note,
  }
  return Object.values(row)
}
