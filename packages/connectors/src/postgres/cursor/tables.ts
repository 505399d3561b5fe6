import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import { notByCursor, readTables } from '../catalogue.ts'

export interface CursorTable {
  dataset: DatasetName
  columns: { name: string; nativeType: string }[]
  key: string[]
}

/** The tables as they are now. Throws a Failure for one that cannot be followed by this column. */
export async function cursorTables(
  pool: Pool,
  names: readonly DatasetName[],
  column: string,
): Promise<CursorTable[]> {
  const found = await readTables(pool, names)
  return names.map((dataset, i) => {
    const table = found[i]
    if (!table)
      throw new Failure(
        'structural',
        `The table ${printName(dataset)} is not there any more.`,
        'Leave it out in the setup, or create it again, and start again: the tables are copied anew.',
      )
    const why = table.key.length === 0 ? 'it has no key' : notByCursor(table.columns, column)
    if (why)
      throw new Failure(
        'structural',
        `${printName(dataset)} cannot be followed: ${why}.`,
        'Leave it out in the setup, or mend it at the source, and start again: the tables are copied anew.',
      )
    return { dataset, ...table }
  })
}
