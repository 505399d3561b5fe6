/** From a case to the statements of a dialect. */
import { chance } from './chance.ts'
import type { DifferentialCase, StepCase, TableCase } from './case.ts'
import type { TypeSpec } from './types.ts'

export interface BuiltColumn {
  name: string
  spec: TypeSpec
  inKey: boolean
  notNull: boolean
  generated: boolean
  hasDefault: boolean
}

export interface BuiltTable {
  name: string
  columns: BuiltColumn[]
  identity: number
  partitioned: boolean
  unique: BuiltColumn | undefined
  refers: BuiltTable | undefined
}

export interface BuiltTransaction {
  phase: number
  session: number
  /** One list for each step: a step may be several statements. */
  statements: string[]
  end: number
  /** Before which statement a savepoint is set, which is rolled back to at the end; undefined: none. */
  savepoint: number | undefined
}

export interface Script {
  tables: BuiltTable[]
  /** By table: what makes it, with its first rows. */
  setup: { create: string[]; rows: string[] }[]
  transactions: BuiltTransaction[]
}

export interface Dialect {
  types: readonly TypeSpec[]
  ident(name: string): string
  /** A name that the source takes, of one that it may not take. */
  nameable(name: string): string
  create(table: BuiltTable): string[]
  /** Inserts, or puts in the place of the row with the same key; `null`: that cannot be said of this table. */
  upsert(table: BuiltTable, insert: string, columns: readonly BuiltColumn[], way: number): string
  /** A statement carried out by the server within a block of its own. */
  inBlock(statement: string): string[]
  truncate(table: BuiltTable): string
  /** What changes a table but none of its rows. */
  harmless(table: BuiltTable, way: number): string[]
  /** What the source can do with such a table at all. */
  allows: { deletes: boolean; partitions: boolean; truncate: boolean }
}

export function buildScript(one: DifferentialCase, dialect: Dialect): Script {
  const names = new Set<string>()
  const tables: BuiltTable[] = []
  for (const table of one.tables) tables.push(buildTable(table, dialect, names, tables[0]))
  const writer = new Writer(dialect, one.wild)
  return {
    tables,
    setup: tables.map((table, i) => ({
      create: dialect.create(table),
      rows: Array.from({ length: one.tables[i]!.rows }, (_, key) => writer.insert(table, [key], key)),
    })),
    transactions: one.transactions.map(({ phase, session, steps, end, savepoint }) => {
      const statements = steps.flatMap(step => writer.step(tables[step.table % tables.length]!, step))
      return {
        phase,
        session,
        end,
        statements,
        savepoint: savepoint < statements.length ? savepoint : undefined,
      }
    }),
  }
}

function buildTable(
  { name, key, columns, identity, partitioned, unique, refers }: TableCase,
  dialect: Dialect,
  names: Set<string>,
  first: BuiltTable | undefined,
): BuiltTable {
  const keyable = dialect.types.filter(type => type.keyable)
  const taken = new Set<string>()
  const column = (
    wanted: string,
    spec: TypeSpec,
    inKey: boolean,
    notNull: boolean,
    special: number,
  ): BuiltColumn => ({
    name: free(dialect.nameable(wanted), taken),
    spec,
    inKey,
    notNull: notNull || inKey,
    generated: special === 0 && !inKey,
    hasDefault: special === 1 && !inKey,
  })
  const built = [
    ...key.map((type, i) => column(`key ${i}`, keyable[type % keyable.length]!, true, true, 9)),
    ...columns.map(({ name, type, notNull, special }) =>
      column(name, dialect.types[type % dialect.types.length]!, false, notNull, special),
    ),
  ]
  // Keys need not be the first columns.
  if (identity % 2) built.push(built.shift()!)
  const usable = built.find(({ inKey, spec, generated }) => !inKey && spec.keyable && !generated)
  // What is unique can be a key in most cases.
  if (unique && usable && identity !== 7) usable.notNull = true
  return {
    name: free(dialect.nameable(name), names),
    columns: built,
    identity,
    partitioned: partitioned && dialect.allows.partitions,
    unique: unique ? usable : undefined,
    refers: refers && first && !first.partitioned && !partitioned ? first : undefined,
  }
}

function free(wanted: string, taken: Set<string>): string {
  let name = wanted
  for (let i = 2; taken.has(name.toLowerCase()); i++) name = `${wanted}${i}`
  taken.add(name.toLowerCase())
  return name
}

class Writer {
  private readonly dialect: Dialect
  private readonly wild: boolean

