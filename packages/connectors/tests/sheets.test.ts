/** Sheets as places, while people sort, put rows in between, copy them and take columns away. */
import { afterAll, beforeEach, describe, expect, jest, test } from '@jest/globals'
import { ROW_VERSION } from '@tide/core/app/table-object'
import { mkdtempSync, rmSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Random } from '../../stand-ins/src/world/random.ts'
import { NO_APP_FAULTS } from '../../stand-ins/src/apps/faults.ts'
import {
  addColumn,
  Book,
  insertRow,
  removeColumn,
  sortBy,
  type Sheet,
} from '../../stand-ins/src/rowsheet/book.ts'
import { Rowsheet, ROWSHEET } from '../../stand-ins/src/rowsheet/rowsheet.ts'
import type { AppRecord } from '../src/contract/app.ts'
import { DescribedApp } from '../src/http/app.ts'
import { rowsheet } from '../src/http/described/rowsheet.ts'
import { settings } from '../src/http/settings.ts'
import { KEY_COLUMN } from '../src/http/sheet-rows.ts'

const signal = new AbortController().signal
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-sheets-'))
const servers: Server[] = []
let book: Book
let app: Rowsheet
let server = ''
let api: DescribedApp
let books = 0

const people = (n: number): Sheet => ({
  id: 'people',
  title: 'People',
  revision: 1,
  columns: ['Name', 'Telephone'].map(title => ({ title, hidden: false })),
  rows: Array.from({ length: n }, (_, i) => [`Person ${String(i).padStart(4, '0')}`, `555-${i}`]),
})

async function begin(rows: number): Promise<void> {
  book = new Book(join(folder, `${++books}.json`), () => [people(rows)])
  app = new Rowsheet(book)
  app.perMinute = 0
  const listening = app.api(() => server).listen(0, '127.0.0.1')
  servers.push(listening)
  await new Promise(resolve => listening.once('listening', resolve))
  server = `http://127.0.0.1:${(listening.address() as AddressInfo).port}`
  api = opened()
  await api.objects()
}

/** It puts up with as many calls as come. */
const unlimited = { ...rowsheet }
delete unlimited.limits
const opened = () => new DescribedApp(unlimited, settings({ server, token: ROWSHEET.token }))

beforeEach(() => begin(3))
afterAll(() => {
  for (const one of servers) {
    one.closeAllConnections()
    one.close()
  }
  rmSync(folder, { recursive: true, force: true })
})

async function changes(cursor: string | null, known = false, side = api) {
  const records = new Map<string, AppRecord>()
  let next: string | null = null
  for await (const { changed, cursor: after } of side.changes('people', cursor, signal, known)) {
    for (const { id, record } of changed) records.set(id, record)
    next = after ?? next
  }
  return { records, cursor: next! }
}

const sheet = () => book.sheet('people')
const edit = (act: (sheet: Sheet) => void) => book.change('people', undefined, act)
const keyAt = () => sheet().columns.findIndex(({ title }) => title === KEY_COLUMN)
const idOf = (name: string) => sheet().rows.find(([one]) => one === name)![keyAt()]!
const telephones = () => Object.fromEntries(sheet().rows.map(([name, telephone]) => [name, telephone]))
const change = (id: string, values: AppRecord, version?: string) =>
  api.write('people', [{ op: 'change', id, values, ...(version ? { version } : {}) }], { once: 'x', signal })

