/** The sheets of a stand-in spreadsheet: rows of texts by number, the first of which names the columns. Kept over restarts. */
import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs'
import { dirname } from 'node:path'
import { NotTaken } from '../apps/not-taken.ts'

export interface Sheet {
  id: string
  title: string
  /** Another one after every change. */
  revision: number
  columns: { title: string; hidden: boolean }[]
  /** From row 2 on. */
  rows: string[][]
}

/** What programs change at once. Rows are counted from 1, columns from 0. */
export interface SheetChange {
  cells: { row: number; column: number; value: string }[]
  append: string[][]
  remove: number[]
}

/** The row that names the columns. */
const FIRST_ROW = 2
const LONGEST_CELL = 2000

export class Book {
  readonly sheets: Sheet[]
  private readonly file: string

  /** `fill`: what is there when there was nothing. */
  constructor(file: string, fill: () => Sheet[]) {
    this.file = file
    mkdirSync(dirname(file), { recursive: true })
    this.sheets = read(file) ?? fill()
    this.save()
  }

  sheet(id: string): Sheet {
    const found = this.sheets.find(one => one.id === id)
    if (found) return found
    throw new NotTaken(null, 'not_found', `There is no sheet ${id}.`)
  }

  /** All or nothing. `revision`: of which the change is; undefined: of whatever there is. */
  change<T>(id: string, revision: number | undefined, change: (sheet: Sheet) => T): T {
    const sheet = this.sheet(id)
    if (revision !== undefined && revision !== sheet.revision)
      throw new NotTaken(null, 'changed', `${sheet.title} was changed meanwhile.`)
    const next = structuredClone(sheet)
    const came = change(next)
    next.revision++
    this.sheets[this.sheets.indexOf(sheet)] = next
    this.save()
    return came
  }

  private save(): void {
    writeFileSync(`${this.file}.new`, JSON.stringify(this.sheets))
    renameSync(`${this.file}.new`, this.file)
  }
}

function read(file: string): Sheet[] | undefined {
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as Sheet[]
  } catch {
    return undefined // the first time
  }
}

export function addColumn(sheet: Sheet, title: string, hidden: boolean): void {
  if (sheet.columns.some(one => one.title === title))
    throw new NotTaken(title, 'taken', `There is a column “${title}” already.`)
  sheet.columns.push({ title, hidden })
  for (const row of sheet.rows) row.push('')
}

export function removeColumn(sheet: Sheet, at: number): void {
  sheet.columns.splice(at, 1)
  for (const row of sheet.rows) row.splice(at, 1)
}

/** Empty, above the row of that number. */
export function insertRow(sheet: Sheet, above: number, cells: readonly string[] = []): void {
  sheet.rows.splice(above - FIRST_ROW, 0, whole(sheet, cells))
}

export function sortBy(sheet: Sheet, column: number): void {
  sheet.rows.sort((one, other) => (one[column] ?? '').localeCompare(other[column] ?? ''))
}

/** Returns the numbers of the rows that were changed or added. */
export function write(sheet: Sheet, { cells, append, remove }: SheetChange): number[] {
  const changed = new Set<string[]>()
  for (const { row, column, value } of cells) {
    const present = rowOf(sheet, row)
    if (!sheet.columns[column]) throw new NotTaken(null, 'bad_request', `There is no column ${column}.`)
    present[column] = taken(value, sheet.columns[column].title)
    changed.add(present)
  }
  const gone = new Set(remove.map(row => rowOf(sheet, row)))
  sheet.rows = sheet.rows.filter(row => !gone.has(row))
  for (const row of append) {
    const made = whole(
      sheet,
      row.map((value, i) => taken(value, sheet.columns[i]?.title ?? '')),
    )
    sheet.rows.push(made)
    changed.add(made)
  }
  return sheet.rows.flatMap((row, i) => (changed.has(row) ? [i + FIRST_ROW] : []))
}

export function rowOf(sheet: Sheet, number: number): string[] {
  const row = sheet.rows[number - FIRST_ROW]
  if (row) return row
  throw new NotTaken(null, 'not_found', `${sheet.title} has no row ${number}.`)
}

function taken(value: string, title: string): string {
  if (value.length <= LONGEST_CELL) return value
  throw new NotTaken(title, 'too_long', `A cell takes ${LONGEST_CELL} characters, not ${value.length}.`)
}

function whole({ columns }: Sheet, cells: readonly string[]): string[] {
  return columns.map((_, i) => cells[i] ?? '')
}
