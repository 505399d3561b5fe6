/** Lists on their way into DuckDB, which reads them as JSON and wants of a column that all have one depth. */
import { Failure } from '@tide/core/failure'
import type { Column } from '@tide/core/records/column'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { depthOf, parseList } from '@tide/core/records/list'
import type { LogicalType } from '@tide/core/records/types'
import type { TurnField } from '../csv-fields.ts'

/** How the lists of a column are turned; undefined: the column holds none. The turn throws a Failure of kind `value`. */
export function listTurn(table: DatasetName, { name, type, nativeType }: Column): TurnField | undefined {
  if (type.kind !== 'list' || nativeType === 'VARCHAR') return undefined
  const depth = listDepth(type)
  return text => {
    const list = parseList(text, type.delimiter)
    const found = depthOf(list)
    if (found !== 0 && found !== depth) {
      throw new Failure(
        'value',
        `${printName(table)}.${name}: the list ${text.slice(0, 60)} has ${found} dimensions, the column was declared with ${depth}.`,
        'Declare the column at the source with the dimensions that it holds, or correct the value, and start again.',
      )
    }
    return JSON.stringify(list)
  }
}

function listDepth(type: LogicalType): number {
  return type.kind === 'list' ? 1 + listDepth(type.of) : 0
}
