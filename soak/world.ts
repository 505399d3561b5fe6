/** What happens at a source while everything around it breaks: random transactions over several tables. */
import { setTimeout as sleep } from 'node:timers/promises'
import { Random } from './random.ts'

/** A table to compare: its columns as text in every dialect used here; the first `key` of them are its key. */
export interface Compared {
  name: string
  columns: string[]
  key: number
  /** Columns of floating point: systems print one number in several ways, such as 0.00004 and 4e-05. */
  doubles?: string[]
  /** Which of its rows take part, where not all do. */
  takesPart?: (row: readonly (string | null)[]) => boolean
}

/** Trays with fewer plants do not take part: some begin so, and come in as they are planted up. */
const PLANTS = 30

/** How the tables are shaped on their way. */
export const SHAPING = {
  scopes: [{ like: '*.trays', where: { column: 'plants', op: 'is at least', value: String(PLANTS) } }],
  columns: [{ like: '*', does: { add: 'changed_at', metadata: 'committed at' } }],
  history: true,
}

export const TABLES: Compared[] = [
  {
    name: 'trays',
    columns: ['id', 'plants', 'price', 'label', 'md5(remarks)', 'moved'],
    key: 1,
    takesPart: ([, plants]) => Number(plants) >= PLANTS,
  },
  { name: 'waterings', columns: ['tray', 'no', 'litres', 'note'], key: 2, doubles: ['litres'] },
  { name: 'scratch', columns: ['id', 'v'], key: 1 },
  { name: 'ledger', columns: ['id', 'told'], key: 1 },
]

const FIRST_TRAYS = 20_000
export const WRITERS = 3
/** Long enough, and random enough, to be kept apart from its row. */
const LONG = 6_000

export function schema(types: { text: string; stamp: string; serial: string }): string[] {
  return [
    `CREATE TABLE trays (id int PRIMARY KEY, plants int NOT NULL, price numeric(10,2), label varchar(60), remarks ${types.text}, moved ${types.stamp})`,
    `CREATE TABLE waterings (tray int, no int, litres double precision, note varchar(80), PRIMARY KEY (tray, no))`,
    `CREATE TABLE scratch (id int PRIMARY KEY, v varchar(20))`,
    `CREATE TABLE ledger (id ${types.serial} PRIMARY KEY, told varchar(40) NOT NULL)`,
  ]
}

export function firstRows(random: Random): string[] {
  const statements: string[] = []
  for (let from = 0; from < FIRST_TRAYS; from += 1000) {
    const rows = Array.from({ length: 1000 }, (_, i) => {
      const remarks = i % 20 === 0 ? `'${random.hex(LONG)}'` : `'row ${from + i}'`
      return `(${from + i}, ${random.below(100)}, ${random.below(9999) / 100}, 'tray ${from + i}', ${remarks}, '2026-03-01 08:00:00')`
    })
    statements.push(`INSERT INTO trays VALUES ${rows.join(', ')}`)
  }
  return statements
}

/** The statements of one transaction. Ids of moved and new trays never meet those of others. */
export function transaction(random: Random, name: string, fresh: () => number): string[] {
  const tray = () => random.below(FIRST_TRAYS)
  const statements = [`INSERT INTO ledger (told) VALUES ('${name}')`]
  const steps = random.chance(0.003) ? 0 : 1 + random.below(4)
  if (steps === 0) {
    // One that is large enough to come in parts.
    statements.push(
      random.chance(0.5)
        ? `UPDATE trays SET plants = plants + 1 WHERE id < 4000`
        : `UPDATE trays SET label = 'spring sale', price = price * 0.9 WHERE id % 7 = ${random.below(7)}`,
    )
  }
  for (let i = 0; i < steps; i++) {
    const kind = random.below(12)
    if (kind < 4)
      statements.push(`UPDATE trays SET plants = plants + ${random.below(9)} WHERE id = ${tray()}`)
    else if (kind < 5)
      statements.push(`UPDATE trays SET remarks = '${random.hex(LONG)}' WHERE id = ${tray()}`)
    else if (kind < 6) statements.push(`UPDATE trays SET id = ${fresh()} WHERE id = ${tray()}`)
    else if (kind < 7) statements.push(`DELETE FROM trays WHERE id = ${tray()}`)
    else if (kind < 8)
      statements.push(
        `INSERT INTO trays VALUES (${fresh()}, 1, NULL, 'it''s "new", and odd', '', '2026-05-0${1 + random.below(9)} 10:11:12.123456')`,
      )
    else if (kind < 10) {
      const [t, no] = [random.below(200), random.below(40)]
      statements.push(`DELETE FROM waterings WHERE tray = ${t} AND no = ${no}`)
      statements.push(`INSERT INTO waterings VALUES (${t}, ${no}, ${random.next()}, 'by hand')`)
    } else if (kind < 11) {
      statements.push(`SAVEPOINT s`)
      statements.push(`UPDATE waterings SET litres = litres + 1 WHERE tray = ${random.below(200)}`)
      if (random.chance(0.5)) statements.push(`ROLLBACK TO SAVEPOINT s`)
    } else {
      if (random.chance(0.1)) statements.push(`DELETE FROM scratch`)
      statements.push(`DELETE FROM scratch WHERE id = ${random.below(50)}`)
      statements.push(`INSERT INTO scratch VALUES (${fresh()}, 'x')`)
    }
  }
  return statements
}

export interface Writer {
  /** Runs the statements in one transaction; throws when it did not go through, or it is not known. */
  run(statements: string[]): Promise<void>
  close(): Promise<void>
}

/** Works the source until told to stop; resolves with the number of transactions that were answered. */
export async function work(seed: number, open: () => Promise<Writer>, going: () => boolean): Promise<number> {
  let next = 1_000_000
  const fresh = () => next++
  const one = async (me: number): Promise<number> => {
    const random = new Random(seed * 31 + me)
    let made = 0
    let writer: Writer | undefined
    for (let n = 0; going(); n++) {
      try {
        writer ??= await open()
        await writer.run(transaction(random, `${me}.${n}`, fresh))
        made++
      } catch {
        // The source is away, or two writers were in each other's way.
        await writer?.close().catch(() => {})
        writer = undefined
        await sleep(50)
      }
      await sleep(random.below(24))
    }
    await writer?.close().catch(() => {})
    return made
  }
  const made = await Promise.all(Array.from({ length: WRITERS }, (_, me) => one(me)))
  return made.reduce((a, b) => a + b)
}
