/** Rows are written one by one, each by itself, once, and only over what was seen. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { canonicalOf, toldAs } from '@tide/core/app/table-values'
import type { Dataset } from '@tide/core/records/dataset'
import type { KeyedTable } from '../src/contract/records.ts'
import type { RowOperation } from '../src/contract/rows.ts'
import { SINGLE_SYSTEMS, type SingleSystem } from './single-systems.ts'

const HOSTILE = [
  "it's",
  '\\',
  "\\'; DROP TABLE members; --",
  '"quoted"',
  '\\N',
  'NULL',
  '🌱',
  'a\nb\t',
  '{a,b}',
  '',
]

describe.each(SINGLE_SYSTEMS)('%s', (_, start) => {
  let system: SingleSystem
  let calls = 0
  beforeAll(async () => {
    system = await start()
    const serial = system.kind === 'postgres' ? 'serial' : 'int AUTO_INCREMENT'
    await run(
      ...system.every,
      `CREATE TABLE clubs (id ${serial} PRIMARY KEY, name varchar(40) NOT NULL)`,
      `INSERT INTO clubs (name) VALUES ('Gates')`,
      `CREATE TABLE members (id ${serial} PRIMARY KEY, email varchar(40) NOT NULL UNIQUE, note text, age int CHECK (age > 0),
         club int, CONSTRAINT of_club FOREIGN KEY (club) REFERENCES clubs (id))`,
      `CREATE TABLE words (word varchar(100) PRIMARY KEY, times int)`,
    )
  }, 120_000)
  afterAll(() => system?.close())

  const run = async (...statements: string[]) => {
    for (const statement of statements) await system.run(statement)
  }
  const limits = { maxRows: 1000, maxBytes: 1e6, timeoutMs: 20_000, signal: new AbortController().signal }
  const ask = async (sql: string) => (await system.session.query!(sql, limits)).rows
  const datasetOf = async (name: string) => {
    const { datasets } = await system.session.catalogue()
    return datasets.find(one => one.namespace === system.schema && one.name === name) as Dataset
  }
  const tableOf = async (name: string): Promise<KeyedTable> => {
    const { fields, key } = await datasetOf(name)
    return { dataset: { namespace: system.schema, name }, columns: fields, key }
  }
  const write = async (table: string, operations: RowOperation[], once = `call ${++calls}`) =>
    system.session.singleRows!.write(await tableOf(table), operations, once)

  test('of every type, a row that is written as it was told is the same row', async () => {
    const table = await tableOf('every')
    const limits = { batchRows: 100, timeoutMs: 60_000, signal: new AbortController().signal }
    const operations: RowOperation[] = []
    for await (const rows of system.session.scan!(table, limits))
      for (const row of rows) {
        const values = table.columns.map(({ name, type }, i): [string, string | null] => {
          const value = row[i] ?? null
          const isTold = type.kind !== 'list' || type.of.kind === 'utf8'
          return [name, isTold ? canonicalOf(toldAs(value, type), type) : value]
        })
        const given = Object.fromEntries(values)
        operations.push({ op: 'create', values: { ...given, id: String(Number(given.id) + 1000) } })
      }
    const answers = await write('every', operations)
    expect(answers.filter(({ answer }) => answer !== 'done')).toEqual([])
    for (const { name } of table.columns.filter(one => one.name !== 'id')) {
      const differs =
        system.kind === 'postgres'
          ? `a."${name}"::text IS DISTINCT FROM b."${name}"::text`
          : `NOT (CAST(a.\`${name}\` AS BINARY) <=> CAST(b.\`${name}\` AS BINARY))`
      const said = await ask(
        `SELECT a.id FROM ${system.schema}.every a JOIN ${system.schema}.every b ON b.id = a.id + 1000 WHERE ${differs}`,
      )
      expect([name, said]).toEqual([name, []])
    }
  }, 60_000)

  test('a call that was answered is answered again, and nothing is done twice', async () => {
    const asked: RowOperation[] = [{ op: 'create', values: { email: 'a@example.org', age: '3' } }]
    const first = await write('members', asked, 'the same')
    const again = await write('members', asked, 'the same')
    expect(first[0]).toMatchObject({ answer: 'done' })
    await run(`UPDATE members SET age = 4`)
    const later = await write('members', asked, 'the same')
    // As it was then, whatever has become of it since.
    expect([again, later]).toEqual([first, first])
    expect(await ask(`SELECT count(*) FROM ${system.schema}.members`)).toEqual([['1']])
  })

  test('what does not fit is refused by itself; the others of the call land', async () => {
    const answers = await write('members', [
      { op: 'create', values: { email: 'a@example.org' } },
      { op: 'create', values: { email: 'b@example.org', age: '-1' } },
      { op: 'create', values: { email: 'c'.repeat(41) } },
      { op: 'create', values: { email: null } },
      { op: 'create', values: { email: 'd@example.org', club: '77' } },
      { op: 'create', values: { email: 'e@example.org', age: 'many' } },
      { op: 'create', values: { email: 'f@example.org', club: '1' } },
    ])
    expect(answers.map(({ answer }) => answer)).toEqual([...Array(6).fill('refused'), 'done'])
    for (const one of answers.slice(0, 6)) expect((one as { reason: string }).reason).toMatch(/\S\.$/)
    expect(answers[3]).toMatchObject({ field: 'email' })
    expect(await ask(`SELECT email FROM ${system.schema}.members ORDER BY email`)).toEqual([
      ['a@example.org'],
      ['f@example.org'],
    ])
  })

  test('a row that somebody has changed since is left; one that is gone is told', async () => {
    const [[id]] = (await ask(`SELECT id FROM ${system.schema}.members WHERE email = 'a@example.org'`)) as [
      [string],
    ]
    const answers = await write('members', [
      { op: 'change', key: id, values: { note: 'too late' }, isAsSeen: row => row.includes('somebody else') },
      { op: 'change', key: id, values: { note: 'seen' }, isAsSeen: row => row.includes('a@example.org') },
      { op: 'change', key: '9999', values: { note: 'x' } },
      { op: 'change', key: 'no number', values: { note: 'x' } },
      { op: 'change', key: id, values: { id: '17' } },
      { op: 'remove', key: '9999' },
    ])
    expect(answers.map(({ answer }) => answer)).toEqual([
      'changed',
      'done',
      'gone',
      'gone',
      'refused',
      'gone',
    ])
    expect(answers[1]).toMatchObject({ row: expect.arrayContaining(['seen', 'a@example.org']) })
    expect(await ask(`SELECT note FROM ${system.schema}.members WHERE email = 'a@example.org'`)).toEqual([
      ['seen'],
    ])
  })

  test('a row that others refer to is not deleted; one that none does is', async () => {
    const answers = await write('clubs', [
      { op: 'remove', key: '1' },
      { op: 'create', values: { name: 'Benches' } },
    ])
    expect(answers.map(({ answer }) => answer)).toEqual(['refused', 'done'])
    const made = (answers[1] as { key: string }).key
    expect(await write('clubs', [{ op: 'remove', key: made }])).toEqual([{ answer: 'done', key: made }])
    expect(await ask(`SELECT name FROM ${system.schema}.clubs`)).toEqual([['Gates']])
  })

  test('whatever text is a key or a value stays what it is', async () => {
    const words = HOSTILE.map((word, i): RowOperation => ({
      op: 'create',
      values: { word, times: String(i) },
    }))
    expect((await write('words', words)).map(({ answer }) => answer)).toEqual(HOSTILE.map(() => 'done'))
    const changes = HOSTILE.map((key, i): RowOperation => ({
      op: 'change',
      key,
      values: { times: String(i + 100) },
    }))
    const changed = await write('words', changes)
    expect(changed.map(one => 'row' in one && one.row)).toEqual(
      HOSTILE.map((word, i) => [word, String(i + 100)]),
    )
    expect(await ask(`SELECT count(*), sum(times) FROM ${system.schema}.words`)).toEqual([
      [String(HOSTILE.length), String(HOSTILE.reduce((sum, _, i) => sum + i + 100, 0))],
    ])
  })

  test('a row whose key is written otherwise is another row', async () => {
    await write('words', [{ op: 'create', values: { word: 'Fern', times: '1' } }])
    const answers = await write('words', [
      { op: 'change', key: 'fern', values: { times: '2' } },
      { op: 'remove', key: 'FERN' },
      { op: 'change', key: 'Fern', values: { times: '3' } },
    ])
    expect(answers.map(({ answer }) => answer)).toEqual(['gone', 'gone', 'done'])
  })

  test('the catalogue says what needs a value', async () => {
    const { fields } = await datasetOf('members')
    expect(
      Object.fromEntries(fields.map(({ name, preset, nullable }) => [name, [preset, nullable]])),
    ).toEqual({
      id: ['unsaid', false],
      email: [undefined, false],
      note: [undefined, true],
      age: [undefined, true],
      club: [undefined, true],
    })
  })
})
