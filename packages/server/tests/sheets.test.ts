/** An app and a spreadsheet kept in step, through the API as people use it; what came of it is read from the app's and the book's own records. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { TwoWayForeseen, TwoWayLook } from '@tide/core/api/two-way'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import type Koa from 'koa'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { StandInApp } from '../../stand-ins/src/apps/app.ts'
import { clubgateApp } from '../../stand-ins/src/apps/clubgate.ts'
import type { StandInObject } from '../../stand-ins/src/apps/definition.ts'
import { NO_APP_FAULTS } from '../../stand-ins/src/apps/faults.ts'
import { Records } from '../../stand-ins/src/apps/records.ts'
import {
  addColumn,
  Book,
  insertRow,
  removeColumn,
  sortBy,
  type Sheet,
} from '../../stand-ins/src/rowsheet/book.ts'
import { Rowsheet, ROWSHEET } from '../../stand-ins/src/rowsheet/rowsheet.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'
import { passesOf } from './two-way-passes.ts'

let systems: RealSystems
let url: string
let clubgate: StandInApp
let rowsheet: Rowsheet
let definition: TwoWayDefinition
let id: string
const listening: Server[] = []
const [CLUBS, CONTACTS] = clubgateApp.objects as [StandInObject, StandInObject]

async function listen(api: (server: () => string) => Koa): Promise<string> {
  let server = ''
  const one = api(() => server).listen(0, '127.0.0.1')
  listening.push(one)
  await new Promise(resolve => one.once('listening', resolve))
  server = `http://127.0.0.1:${(one.address() as AddressInfo).port}`
  return server
}

const sheetOf = (name: string, titles: string[], rows: string[][]): Sheet => ({
  id: name,
  title: name,
  revision: 1,
  columns: titles.map(title => ({ title, hidden: false })),
  rows,
})
const MEMBERS = 12

beforeAll(async () => {
  systems = await openRealSystems([])
  ;({ url } = systems)
  const records = new Records(clubgateApp, join(systems.folder, 'clubgate.jsonl'), all => {
    for (const n of [1, 2, 3]) all.create(CLUBS, { name: `Club ${n}`, club_number: `GC-${n}` })
    for (let n = 0; n < MEMBERS; n++)
      all.create(CONTACTS, {
        name: `Member ${n}`,
        email: `m${n}@example.org`,
        organisation: `org_100${1 + (n % 3)}`,
        telephone: n % 2 === 0 ? `555-0${n}` : null,
      })
    all.create(CONTACTS, { name: 'By mail', email: 'mail@example.org' })
  })
  clubgate = new StandInApp(clubgateApp, records)
  clubgate.perMinute = 0
  const book = new Book(join(systems.folder, 'sheets.json'), () => [
    sheetOf(
      'clubs',
      ['Club', 'Number', 'Telephone', 'Joined on'],
      [
        ['Club 1', 'gc-1', '', ''],
        ['Club 2', 'GC-2', '', ''],
      ],
    ),
    sheetOf(
      'members',
      ['Name', 'E-mail', 'Telephone', 'Club', 'Part'],
      // The office knows all but two, and one whom nobody has entered elsewhere.
      [
        ...Array.from({ length: MEMBERS - 2 }, (_, n) => [
          `Member ${n}`,
          `M${n}@Example.org`,
          '',
          `Club ${1 + (n % 3)}`,
          '',
        ]),
        ['Paper only', 'paper@example.org', '555-99', 'Club 2', 'grower'],
      ],
    ),
  ])
  rowsheet = new Rowsheet(book)
  rowsheet.perMinute = 0
  await systems.connect('clubgate', 'clubgate', {
    server: await listen(at => clubgate.api(at)),
    token: clubgateApp.token,
  })
  await systems.connect('rowsheet', 'rowsheet', {
    server: await listen(at => rowsheet.api(at)),
    token: ROWSHEET.token,
  })
  const empty = {
    version: 2 as const,
    shape: 'two-way' as const,
    name: 'Members of clubs',
    from: systems.ids.clubgate!,
    to: systems.ids.rowsheet!,
    lanes: [],
    every: 1,
  }
  const { starters } = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition: empty })
  definition = { ...empty, lanes: starters[0]!.lanes.map(({ lane }) => lane) }
}, 120_000)
afterAll(async () => {
  for (const one of listening) {
    one.closeAllConnections()
    one.close()
  }
  await systems?.close()
})

const sheet = (name = 'members') => rowsheet.book.sheet(name)
const edit = (act: (sheet: Sheet) => void) => rowsheet.book.change('members', undefined, act)
const columnAt = (title: string) => sheet().columns.findIndex(one => one.title === title)
const rowOf = (email: string) => sheet().rows.find(row => row[1]!.toLowerCase() === email)
const contact = (email: string) => clubgate.records.of('contacts').find(one => one.email === email)
const { status, pass } = passesOf(
  () => url,
  () => id,
)

async function stopsFor(message: RegExp): Promise<void> {
  await eventually(async () => (await status()).state === 'Stopped', 30)
  const { reason } = await status()
  expect(reason).toMatchObject({ message: expect.stringMatching(message), remedy: expect.any(String) })
}

test('what is put into the sheet is said before; a rehearsal puts nothing there', async () => {
  const { notes } = await call<TwoWayLook>(url, 'POST', '/two-way/look', { definition })
  expect(notes.filter(({ level }) => level === 'refused' || level === 'undecided')).toEqual([])
  expect(notes.map(({ message }) => message)).toContain(
    'members of Rowsheet gets a column “Key of the row (do not change)”, which is hidden and by which its rows are known.',
  )
  const { lanes } = await call<TwoWayForeseen>(url, 'POST', '/two-way/foresee', { definition })
  expect(lanes.find(({ lane }) => lane === 'contacts ↔ members')).toMatchObject({
    paired: MEMBERS - 2,
    created: { a: 1, b: 2 },
    held: 0,
  })
  expect([sheet().revision, sheet('clubs').revision]).toEqual([1, 1])
}, 30_000)

test('who is on both sides is one; the others are made; clubs are called by their names', async () => {
  ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
  await call(url, 'POST', `/pipelines/${id}/start`)
  await pass()
  await pass()
  expect(sheet().rows).toHaveLength(MEMBERS + 1)
  expect(rowOf('m11@example.org')!.slice(0, 4)).toEqual(['Member 11', 'm11@example.org', '', 'Club 3'])
  expect(contact('paper@example.org')).toMatchObject({
    organisation: 'org_1002',
    role: 'grower',
    telephone: '555-99',
  })
  expect(sheet('clubs').rows.map(([name, number]) => [name, number])).toEqual([
    ['Club 1', 'gc-1'],
    ['Club 2', 'GC-2'],
    ['Club 3', 'GC-3'],
  ])
  expect(rowOf('mail@example.org')).toBeUndefined()
  const before = sheet().revision
  await pass()
  await pass(true)
  expect(sheet().revision).toBe(before)
  expect((await status()).twoWay).toMatchObject({ pairs: MEMBERS + 1 + 3, held: 0 })
}, 60_000)

test('a telephone number is corrected on either side, while the office sorts and puts rows in between', async () => {
  clubgate.records.change(CONTACTS, contact('m4@example.org')!.id, { telephone: '555-44' })
  edit(one => {
    sortBy(one, 3)
    insertRow(one, 3, ['Put in', 'put.in@example.org', '', 'Club 1', 'member'])
  })
  rowOf('m7@example.org')
  edit(one => (one.rows.find(row => row[0] === 'Member 7')![2] = '555-77'))
  await pass()
  await pass()
  expect(rowOf('m4@example.org')![2]).toBe('555-44')
  expect(contact('m7@example.org')!.telephone).toBe('555-77')
  expect(contact('put.in@example.org')).toMatchObject({ name: 'Put in', organisation: 'org_1001' })
  // What fits no choice waits, and says so; the rest of the row goes on.
  edit(one => {
    const row = one.rows.find(([name]) => name === 'Member 1')!
    row[4] = 'gardener'
    row[2] = '555-11'
  })
  await pass()
  expect(contact('m1@example.org')).toMatchObject({ telephone: '555-11', role: null })
  const [held] = await call<{ held: { reason: string }[] }[]>(url, 'GET', `/pipelines/${id}/pairs?only=held`)
  expect(held!.held[0]!.reason).toContain('“gardener” is none of the choices')
  edit(one => (one.rows.find(([name]) => name === 'Member 1')![4] = 'grower'))
  await pass()
  expect(contact('m1@example.org')!.role).toBe('grower')
}, 60_000)

test('a column that is called otherwise stops it, and empties nothing; called as before, it goes on', async () => {
  edit(one => (one.columns[columnAt('Telephone')]!.title = 'Phone'))
  await stopsFor(/“Telephone” is gone, “Phone” new/)
  expect(contact('m4@example.org')!.telephone).toBe('555-44')
  // Continued too early it stops again.
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await stopsFor(/no field “Telephone” any more/)
  edit(one => {
    one.columns[columnAt('Phone')]!.title = 'Telephone'
    addColumn(one, 'Remarks', false)
  })
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await pass()
  expect(contact('m4@example.org')!.telephone).toBe('555-44')
}, 60_000)

test('without the column of keys it stops, whatever else is changed, and nothing is doubled or deleted', async () => {
  const contacts = clubgate.records.of('contacts').length
  const keys = columnAt('Key of the row (do not change)')
  const kept = sheet().rows.map(row => [row[1]!, row[keys]!] as const)
  edit(one => removeColumn(one, keys))
  await stopsFor(/The column “Key of the row .+ is gone from/)
  // A lane that was changed reads all anew, and still knows better.
  const lanes = definition.lanes.map(lane => ({
    ...lane,
    gone: { a: 'delete' as const, b: 'delete' as const },
  }))
  await call(url, 'PUT', `/pipelines/${id}`, { ...definition, lanes })
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await stopsFor(/The column “Key of the row .+ is gone from/)
  expect(clubgate.records.of('contacts')).toHaveLength(contacts)
  // As undoing in the sheet brings it back.
  edit(one => {
    addColumn(one, 'Key of the row (do not change)', true)
    const at = one.columns.length - 1
    for (const row of one.rows) row[at] = kept.find(([email]) => email === row[1])?.[1] ?? ''
  })
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await pass(true)
  expect(clubgate.records.of('contacts')).toHaveLength(contacts)
  const row = rowOf('m5@example.org')!
  edit(one => (one.rows = one.rows.filter(([, email]) => email !== row[1])))
  await pass(true)
  expect(contact('m5@example.org')).toBeUndefined()
}, 90_000)

test('while answers are lost and people write, nobody is there twice', async () => {
  const faults = { ...NO_APP_FAULTS, lost: 0.3, failing: 0.2, busy: 0.2 }
  clubgate.faults = faults
  rowsheet.faults = faults
  for (let n = 0; n < 10; n++) {
    clubgate.records.create(CONTACTS, {
      name: `New ${n}`,
      email: `new${n}@example.org`,
      organisation: 'org_1001',
    })
    edit(one => insertRow(one, 2 + n, [`Row ${n}`, `row${n}@example.org`, '', 'Club 3', 'member']))
    if (n % 3 === 0) edit(one => sortBy(one, n % 2))
    await new Promise(resolve => setTimeout(resolve, 150))
  }
  clubgate.faults = { ...NO_APP_FAULTS }
  rowsheet.faults = { ...NO_APP_FAULTS }
  await eventually(async () => (await status()).retry === null, 60)
  await pass()
  await pass()
  const emails = sheet().rows.map(row => row[1]!.toLowerCase())
  expect(emails.toSorted()).toEqual([...new Set(emails)].toSorted())
  for (let n = 0; n < 10; n++) {
    expect(emails).toContain(`new${n}@example.org`)
    expect(contact(`row${n}@example.org`)).toMatchObject({ name: `Row ${n}` })
  }
}, 120_000)
