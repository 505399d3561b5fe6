/** The one way in which rows are written to a database for what is kept in step: what differs is how it is said. */
import type { Row } from '@tide/core/records/value'
import type { KeyedTable } from './contract/records.ts'
import type { RowAnswer, RowOperation } from './contract/rows.ts'

/** A transaction that has begun, at one system. */
export interface RowTransaction {
  /** How many rows it has changed. */
  run(sql: string): Promise<number>
  rows(sql: string): Promise<Row[]>
  ident(name: string): string
  literal(text: string): string
  /** The table's name, qualified. */
  name: string
  /** Where answers are kept, by the name of the call. */
  calls: string
  /** A value of a column; undefined: the text is none of its type. */
  value(column: string, text: string): string | undefined
  /** The row of that key in canonical text, in the order of the table's columns; nobody else changes it any more. */
  locked(key: string): Promise<Row | undefined>
  /** Inserts a row, and gives its key. */
  insert(columns: readonly string[], values: readonly string[]): Promise<string>
  /** Why an operation is refused: what is given does not fit. undefined: it is something else. */
  refusal(thrown: unknown): { field: string | null; reason: string } | undefined
}

/** Answers are kept for so long. */
export const KEPT_DAYS = 30

export async function writeRows(
  tx: RowTransaction,
  table: KeyedTable,
  operations: readonly RowOperation[],
  once: string,
): Promise<RowAnswer[]> {
  const [known] = await tx.rows(`SELECT answers FROM ${tx.calls} WHERE once = ${tx.literal(once)}`)
  if (known) return JSON.parse(known[0]!) as RowAnswer[]
  const answers: RowAnswer[] = []
  for (const operation of operations) {
    await tx.run('SAVEPOINT tide_row')
    try {
      answers.push(await writeRow(tx, table, operation))
    } catch (thrown) {
      const refusal = tx.refusal(thrown)
      if (!refusal) throw thrown
      await tx.run('ROLLBACK TO SAVEPOINT tide_row')
      answers.push({ answer: 'refused', ...refusal })
    }
    await tx.run('RELEASE SAVEPOINT tide_row')
  }
  await tx.run(
    `INSERT INTO ${tx.calls} (once, answers) VALUES (${tx.literal(once)}, ${tx.literal(JSON.stringify(answers))})`,
  )
  return answers
}

async function writeRow(tx: RowTransaction, table: KeyedTable, operation: RowOperation): Promise<RowAnswer> {
  const key = table.key[0]!
  if (operation.op === 'create') {
    const said = saidBy(tx, operation.values)
    if ('answer' in said) return said
    const made = await tx.insert(said.columns, said.values)
    const row = await tx.locked(made)
    return { answer: 'done', key: made, ...(row ? { row } : {}) }
  }
  const present = await tx.locked(operation.key)
  // Where letters of either case are the same, a row with another key may answer.
  const own = table.columns.findIndex(({ name }) => name === key)
  if (present?.[own] !== operation.key) return { answer: 'gone' }
  const where = `WHERE ${tx.ident(key)} = ${tx.value(key, operation.key)}`
  if (operation.op === 'remove') {
    await tx.run(`DELETE FROM ${tx.name} ${where}`)
    return { answer: 'done', key: operation.key }
  }
  if (operation.isAsSeen && !operation.isAsSeen(present)) return { answer: 'changed' }
  if (key in operation.values && operation.values[key] !== operation.key)
    return { answer: 'refused', field: key, reason: `${key} is the key of the row, which stays what it is.` }
  const said = saidBy(tx, withoutKey(key, operation.values))
  if ('answer' in said) return said
  if (said.columns.length > 0) {
    const set = said.columns.map((column, i) => `${column} = ${said.values[i]}`).join(', ')
    await tx.run(`UPDATE ${tx.name} SET ${set} ${where}`)
  }
  const row = await tx.locked(operation.key)
  return row ? { answer: 'done', key: operation.key, row } : { answer: 'gone' }
}

function withoutKey(key: string, values: Record<string, string | null>): Record<string, string | null> {
  return Object.fromEntries(Object.entries(values).filter(([column]) => column !== key))
}

function saidBy(
  tx: RowTransaction,
  given: Record<string, string | null>,
): { columns: string[]; values: string[] } | Extract<RowAnswer, { answer: 'refused' }> {
  const columns: string[] = []
  const values: string[] = []
  for (const [column, text] of Object.entries(given)) {
    const value = text === null ? 'NULL' : tx.value(column, text)
    if (value === undefined)
      return { answer: 'refused', field: column, reason: `“${text!.slice(0, 60)}” is no value of ${column}.` }
    columns.push(tx.ident(column))
    values.push(value)
  }
  return { columns, values }
}