  constructor(dialect: Dialect, wild: boolean) {
    this.dialect = dialect
    this.wild = wild
  }

  step(table: BuiltTable, { kind, key, value, columns }: StepCase): string[] {
    const { allows } = this.dialect
    const name = this.dialect.ident(table.name)
    const update = () =>
      `UPDATE ${name} SET ${this.changes(table, value, columns)} WHERE ${this.where(table, key)}`
    const insert = () => this.insert(table, [key, key + 1, key + 2].slice(0, 1 + (value % 3)), value)
    const changes = this.changes(table, value, columns)
    if (kind < 26) return [insert()]
    if (kind < 54) return changes ? [update()] : [insert()]
    if (kind >= 83 && kind < 91) {
      const written = this.written(table)
      return [this.dialect.upsert(table, this.insert(table, [key], value), written, value % 3)]
    }
    // Large values in every row would take their time, and show nothing more.
    const small = changes.length < 10_000
    if (kind >= 91 && kind < 94) return changes && small ? [`UPDATE ${name} SET ${changes}`] : [insert()]
    if (kind >= 94 && kind < 96) {
      const keys = Array.from({ length: 2_200 }, (_, i) => 100 + i)
      return [this.insert(table, keys, value), ...(changes && small ? [`UPDATE ${name} SET ${changes}`] : [])]
    }
    if (kind >= 96 && kind < 98) return this.dialect.inBlock(changes ? update() : insert())
    if (kind >= 98) return this.dialect.harmless(table, value)
    if (!allows.deletes) return [insert()]
    if (kind < 63) return [this.rekey(table, key, value % 12)]
    if (kind < 67) {
      const other = value % 12
      return [this.rekey(table, key, 50), this.rekey(table, other, key), this.rekey(table, 50, other)]
    }
    if (kind < 79) return [`DELETE FROM ${name} WHERE ${this.where(table, key)}`]
    if (kind < 81) return [`DELETE FROM ${name}`]
    return allows.truncate ? [this.dialect.truncate(table)] : [`DELETE FROM ${name}`]
  }

  insert(table: BuiltTable, keys: readonly number[], value: number): string {
    const columns = this.written(table)
    const rows = keys.map(
      (key, i) =>
        `(${columns.map((column, place) => this.valueOf(column, place, key, value + i)).join(', ')})`,
    )
    const { ident } = this.dialect
    return `INSERT INTO ${ident(table.name)} (${columns.map(({ name }) => ident(name)).join(', ')}) VALUES ${rows.join(', ')}`
  }

  private written(table: BuiltTable): BuiltColumn[] {
    return table.columns.filter(({ generated }) => !generated)
  }

  private valueOf(column: BuiltColumn, place: number, key: number, value: number): string {
    if (column.inKey) return keyValue(column, place, key)
    const n = chance(value * 31 + place).below(100_000)
    if (column.hasDefault && n % 3 === 0) return 'DEFAULT'
    if (!column.notNull && n % 5 === 0) return 'NULL'
    if (this.wild && column.spec.wild && column.spec.wild.length > 0 && n % 11 === 0)
      return column.spec.wild[n % column.spec.wild.length]!
    return column.spec.value(n)
  }

  private changes(table: BuiltTable, value: number, bits: number): string {
    const free = this.written(table).filter(({ inKey }) => !inKey)
    const chosen = free.filter((_, i) => (bits >> (i % 7)) & 1)
    const set = (chosen.length > 0 ? chosen : free.slice(0, 1)).map(
      (column, i) => `${this.dialect.ident(column.name)} = ${this.valueOf(column, i, 0, value + i)}`,
    )
    return set.join(', ')
  }

  private where(table: BuiltTable, key: number): string {
    return this.keyed(table, key).join(' AND ')
  }

  private rekey(table: BuiltTable, from: number, to: number): string {
    const name = this.dialect.ident(table.name)
    return `UPDATE ${name} SET ${this.keyed(table, to).join(', ')} WHERE ${this.where(table, from)}`
  }

  private keyed(table: BuiltTable, key: number): string[] {
    return this.written(table).flatMap((column, place) =>
      column.inKey ? [`${this.dialect.ident(column.name)} = ${keyValue(column, place, key)}`] : [],
    )
  }
}

/** Keys of a few rows, so that statements meet; the further ones are rows of their own. */
function keyValue({ spec }: BuiltColumn, place: number, key: number): string {
  return spec.value(key < 60 ? key * 7 + place : 3 * (1000 + key) + 2)
}
