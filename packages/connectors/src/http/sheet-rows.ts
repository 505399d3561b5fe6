/** Rows of a sheet as records: by the names of the first row, and a key in a column of ours. */
import { createHash } from 'node:crypto'
import type { AppField, AppObject, WriteAnswer, WriteOperation } from '@tide/core/app/object'
import { ROW_VERSION } from '@tide/core/app/table-object'
import type { AppRecord } from '../contract/app.ts'

/** What the column of keys is called. */
export const KEY_COLUMN = 'Key of the row (do not change)'
const KEY = /^[0-9a-f]{12}$/
export interface Row {
  number: number
  cells: string[]
}

/** A sheet at one revision. */
export interface Snapshot {
  revision: string
  header: string[]
  rows: Row[]
}

export interface Writes {
  cells: { row: number; column: number; value: string }[]
  append: string[][]
  remove: number[]
}

export function objectOf(name: string, title: string, header: readonly string[]): AppObject {
  const columns = columnsOf(header)
  const twice = columns.find((one, i) => columns.indexOf(one) !== i)
  const open = twice === undefined && columns.length > 0
  return {
    name,
    title,
    key: KEY_COLUMN,
    label: columns[0] ?? null,
    fields: [fieldOf(KEY_COLUMN, true), ...new Set(columns)].map(one =>
      typeof one === 'string' ? fieldOf(one, false) : one,
    ),
    can: { list: open, read: open, create: open, change: open, remove: open },
    changed: null,
    created: null,
    version: ROW_VERSION,
    findBy: [],
    ...(header.includes(KEY_COLUMN)
      ? {}
      : { adds: `a column “${KEY_COLUMN}”, which is hidden and by which its rows are known` }),
    ...(open
      ? {}
      : {
          closed:
            twice === undefined
              ? 'Its first row names no columns; write their names there.'
              : `Two columns are called “${twice}”; give one of them another name.`,
        }),
  }
}

/** Their names, but for ours; one without a name is nobody's. */
export function columnsOf(header: readonly string[]): string[] {
  return header.filter(one => one !== '' && one !== KEY_COLUMN)
}

function fieldOf(name: string, readOnly: boolean): AppField {
  return {
    name,
    title: name,
    type: { kind: 'utf8' },
    nativeType: 'text',
    required: false,
    readOnly,
    choices: null,
    maxLength: null,
    unique: false,
    refers: null,
    email: false,
  }
}

/** Each row with its key; undefined: it has none of ours, or that of a row above. */
export function keyed(
  header: readonly string[],
  rows: readonly Row[],
): { key: string | undefined; row: Row }[] {
  const column = header.indexOf(KEY_COLUMN)
  const taken = new Set<string>()
  return rows.map(row => {
    const key = row.cells[column] ?? ''
    const isOurs = KEY.test(key) && !taken.has(key)
    taken.add(key)
    return { key: isOurs ? key : undefined, row }
  })
}

export function recordOf(header: readonly string[], { cells }: Row, key: string): AppRecord {
  const values = header.flatMap((name, i): [string, string | null][] =>
    name === '' || name === KEY_COLUMN ? [] : [[name, cells[i] || null]],
  )
  return { ...Object.fromEntries(values), [KEY_COLUMN]: key, [ROW_VERSION]: versionOf(values) }
}

/** However the columns stand. */
function versionOf(values: readonly [string, string | null][]): string {
  const sorted = values.toSorted(([one], [other]) => (one < other ? -1 : 1))
  return createHash('sha256').update(JSON.stringify(sorted)).digest('base64').slice(0, 22)
}

export function keyFor(once: string, n: number): string {
  return createHash('sha256').update(`${once} ${n}`).digest('hex').slice(0, 12)
}

/** What is to be sent, and what is answered once it is done. */
export function prepared(
  { header, rows }: Snapshot,
  operations: readonly WriteOperation[],
  keys: readonly string[],
): { writes: Writes; answers: WriteAnswer[] } {
  const writes: Writes = { cells: [], append: [], remove: [] }
  const by = new Map(keyed(header, rows).flatMap(({ key, row }) => (key === undefined ? [] : [[key, row]])))
  const answers = operations.map((operation, n): WriteAnswer => {
    const unknown = Object.keys(operation.values).find(name => !header.includes(name))
    if (unknown !== undefined)
      return { answer: 'refused', field: unknown, reason: `There is no column “${unknown}”.` }
    const id = operation.op === 'create' ? keys[n]! : operation.id
    const row = by.get(id)
    switch (operation.op) {
      case 'create':
        if (!row)
          writes.append.push(header.map(name => (name === KEY_COLUMN ? id : valueIn(operation.values, name))))
        return { answer: 'done', id }
      case 'remove':
        if (row) writes.remove.push(row.number)
        return { answer: 'done', id }
      case 'change': {
        if (!row) return { answer: 'gone' }
        const { version, values } = operation
        if (version !== undefined && recordOf(header, row, id)[ROW_VERSION] !== version)
          return { answer: 'changed' }
        for (const [name, value] of Object.entries(values))
          writes.cells.push({ row: row.number, column: header.indexOf(name), value: value ?? '' })
        return { answer: 'done', id }
      }
    }
  })
  return { writes, answers }
}

/** Columns can be called as anything, also as what every object has. */
function valueIn(values: WriteOperation['values'], name: string): string {
  return Object.hasOwn(values, name) ? (values[name] ?? '') : ''
}
