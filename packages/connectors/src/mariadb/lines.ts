/** Rows of MariaDB as lines of CSV. */
import { NEVER_QUOTED } from '@tide/core/records/csv'
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { KeyedTable } from '../contract/records.ts'
import type { Session } from './client.ts'
import { canonicalColumn, ident, TEXT } from './sql.ts'

const PART_BYTES = 256 * 1024

/** Types that are printed as canonical text by themselves, and never at length. */
const BY_ITSELF = new Set(['int', 'decimal', 'float', 'date'])

/** Of a text longer than this, quotes are doubled by an expression over bytes: REPLACE moves all that follows at each of them. */
const LONG_BYTES = 1024

/**
 * A whole row as a line of CSV: the server puts it together faster than we could, field by field. `quoted`: which fields come in
 * quotes, beside those that must.
 */
export function csvRow(columns: KeyedTable['columns'], quoted: readonly boolean[] = []): string {
  const fields = columns.map(({ name, type, nativeType }, i) => {
    const column = ident(name)
    const text = canonicalColumn(name, type, nativeType)
    const single = type.kind === 'float' && type.bits === 32
    if (BY_ITSELF.has(type.kind) && !single && !quoted[i] && !TEXT.test(nativeType))
      return `IFNULL(${/^(bit|year)/.test(nativeType) ? text : column}, '')`
    if (NEVER_QUOTED.has(type.kind) && !quoted[i]) return `IF(${column} IS NULL, '', ${text})`
    return `IF(${column} IS NULL, '', CONCAT('"', ${doubled(text)}, '"'))`
  })
  return `CONCAT(${fields.join(`, ',', `)}, '\\n')`
}

function doubled(text: string): string {
  const [long, short] = [`REGEXP_REPLACE(CAST(${text} AS BINARY), '"', '""')`, `REPLACE(${text}, '"', '""')`]
  return `IF(LENGTH(${text}) > ${LONG_BYTES}, ${long}, ${short})`
}

/** What such a statement brings, in parts of whole lines. */
export async function* csvOf(
  session: Session,
  sql: string,
  { dataset }: Pick<KeyedTable, 'dataset'>,
): AsyncGenerator<Uint8Array> {
  let [lines, bytes]: [Buffer[], number] = [[], 0]
  for await (const [line] of session.buffers(sql)) {
    if (!line) throw tooLarge(dataset)
    lines.push(line)
    bytes += line.length
    if (bytes < PART_BYTES) continue
    yield Buffer.concat(lines, bytes)
    ;[lines, bytes] = [[], 0]
  }
  if (bytes > 0) yield Buffer.concat(lines, bytes)
}

/** What a server puts together and finds too large is NULL to it. */
function tooLarge(dataset: DatasetName): Failure {
  return new Failure(
    'value',
    `${printName(dataset)} holds a row that is larger than the source’s max_allowed_packet, as text.`,
    'Raise max_allowed_packet at the source to more than twice the largest row, then continue.',
  )
}
