/** A case: tables, and what is done to them before, during and after their copy. Numbers alone, so that it shrinks well. */
import fc from 'fast-check'

export interface ColumnCase {
  name: string
  type: number
  notNull: boolean
  /** 0: computed by the source; 1: has a default. */
  special: number
}

export interface TableCase {
  name: string
  /** Types of the key's columns. */
  key: number[]
  columns: ColumnCase[]
  /** How its rows are told apart, where the source gives a choice. */
  identity: number
  partitioned: boolean
  /** A further unique column. */
  unique: boolean
  /** Refers to the first table. */
  refers: boolean
  rows: number
}

export interface StepCase {
  kind: number
  table: number
  /** Which key, and which values. */
  key: number
  value: number
  /** Which columns, as bits. */
  columns: number
}

export interface TransactionCase {
  /** 0 before the start, 1 while it copies, 2 while it follows, 3 after it was cut off. */
  phase: number
  session: number
  steps: StepCase[]
  /** How it ends: mostly by a commit. */
  end: number
  /** A savepoint before this step is rolled back to at the end. */
  savepoint: number
}

export interface DifferentialCase {
  tables: TableCase[]
  transactions: TransactionCase[]
  cutOff: boolean
  /** With values that not every target holds. */
  wild: boolean
  /** How it is shaped on the way. */
  shaping: number
}

const PIECES = [
  'a',
  'b',
  'Key',
  'é',
  '🌱',
  ' ',
  '"',
  "'",
  '`',
  ';',
  '%',
  '\\',
  '.',
  ',',
  '$1',
  '?',
  ':x',
  '--',
  '/*',
  '{',
  '}',
  '(',
  '[',
  'select',
  'c0',
  'k0',
  'n',
  'unsent',
  't',
  's',
  'excluded',
  '\u202e',
]

/** A hostile alphabet, and mostly plain words. */
const name = fc.oneof(
  {
    weight: 2,
    arbitrary: fc.constantFrom('a', 'id', 'label', 'Remarks', 'größe', 'v1', 'order', 'n', 'c1', 'k0'),
  },
  {
    weight: 1,
    arbitrary: fc
      .array(fc.constantFrom(...PIECES), { minLength: 1, maxLength: 6 })
      .map(parts => parts.join('').trim() || 'x'),
  },
)
const number = fc.nat(1_000_000)

const column = fc.record<ColumnCase>({
  name,
  type: number,
  notNull: fc.boolean(),
  special: fc.nat(14),
})
const table = fc.record<TableCase>({
  name,
  key: fc.array(number, { minLength: 1, maxLength: 3 }),
  columns: fc.array(column, { minLength: 0, maxLength: 7 }),
  identity: fc.nat(7),
  partitioned: fc.nat(5).map(n => n === 5),
  unique: fc.boolean(),
  refers: fc.nat(4).map(n => n === 4),
  rows: fc.nat(30),
})
const step = fc.record<StepCase>({
  kind: fc.nat(99),
  table: fc.nat(3),
  key: fc.nat(11),
  value: number,
  columns: fc.nat(127),
})
const transaction = fc.record<TransactionCase>({
  phase: fc.nat(3),
  session: fc.nat(1),
  steps: fc.array(step, { minLength: 1, maxLength: 6 }),
  end: fc.nat(19),
  savepoint: fc.nat(20),
})

export const differentialCase = fc.record<DifferentialCase>({
  tables: fc.array(table, { minLength: 1, maxLength: 3 }),
  transactions: fc.array(transaction, { minLength: 0, maxLength: 16 }),
  cutOff: fc.nat(2).map(n => n === 2),
  wild: fc.nat(9).map(n => n === 9),
  shaping: number,
})
