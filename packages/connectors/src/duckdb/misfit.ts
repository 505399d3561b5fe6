/** Names the value that does not fit, of a file that has been read in vain. */
import { Failure, messageOf } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import { printName } from '@tide/core/records/dataset'
import type { TargetLane } from '../contract/target.ts'
import { duckdbFailure } from './errors.ts'
import type { DuckdbConnection } from './host.ts'
import { readCsv, type CsvFile } from './sql.ts'

/** Whether it may be because of a value. */
export function isMisfit(thrown: unknown): boolean {
  return /^(Conversion|Invalid Input|Constraint|Out of Range) Error/i.test(messageOf(thrown))
}

/** A file that cannot be read at all is not for a second try: that error is thrown. */
export async function misfit(
  connection: DuckdbConnection,
  lane: TargetLane,
  columns: readonly Column[],
  file: CsvFile,
  cause: unknown,
  where: string,
): Promise<Failure> {
  const { read, select } = readCsv(file, columns, true)
  const key = lane.key.map(name => `c${columns.findIndex(column => column.name === name)}`).join(`, `)
  for (const [i, column] of columns.entries()) {
    const [row] = await connection.ask(
      `SELECT left(c${i}, 60), concat_ws(', ', ${key}) FROM ${read} WHERE c${i} IS NOT NULL AND TRY(${select[i]}) IS NULL LIMIT 1`,
    )
    if (!row) continue
    return new Failure(
      'value',
      `${printName(lane.table)}.${column.name}: the value ${row[0]} does not fit ${column.nativeType}, in the row with ${lane.key.join(', ')} ${row[1]}.`,
      'Correct the value at the source and continue, or leave the table out and start again.',
      cause,
    )
  }
  const failure = duckdbFailure(cause, where)
  if (!/^Invalid Input Error: CSV Error/.test(messageOf(cause))) return failure
  // By one thread it has just been read from end to end, several times. The batch is made again.
  return new Failure(
    'transient',
    failure.message,
    'It could be read now; it is tried again by itself.',
    cause,
  )
}
