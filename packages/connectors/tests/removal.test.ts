/** Rows are taken away only as they were read, and whoever follows the source is not told where that is wanted. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { csvRows } from '@tide/core/records/csv-rows'
import type { Dataset } from '@tide/core/records/dataset'
import type { Row } from '@tide/core/records/value'
import type { OrderedTable } from '../src/contract/records.ts'
import { followUntil, RecordingSink } from './recording-sink.ts'
import { SINGLE_SYSTEMS, type SingleSystem } from './single-systems.ts'

/** As it is read with every column in quotes. */
const quotedLine = (row: Row) =>
  `${row.map(value => (value === null || value === undefined ? '' : `"${value.replaceAll('"', '""')}"`)).join(',')}\n`

describe.each(SINGLE_SYSTEMS)('%s', (_, start) => {
  let system: SingleSystem
  beforeAll(async () => {
    system = await start()
  }, 120_000)
  afterAll(() => system?.close())

  const run = async (...statements: string[]) => {
    for (const statement of statements) await system.run(statement)
  }
  const tableOf = async (name: string): Promise<OrderedTable> => {
    const { datasets } = await system.session.catalogue()
    const found = datasets.find(one => one.namespace === system.schema && one.name === name) as Dataset
    const columns = found.fields
    const key = found.key
    const dataset = { namespace: system.schema, name }
    return { dataset, columns, key, order: ['number'], quoted: columns.map(() => true) }
  }
  const read = async (table: OrderedTable, part: Partial<OrderedTable> = {}): Promise<Row[]> => {
    const parts: Uint8Array[] = []
    const limits = { timeoutMs: 60_000, signal: new AbortController().signal }
    for await (const one of system.session.ordered!({ ...table, ...part }, limits)) parts.push(one)
    return csvRows(Buffer.concat(parts))
  }
  const remove = (table: OrderedTable, rows: Row[], unheard = true) =>
    system.session.removal!.remove(table, Buffer.from(rows.map(quotedLine).join('')), unheard)

  test('of every type, a row with another value is another row', async () => {
    await run(...system.every)
    const table = await tableOf('every')
    const rows = await read(table)
    expect(rows).toHaveLength(system.rows)
    for (let place = 1; place < table.columns.length; place++) {
      const other = rows.map(row => row[place] ?? null)
      // The values of another row's, or one that is none here.
      const wrong = rows.map((row, n) => {
        const value = other.find((one, i) => i !== n && one !== row[place])
        return row.with(place, value === undefined ? 'something else' : value)
      })
      expect(await remove(table, wrong)).toBe(0)
    }
    const few = rows.slice(0, 2)
    expect(await remove(table, few)).toBe(2)
    expect(await read(table)).toEqual(rows.slice(2))
    await remove(table, rows)
    expect(await read(table)).toEqual([])
  })

  test('what others refer to stays, and what would go with it is refused', async () => {
    await run(
      'CREATE TABLE beds (id int PRIMARY KEY, note varchar(20))',
      `INSERT INTO beds VALUES (1, 'a'), (2, 'b'), (3, NULL)`,
      'CREATE TABLE sowings (id int PRIMARY KEY, bed int, FOREIGN KEY (bed) REFERENCES beds (id))',
      'INSERT INTO sowings VALUES (1, 2), (2, NULL)',
    )
    const beds = await tableOf('beds')
    await system.session.removal!.inspect(beds.dataset, true)
    expect(await remove(beds, await read(beds))).toBe(2)
    expect(await read(beds)).toEqual([['2', 'b']])
    await run(
      'CREATE TABLE labels (id int PRIMARY KEY, bed int, FOREIGN KEY (bed) REFERENCES beds (id) ON DELETE CASCADE)',
    )
    await expect(system.session.removal!.inspect(beds.dataset, true)).rejects.toThrow(/labels/)
    await expect(remove(beds, await read(beds))).rejects.toThrow(/CASCADE/)
    expect(await read(beds)).toEqual([['2', 'b']])
  })

  test('parts of a table between keys', async () => {
    await run('CREATE TABLE pots (id int PRIMARY KEY, note varchar(20))')
    await run(`INSERT INTO pots VALUES ${[9, 10, 11, 100, -1].map(id => `(${id}, 'n${id}')`).join(', ')}`)
    const pots = await tableOf('pots')
    const ids = async (part: Partial<OrderedTable>) => (await read(pots, part)).map(([id]) => id)
    expect(await ids({ after: ['9'] })).toEqual(['10', '11', '100'])
    expect(await ids({ after: ['-1'], upTo: ['11'] })).toEqual(['9', '10', '11'])
    expect(await ids({ most: 2 })).toEqual(['-1', '9'])
    const byText = (part: Partial<OrderedTable>) => ids({ key: ['note'], order: ['text'], ...part })
    expect(await byText({ after: ['n10'], most: 2 })).toEqual(['100', '11'])
  })

  test('followers hear of what people do, and of archived rows only where that is wanted', async () => {
    const { log } = system.session
    const reader = 'removal'
    await run('CREATE TABLE trays (id int PRIMARY KEY, note varchar(20))')
    const trays = await tableOf('trays')
    const from = await log!.open(reader, [trays.dataset])
    await run(`INSERT INTO trays VALUES (1, 'a'), (2, 'b'), (3, 'c'), (4, 'd')`)
    const rows = await read(trays)
    await remove(trays, rows.slice(0, 1), true)
    await remove(trays, rows.slice(1, 2), false)
    await run('DELETE FROM trays WHERE id = 3')
    await remove(trays, rows.slice(3), true)
    await run(`INSERT INTO trays VALUES (5, 'e')`)
    const sink = new RecordingSink(from.at)
    const reading = { from, tables: [trays.dataset], stops: [] }
    const has = (id: string) => sink.rows.some(row => row[0] === id)
    await followUntil(log!, reader, reading, sink, () => has('5') && sink.marks.length > 0)
    const deleted = sink.transactions.flatMap(({ events }) =>
      events.flatMap(({ op, before }) => (op === 'delete' ? [before![0]] : [])),
    )
    expect(deleted).toEqual(['2', '3'])
    await log!.close(reader)
  })
})
