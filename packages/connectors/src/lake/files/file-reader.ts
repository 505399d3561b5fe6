/** Rows of files for people and verifications, in the order of files and lines. */
import type { Grid } from '@tide/core/api/browse'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable, OrderedTable, ScannedTable } from '../../contract/records.ts'
import type { QueryLimits, StreamLimits } from '../../contract/session.ts'
import { Answer } from '../../question/answer.ts'
import type { FileTables } from './file-tables.ts'

const PART_LINES = 2_000

export class FileReader {
  private readonly tables: FileTables

  constructor(tables: FileTables) {
    this.tables = tables
  }

  async preview(name: DatasetName, limits: QueryLimits): Promise<Grid> {
    const table = await this.tables.of(name)
    const answer = new Answer(limits)
    const columns = table.fields.map(({ name, nativeType }) => ({ name, type: nativeType }))
    for (const file of table.files)
      for await (const row of this.tables.rows(table, file, table.fields)) {
        limits.signal.throwIfAborted()
        if (answer.full) return answer.grid(columns)
        answer.add(row.map(value => value ?? null))
      }
    return answer.grid(columns)
  }

  async count(name: DatasetName, { signal }: QueryLimits): Promise<number> {
    const table = await this.tables.of(name)
    let count = 0
    for (const file of table.files) {
      const rows = this.tables.rows(table, file, [])
      while (!(await rows.next()).done) {
        signal.throwIfAborted()
        count++
      }
    }
    return count
  }

  async row(asked: KeyedTable, key: Key | null): Promise<Row | null> {
    if (key) return (await this.rows(asked, [key]))[0] ?? null
    const table = await this.tables.of(asked.dataset)
    let last: Row | null = null
    const file = table.files.at(-1)
    if (file) for await (const row of this.tables.rows(table, file, asked.columns)) last = row
    return last
  }

  async rows({ dataset, columns }: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
    const table = await this.tables.of(dataset)
    const wanted = new Map<string, Set<string>>()
    for (const [file, line] of keys) wanted.set(file!, (wanted.get(file!) ?? new Set()).add(line!))
    const found: Row[] = []
    for (const file of table.files) {
      const lines = wanted.get(file.path.slice(table.folder.length))
      if (!lines) continue
      const last = Math.max(...[...lines].map(Number))
      for await (const row of this.tables.rows(table, file, [...columns, LINE])) {
        const line = row.at(-1)!
        if (lines.has(line)) found.push(row.slice(0, -1))
        if (Number(line) >= last) break
      }
    }
    return found
  }

  async *ordered(
    { dataset, columns, quoted }: OrderedTable,
    { signal }: Omit<StreamLimits, 'batchRows'>,
  ): AsyncGenerator<Uint8Array> {
    const table = await this.tables.of(dataset)
    let lines: string[] = []
    for (const file of table.files)
      for await (const row of this.tables.rows(table, file, columns)) {
        lines.push(quotedLine(row, quoted))
        if (lines.length < PART_LINES) continue
        signal.throwIfAborted()
        yield Buffer.from(lines.join(''))
        lines = []
      }
    if (lines.length > 0) yield Buffer.from(lines.join(''))
  }

  async *scan(
    { dataset, columns }: ScannedTable,
    { batchRows, signal }: StreamLimits,
  ): AsyncGenerator<Row[]> {
    const table = await this.tables.of(dataset)
    let rows: Row[] = []
    for (const file of table.files)
      for await (const row of this.tables.rows(table, file, columns)) {
        if (rows.push(row) < batchRows) continue
        signal.throwIfAborted()
        yield rows
        rows = []
      }
    yield rows
  }
}

const LINE = { name: '_line', type: { kind: 'int', bits: 64, signed: true } } as const

function quotedLine(row: Row, quoted: readonly boolean[]): string {
  const fields = row.map((value, i) => {
    if (value === null || value === undefined) return ''
    return quoted[i] ? `"${value.replaceAll('"', '""')}"` : value
  })
  return `${fields.join(',')}\n`
}
