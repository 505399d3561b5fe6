/** Tables at the target that say how the pipeline stands, for those who query there: written with the data. */
import type { Column } from '../records/column.ts'
import { printName, type DatasetName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import type { PlanInput, TargetProfile } from './input.ts'
import type { Lane } from './lane.ts'
import type { PlanNote } from './note.ts'
import type { PrepareStep } from './steps.ts'
import { takenTables, tableKey } from './tables.ts'

const TEXT: LogicalType = { kind: 'utf8' }
const COUNT: LogicalType = { kind: 'int', bits: 64, signed: true }
const NUMBER: LogicalType = { kind: 'float', bits: 64 }
const MOMENT: LogicalType = { kind: 'timestamp', zoned: true }
const BOOL: LogicalType = { kind: 'bool' }

/** By the ends of their names; `key`: the first columns, which are never null. */
const TABLES = {
  lanes: {
    key: 2,
    columns: {
      source_table: TEXT,
      origin: TEXT,
      target_table: TEXT,
      state: TEXT,
      rows_copied: COUNT,
      inserted: COUNT,
      updated: COUNT,
      deleted: COUNT,
      held: COUNT,
      last_change: MOMENT,
      complete_up_to: MOMENT,
      consistent: BOOL,
      lag_seconds: NUMBER,
      written_at: MOMENT,
    },
  },
  runs: {
    key: 1,
    columns: {
      run: TEXT,
      origin: TEXT,
      kind: TEXT,
      state: TEXT,
      started_at: MOMENT,
      ended_at: MOMENT,
      rows_moved: COUNT,
      bytes: COUNT,
      held: COUNT,
      written_at: MOMENT,
    },
  },
  states: { key: 0, columns: { since: MOMENT, origin: TEXT, state: TEXT, complete_up_to: MOMENT } },
} as const

export type StatusTableName = keyof typeof TABLES

/** The columns of such a table, in order. */
export type StatusRow<T extends StatusTableName> = Record<keyof (typeof TABLES)[T]['columns'], string | null>

export interface StatusTable {
  table: DatasetName
  columns: Column[]
  key: string[]
}

export type StatusTables = Record<StatusTableName, StatusTable>

/** `prefix`: what their names begin with. */
export function statusTables(
  prefix: string,
  namespace: string,
  profile: Pick<TargetProfile, 'typeOf'>,
): StatusTables {
  const tableOf = (name: StatusTableName) =>
    toldTable({ namespace, name: `${prefix}_${name}` }, TABLES[name], profile)
  return { lanes: tableOf('lanes'), runs: tableOf('runs'), states: tableOf('states') }
}

/** `key`: so many of the first columns, which are never null. */
export function toldTable(
  table: DatasetName,
  { key, columns }: { key: number; columns: Readonly<Record<string, LogicalType>> },
  { typeOf }: Pick<TargetProfile, 'typeOf'>,
): StatusTable {
  const made = Object.entries(columns).map(([name, type], i): Column => {
    const keyParts = i < key ? key : 0
    const { native } = typeOf({ type, nativeType: '', sameKind: false, keyParts })
    return { name, type, nativeType: native, nullable: i >= key }
  })
  return { table, columns: made, key: made.slice(0, key).map(({ name }) => name) }
}

/** Where they are: beside the first lane's table. */
export function statusTableNames(prefix: string | undefined, lanes: readonly Lane[]): DatasetName[] {
  const [first] = lanes
  if (prefix === undefined || !first) return []
  return Object.keys(TABLES).map(name => ({
    namespace: first.target.namespace,
    name: `${prefix}_${name}`,
  }))
}

/** Makes those that are not there. What cannot be is in the notes. */
export function planStatus(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): PrepareStep[] {
  const { status: prefix, profile } = input
  const [first] = lanes
  if (prefix === undefined || !first) return []
  const keyOf = (table: DatasetName) => tableKey(profile, table)
  const taken = takenTables(lanes, input)
  const present = new Map(input.target.map(there => [keyOf(there), there]))
  const steps: PrepareStep[] = []
  for (const { table, columns, key } of Object.values(
    statusTables(prefix, first.target.namespace, profile),
  )) {
    const there = present.get(keyOf(table))
    const fits = there && columns.every(({ name }) => there.fields.some(field => field.name === name))
    const because =
      taken.get(keyOf(table)) ?? (there && !fits ? 'it is there already, with other columns' : undefined)
    if (because) {
      notes.push({
        level: 'refused',
        message: `${printName(table)} cannot say how the pipeline stands: ${because}.`,
        remedy: 'Let the names of its status tables begin otherwise.',
        section: 'start',
      })
    } else if (!there) steps.push({ step: 'create table', table, columns, key })
    // Of lanes that are no more nothing is to be read.
    else if (!input.running && key.length === 2) steps.push({ step: 'empty table', table })
  }
  return steps
}
