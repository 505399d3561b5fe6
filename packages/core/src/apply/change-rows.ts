/** Rows of change files that no single change has brought: rows as they stand, or that are known to be gone. */
import type { HistoryColumn } from '../plan/lane.ts'
import { packedValue, TEXT, valueEnd, type PackedRow, RowPack, type RowWriter } from '../records/tuple.ts'
import type { Key, Value } from '../records/value.ts'
import { canonicalMoment } from '../shape/written.ts'

export class ChangeRows {
  private readonly columns: readonly HistoryColumn[]
  /** Of each column, where its value is in a row that is written; -1: nowhere. */
  private readonly places: readonly number[]
  private readonly keyNames: readonly string[]
  private pack = new RowPack()

  /** `written`: the names of what rows bring, in order. */
  constructor(columns: readonly HistoryColumn[], written: readonly string[], keyNames: readonly string[]) {
    this.columns = columns
    this.keyNames = keyNames
    this.places = columns.map(({ value }) => (value.from === 'after' ? written.indexOf(value.column) : -1))
  }

  /** The row as it stands, which takes the place of whatever has its key; what was not sent is not told. */
  standing(row: PackedRow, landedAt: string): PackedRow {
    const starts = startsOf(row)
    const untold = this.columns.flatMap(({ name }, i) => {
      const place = this.places[i]!
      return place >= 0 && packedValue(row, place) === undefined ? [name] : []
    })
    return this.row('copy', landedAt, untold, (writer, i) => {
      const place = this.places[i]!
      const [start, end] = [starts[place], starts[place + 1]]
      if (start === undefined || row.bytes[start] !== TEXT) writer.null()
      else writer.copy(row.bytes, start, end!)
    })
  }

  /** There is no row of this key any more. */
  gone(key: Key, landedAt: string): PackedRow {
    const values = new Map(this.keyNames.map((name, i): [string, Value] => [name, key[i]]))
    const untold = this.columns.flatMap(({ name, value }) =>
      value.from === 'before' && !values.has(value.column) ? [name] : [],
    )
    return this.row('delete', landedAt, untold, (writer, i) => {
      const { value } = this.columns[i]!
      const known = value.from === 'before' ? values.get(value.column) : undefined
      if (typeof known === 'string') writer.text(known)
      else writer.null()
    })
  }

  /** There are no rows any more. */
  emptied(landedAt: string): PackedRow {
    return this.row('truncate', landedAt, [], writer => writer.null())
  }

  private row(
    operation: string,
    landedAt: string,
    untold: readonly string[],
    value: (writer: RowWriter, column: number) => void,
  ): PackedRow {
    return this.pack.row(writer => {
      writer.begin(this.columns.length)
      this.columns.forEach(({ value: { from } }, i) => {
        if (from === 'operation') writer.text(operation)
        else if (from === 'landed at') writer.text(canonicalMoment(landedAt)!)
        else if (from === 'not told' && untold.length > 0) writer.text(JSON.stringify(untold))
        else if (from === 'after' || from === 'before') value(writer, i)
        else writer.null()
      })
    })
  }
}

function startsOf({ bytes, at: start }: PackedRow): number[] {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  const starts = [start + 2]
  for (let i = 0; i < columns; i++) starts.push(valueEnd(bytes, starts[i]!))
  return starts
}