describe('a sheet', () => {
  test('says before what is put there; being looked at alone, nothing is', async () => {
    const [object] = await api.objects()
    expect(object).toMatchObject({ name: 'people', label: 'Name', adds: expect.stringContaining(KEY_COLUMN) })
    const pages: AppRecord[][] = []
    for await (const page of api.list('people', { signal })) pages.push(page)
    expect(pages.flat().map(record => record[KEY_COLUMN])).toEqual(['row 2', 'row 3', 'row 4'])
    expect(sheet().revision).toBe(1)
    const { records } = await changes(null)
    expect([...records.values()].map(({ Name }) => Name)).toEqual([
      'Person 0000',
      'Person 0001',
      'Person 0002',
    ])
    expect(sheet().columns[keyAt()]).toEqual({ title: KEY_COLUMN, hidden: true })
    expect((await opened().objects())[0]!.adds).toBeUndefined()
  })

  test('is read again only when somebody else has changed it', async () => {
    const { cursor } = await changes(null)
    const calls = () => app.calls.length
    const before = calls()
    expect((await changes(cursor)).records.size).toBe(0)
    expect(calls() - before).toBe(1)
    await change(idOf('Person 0001'), { Telephone: 'ours' })
    const after = await changes(cursor)
    expect(after.records.size).toBe(0)
    edit(one => (one.rows[0]![1] = 'theirs'))
    expect([...(await changes(after.cursor)).records.values()].map(({ Telephone }) => Telephone)).toEqual([
      'theirs',
      'ours',
      '555-2',
    ])
  })

  test('knows its rows however they are sorted and put in between; a copy is another row', async () => {
    const { cursor } = await changes(null)
    const id = idOf('Person 0001')
    edit(one => {
      insertRow(one, 2, ['New', '1'])
      sortBy(one, 1)
      insertRow(one, 5, ['Person 0001', '555-1', id])
      one.rows.push(['', '', ''])
    })
    await change(id, { Telephone: 'changed' })
    const { records } = await changes(cursor)
    expect(records.size).toBe(5)
    expect(new Set(sheet().rows.map(row => row[keyAt()])).size).toBe(6) // one of an empty row
    expect(records.get(id)!.Telephone).toBe('changed')
    expect([...records.values()].filter(({ Name }) => Name === 'Person 0001')).toHaveLength(2)
  })

  test('takes a change of what was seen alone, a new row once, and lets go what is gone', async () => {
    const { records } = await changes(null)
    const [[id, record]] = [...records] as [[string, AppRecord]]
    edit(one => (one.rows[0]![1] = 'theirs'))
    expect(await change(id, { Telephone: 'ours' }, record[ROW_VERSION]!)).toEqual([{ answer: 'changed' }])
    const now = (await api.read('people', id, signal))!
    expect(await change(id, { Telephone: 'ours' }, now[ROW_VERSION]!)).toMatchObject([
      { answer: 'done', id, record: { Telephone: 'ours', Name: 'Person 0000' } },
    ])
    const make = () =>
      api.write('people', [{ op: 'create', values: { Name: 'Made', Telephone: null } }], {
        once: 'm',
        signal,
      })
    const [first] = await make()
    const [again] = await make()
    expect(again).toEqual({ answer: 'done', id: (first as { id: string }).id })
    expect(sheet().rows.filter(([name]) => name === 'Made')).toHaveLength(1)
    const remove = () => api.write('people', [{ op: 'remove', id, values: {} }], { once: 'r', signal })
    expect(await remove()).toEqual([{ answer: 'done', id }])
    expect(await remove()).toEqual([{ answer: 'done', id }])
    expect(await change(id, { Telephone: 'too late' })).toEqual([{ answer: 'gone' }])
    expect(await api.read('people', id, signal)).toBeUndefined()
  })

  test('whose columns are called as what every object has is a sheet like others', async () => {
    edit(one => {
      one.columns[1]!.title = 'constructor'
      addColumn(one, '__proto__', false)
    })
    const side = opened()
    await side.objects()
    const { records } = await changes(null, false, side)
    expect(Object.keys([...records.values()][0]!)).toEqual(
      expect.arrayContaining(['Name', 'constructor', '__proto__']),
    )
    await side.write('people', [{ op: 'create', values: { Name: 'Made' } }], { once: 'p', signal })
    expect(sheet().rows.at(-1)!.slice(0, 3)).toEqual(['Made', '', ''])
  })

  test('refuses one value and takes the others', async () => {
    await changes(null)
    const values = (Telephone: string) => ({ Telephone })
    const answers = await api.write(
      'people',
      [
        { op: 'change', id: idOf('Person 0000'), values: values('fits') },
        { op: 'change', id: idOf('Person 0001'), values: values('x'.repeat(3000)) },
        { op: 'change', id: idOf('Person 0002'), values: { Shoe: '43' } },
      ],
      { once: 'w', signal },
    )
    expect(answers).toMatchObject([
      { answer: 'done' },
      { answer: 'refused', field: 'Telephone', reason: expect.stringContaining('2000 characters') },
      { answer: 'refused', field: 'Shoe' },
    ])
    expect(telephones()).toEqual({ 'Person 0000': 'fits', 'Person 0001': '555-1', 'Person 0002': '555-2' })
  })

  test.each<[string, (one: Sheet) => void, RegExp]>([
    [
      'a column is called otherwise',
      one => (one.columns[1]!.title = 'Phone'),
      /“Telephone” is gone, “Phone” new/,
    ],
    ['a column is gone', one => removeColumn(one, 1), /“Telephone” is gone\./],
    ['the column of keys is gone', one => removeColumn(one, 2), /Key of the row .+ is gone from/],
  ])(
    'stops when %s, and nothing is emptied',
    async (_, meddle, message) => {
      const { cursor } = await changes(null)
      const id = idOf('Person 0001')
      edit(meddle)
      const before = structuredClone(sheet())
      const stops = { kind: 'structural', message: expect.stringMatching(message) }
      await expect(changes(cursor)).rejects.toMatchObject(stops)
      await expect(change(id, { Name: 'x' })).rejects.toMatchObject(stops)
      await expect(api.read('people', id, signal)).rejects.toMatchObject(stops)
      await expect(api.list('people', { signal }).next()).rejects.toMatchObject(stops)
      // Nor does asking which sheets there are make us forget.
      const later = jest.spyOn(Date, 'now').mockReturnValue(Date.now() + 10_000)
      await api.objects()
      later.mockRestore()
      await expect(api.read('people', id, signal)).rejects.toMatchObject({ kind: 'structural' })
      expect(sheet()).toEqual(before)
    },
    20_000,
  )

  test('without its keys is not taken for a new one by whoever knows its rows', async () => {
    await changes(null)
    edit(one => removeColumn(one, 2))
    const other = opened()
    await other.objects()
    await expect(changes(null, true, other)).rejects.toMatchObject({ kind: 'structural' })
    const made = other.write('people', [{ op: 'create', values: { Name: 'x' } }], { once: 'y', signal })
    await expect(made).rejects.toMatchObject({ kind: 'structural' })
    expect(sheet().columns).toHaveLength(2)
  })

  test.each<[string, string[], RegExp]>([
    ['has a column twice', ['Name', 'Name'], /Two columns are called “Name”/],
    ['names no columns', ['', ''], /names no columns/],
  ])('that %s is shown, with what to do', async (_, titles, message) => {
    edit(one => (one.columns = titles.map(title => ({ title, hidden: false }))))
    const [object] = await opened().objects()
    expect(object).toMatchObject({
      can: { list: false, change: false },
      closed: expect.stringMatching(message),
    })
  })
})

test('however people work in it and answers are lost, each change is at its row, and each new row there once', async () => {
  await begin(700) // more than a page
  const { cursor } = await changes(null)
  const random = new Random(7)
  const chance = () => random.next()
  app.faults = { ...NO_APP_FAULTS, lost: 0.2, failing: 0.1 }
  // Before each write somebody is faster, for a while.
  let meddles = 0
  const originally = book.change.bind(book)
  book.change = (id, revision, act) => {
    if (revision !== undefined && chance() < 0.4)
      originally(id, undefined, one => {
        meddles++
        if (chance() < 0.5) sortBy(one, chance() < 0.5 ? 0 : 1)
        else insertRow(one, 2 + Math.floor(chance() * one.rows.length), [`Theirs ${meddles}`, '0'])
      })
    return originally(id, revision, act)
  }
  const ids = [...(await changes(null)).records]
  const wanted = new Map<string, string>()
  const until = async (once: string, operations: Parameters<DescribedApp['write']>[1]) => {
    for (let tries = 0; tries < 40; tries++)
      try {
        return await api.write('people', operations, { once, signal })
      } catch (thrown) {
        expect(thrown).toMatchObject({ kind: 'transient' })
      }
    throw new Error('never written')
  }
  for (let n = 0; n < 7; n++) {
    const some = Array.from({ length: 20 }, () => ids[Math.floor(chance() * ids.length)]![0])
    const each = [...new Set(some)]
    for (const id of each) wanted.set(id, `new ${n}`)
    await until(
      `c${n}`,
      each.map(id => ({ op: 'change', id, values: { Telephone: `new ${n}` } })),
    )
    await until(
      `m${n}`,
      [0, 1].map(i => ({ op: 'create', values: { Name: `Made ${n} ${i}` } })),
    )
  }
  app.faults = { ...NO_APP_FAULTS }
  expect(meddles).toBeGreaterThan(5)
  const { records } = await changes(cursor)
  for (const [id, telephone] of wanted) expect(records.get(id)!.Telephone).toBe(telephone)
  for (const [id, { Name, Telephone }] of ids)
    if (!wanted.has(id)) expect(records.get(id)).toMatchObject({ Name, Telephone })
  const made = sheet()
    .rows.filter(([name]) => name!.startsWith('Made'))
    .map(([name]) => name)
  expect(made.toSorted()).toEqual([...new Set(made)].toSorted())
  expect(made).toHaveLength(14)
  const theirs = sheet().rows.filter(([name]) => name!.startsWith('Theirs'))
  expect(sheet().rows).toHaveLength(700 + 14 + theirs.length)
}, 60_000)
