/** The walk of a new user through the real pages: look around, connect, set up, start, change a row, pause, continue. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { By, Key, until, type WebDriver } from 'selenium-webdriver'
import { startRealPostgres, type TestDatabase } from '../packages/connectors/tests/real-postgres.ts'
import { openBrowser } from './browser.ts'
import { pagesOf } from './pages.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, startStandIns, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-walk-'))
let database: TestDatabase
let server: ServerProcess
let standIns: Awaited<ReturnType<typeof startStandIns>>
let driver: WebDriver

beforeAll(async () => {
  database = await startRealPostgres()
  server = await startServer(folder)
  standIns = await startStandIns(folder, server.url)
  driver = await openBrowser()
}, 180_000)
afterAll(async () => {
  await driver?.quit()
  await standIns?.stop()
  await server?.stop()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

const {
  find,
  xpath,
  button,
  click,
  field,
  type,
  sees,
  open,
  wait: WAIT,
} = pagesOf(
  () => driver,
  () => server.url,
)
const pick = async (label: string, title: string) => {
  const select = await find(By.css(`select[aria-label="${label}"]`))
  await select.findElement(By.xpath(`./option[normalize-space()="${title}"]`)).click()
}
const warehouse = async (sql: string): Promise<string[][]> => {
  const { id } = (await call<{ id: string; name: string }[]>(server.url, 'GET', '/connections')).find(
    ({ name }) => name === 'growers_warehouse',
  )!
  return (await call<{ rows: string[][] }>(server.url, 'POST', '/query', { connection: id, sql })).rows
}
const pipelineCalled = async (name: string) =>
  (await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')).find(
    ({ definition }) => definition.name === name,
  )!

test('the map shows systems and the pipeline that follows already', async () => {
  await open('/')
  await sees('Alderbank')
  await sees('growers_warehouse')
  await sees('All sites to warehouse')
  await eventually(async () => (await pipelineCalled('All sites to warehouse')).state === 'Following')
})

test('a wrong password is named in the test of a connection, with its remedy; the right one is saved', async () => {
  const { config } = database
  await open('/connections')
  await click(button('New connection'))
  await click(xpath('//main//button[contains(., "PostgreSQL")]'))
  await type('Name', 'Orchard office')
  await type('Host', config.host)
  await type('Port', String(config.port))
  await type('Database', config.database)
  await type('User', config.user)
  await type('Password', 'wrong')
  await click(button('Test'))
  await sees('refuses the password')
  await sees('Correct the user or the password')
  await type('Password', config.password)
  await click(button('Test'))
  await sees('wal_level is logical')
  await click(xpath('//summary[normalize-space()="Show it"]'))
  await sees('CREATE ROLE constant_tide LOGIN REPLICATION')
  await click(button('Save'))
  await sees('No pipeline uses it yet')
  const saved = await call<{ id: string; name: string; lastCheck: object | null }[]>(
    server.url,
    'GET',
    '/connections',
  )
  // The test with the right password, made before it was saved, is the connection's last one.
  const office = saved.find(({ name }) => name === 'Orchard office')!
  const items = await call<{ result: string }[]>(server.url, 'POST', `/connections/${office.id}/check`)
  const count = (result: string) => items.filter(item => item.result === result).length
  expect(count('warning')).toBeGreaterThan(0)
  expect(office.lastCheck).toMatchObject({ failed: count('failed'), warnings: count('warning') })
  expect(JSON.stringify(saved)).not.toContain(config.password)
})

test('the connection sheet shows tables, counts and rows', async () => {
  await open('/connections')
  await click(xpath('//aside//a[contains(., "Alderbank")]'))
  await click(xpath('//section[@aria-label="Catalogue"]//button[contains(., "species")]'))
  await sees('first 100 of 404 rows')
  await sees('latin_name')
})

test('a new pipeline: the plan says what would happen, refuses what cannot be, and starts', async () => {
  await open('/pipelines/new')
  await click(xpath('//label[contains(., "Alderbank")]//input'))
  await click(xpath('//label[contains(., "growers_warehouse")]//input'))
  await type('Schema at the target', 'NURSERY')
  await click(find(By.css('[aria-label="Change Tables"]')))
  await click(button('Add a pattern'))
  await type('Pattern 1', 'nursery.*')
  await sees('decides 11 tables')
  await sees('nursery.watering_rota has no key')
  await click(button('Add a pattern'))
  await type('Pattern 2', '*.tmp_*')
  await sees('decides 2 tables')
  await sees('out by pattern 2')
  await sees('and 7 more belong to the pipeline “All sites to warehouse”')
  await click(find(By.css('[aria-label="Field Notes.Plot / Row"]')))
  await sees('it holds a space, “/”')
  await click(find(By.css('[aria-label="Change To"]')))
  await type('Schema at the target', 'SECOND')
  await click(xpath('//div[contains(., "has no key")]/p/button[normalize-space()="Leave it out"]'))
  await click(xpath('//div[contains(., "will not take the name")]/p/button[normalize-space()="Show"]'))
  await sees('meet another 0')
  await click(button('Propose what is missing'))
  await sees('2 rules were missing; every name fits.')
  await sees('BREITE_LANGE')
  await sees('nothing left to decide')
  await type('Pattern of rule 2', 'Field Notes.*')
  await type('becomes of rule 2', '-')
  await sees('PLOT-ROW, which "Field Notes"."Plot / Row" becomes: it holds “-”')
  await type('becomes of rule 2', '_')
  await sees('nothing left to decide')
  await sees('Creates 9 tables and a schema')
  await sees('becomes VARCHAR, kept as text')
  await click(find(By.css('[aria-label="Change Columns"]')))
  await click(button('Add a rule'))
  await pick('Deed of column rule 1', 'mask by a keyed hash')
  await type('Pattern of column rule 1', 'nursery.batches.batch_id')
  await sees('nursery.batches.batch_id is part of the key, and masked')
  await type('Pattern of column rule 1', '*.contact_mail')
  await pick('Table to rehearse', 'nursery.dispatches')
  await sees('@example.org')
  await click(button('Add a rule'))
  await pick('Deed of column rule 2', 'add a computed column')
  await type('Pattern of column rule 2', 'nursery.dispatch_lines')
  await type('Expression of column rule 2', 'plants * unit_prise')
  await sees('There is no column unit_prise')
  await type('Expression of column rule 2', 'plants * unit_price')
  await sees('gives a decimal(38,2)')
  await click(find(By.css('[aria-label="Change Rows"]')))
  await click(button('Add a scope'))
  await type('Pattern of scope 1', 'nursery.batches')
  await type('Column of condition 1 of scope 1', 'stages')
  await sees('There is no column stages')
  await type('Column of condition 1 of scope 1', 'stage')
  await pick('Test of condition 1 of scope 1', 'is one of')
  await type('Value of condition 1 of scope 1', 'sold, ready')
  await pick('Table to rehearse', 'nursery.batches')
  await sees('of all 6,000 rows take part')
  await sees('Masks 1 column, adds 1, scopes 1 table')
  await sees('nothing left to decide')
  await click(button('Start copying 9 tables'))
  await sees('caught up', 60)
  const { lanes } = await pipelineCalled('Alderbank to growers_warehouse')
  expect(lanes.find(({ source }) => source.name === 'readings')!.copiedRows).toBeGreaterThanOrEqual(200_000)
})

test('a row of a table with a hostile name arrives under the names that the rules made', async () => {
  const { lanes } = await pipelineCalled('Alderbank to growers_warehouse')
  expect(lanes.find(({ source }) => source.name === 'Plot / Row')!.target.name).toBe('PLOT_ROW')
  const table = `${standIns.screen}${encodeURIComponent('Field Notes')}/${encodeURIComponent('Plot / Row')}`
  const page = await fetch(`${table}?find=stony`).then(response => response.text())
  const row = /row\?ctid=([^"]+)"/.exec(page)![1]!
  const plot = /<td>(\d+)<\/td>/.exec(page)![1]!
  const form = new URLSearchParams({ 'Plot No': plot, 'Breite / Länge': '3 / 3', 'Note (free)': 'terraced' })
  await fetch(`${table}/row?ctid=${row}`, { method: 'POST', body: form })
  await eventually(async () => {
    const sql = `SELECT "BREITE_LANGE", "NOTE_FREE_" FROM "SECOND"."PLOT_ROW" WHERE "PLOT_NO" = ${plot}`
    return JSON.stringify(await warehouse(sql)) === '[["3 / 3","terraced"]]'
  })
})

test('what was masked is not there as it is, and only what is in scope is there', async () => {
  const dispatches = 'SELECT count(*), count(DISTINCT "CONTACT_MAIL") > 100 FROM "SECOND"."DISPATCHES"'
  expect(await warehouse(`${dispatches} WHERE length("CONTACT_MAIL") = 64`)).toEqual(
    await warehouse(dispatches),
  )
  expect(await warehouse('SELECT DISTINCT "STAGE" FROM "SECOND"."BATCHES" ORDER BY 1')).toEqual([
    ['ready'],
    ['sold'],
  ])
})

test('a table that is there already is asked about; a rehearsal with all rows says what would stop it', async () => {
  const connections = await call<{ id: string; name: string }[]>(server.url, 'GET', '/connections')
  const idOf = (name: string) => connections.find(one => one.name === name)!.id
  const earlier = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'Earlier',
    from: idOf('Alderbank'),
    to: idOf('growers_warehouse'),
    targetSchema: 'LAB',
    tables: [{ namespace: 'nursery', name: 'species' }],
    does: 'copy',
  })
  await call(server.url, 'POST', `/pipelines/${earlier.id}/start`)
  await eventually(async () => (await pipelineCalled('Earlier')).state === 'Finished')
  await eventually(async () => {
    await call(server.url, 'DELETE', `/pipelines/${earlier.id}`)
    return true
  })
  // What was found at a system holds for some seconds.
  await driver.sleep(5_500)
  await open('/pipelines/new')
  await click(xpath('//label[contains(., "Alderbank")]//input'))
  await click(xpath('//label[contains(., "growers_warehouse")]//input'))
  await type('Name of the pipeline', 'Into the lab')
  await type('Schema at the target', 'LAB')
  await click(find(By.css('[aria-label="Change Tables"]')))
  await click(find(By.css('[aria-label="nursery.species"]')))
  await sees('LAB.SPECIES is at the target already, with 404 rows that this pipeline did not put there.')
  await click(find(By.css('[aria-label="Change To"]')))
  await pick('Rows that are there already', 'are deleted')
  await sees('The 404 rows of LAB.SPECIES are deleted.')
  await click(find(By.css('[aria-label="Change Columns"]')))
  await click(button('Add a rule'))
  await pick('Deed of column rule 1', 'take as another type')
  await type('Pattern of column rule 1', '*.latin_name')
  await type('as of column rule 1', 'uuid')
  await sees('LATIN_NAME is VARCHAR and would have to be UUID')
  await click(find(By.css('[aria-label="Change Start"]')))
  await click(button('Rehearse'))
  await sees('All 404 rows read: 404 rows would stop the pipeline.', 20)
  await sees('is no uuid')
  await click(find(By.css('[aria-label="Change Columns"]')))
  await click(find(By.css('[aria-label="Remove column rule 1"]')))
  await sees('nothing left to decide')
  await click(button('Start copying 1 table'))
  const dialog = await find(By.css('[role="dialog"]'))
  const go = await dialog.findElement(By.xpath('.//button[normalize-space()="Start copying"]'))
  expect(await go.isEnabled()).toBe(false)
  await dialog.findElement(By.css('input')).sendKeys('growers_warehouse')
  await go.click()
  await sees('caught up', 30)
  expect(await warehouse('SELECT count(*) FROM "LAB"."SPECIES"')).toEqual([['404']])
})

test('the setup of a pipeline that runs is changed: one table in place, one again, the others go on', async () => {
  const { id, lanes } = await pipelineCalled('Alderbank to growers_warehouse')
  const wrong = `SELECT count(*) FROM "SECOND"."DISPATCH_LINES" WHERE "COMPUTED" IS DISTINCT FROM "PLANTS" * "UNIT_PRICE"`
  expect(await warehouse(wrong)).toEqual([['0']])
  const many = await warehouse('SELECT count(*) FROM "SECOND"."DISPATCHES"')
  await open(`/pipelines/${id}/setup`)
  await click(button('Change the setup'))
  await sees('Nothing is changed.')
  await click(find(By.css('[aria-label="Change Columns"]')))
  await click(button('Add a rule'))
  await pick('Deed of column rule 3', 'leave out')
  await type('Pattern of column rule 3', 'nursery.dispatches.carrier')
  await sees('SECOND.DISPATCHES loses CARRIER')
  await click(find(By.css('[aria-label="Change Rows"]')))
  await type('Value of condition 1 of scope 1', 'sold')
  await sees('is emptied and copied again, beside the others')
  await sees('Alters 1 lane in place')
  await sees(`Leaves ${lanes.length - 2} lanes as they are`)
  await click(button('Apply the changes'))
  await click(button('Apply them'))
  await sees('caught up', 30)
  await eventually(async () => {
    const { changing, lanes } = await pipelineCalled('Alderbank to growers_warehouse')
    return !changing && lanes.every(({ copied, detached }) => copied && !detached)
  })
  expect(await warehouse('SELECT DISTINCT "STAGE" FROM "SECOND"."BATCHES"')).toEqual([['sold']])
  expect(await warehouse('SELECT count(*) FROM "SECOND"."DISPATCHES"')).toEqual(many)
  await expect(warehouse('SELECT "CARRIER" FROM "SECOND"."DISPATCHES"')).rejects.toThrow(/CARRIER/)
})

test('a row edited at the site arrives, and is found by SQL', async () => {
  const page = await driver.getWindowHandle()
  await driver.switchTo().newWindow('tab')
  await driver.get(`${standIns.screen}nursery/beds?find=House+3`)
  await click(button('Edit'))
  const house = await find(By.css('#house'))
  await house.clear()
  await house.sendKeys('House of Willows')
  await click(button('Save the row'))
  await driver.wait(until.urlMatches(/beds$/), WAIT)
  await driver.close()
  await driver.switchTo().window(page)
  await open('/query')
  const sql = await find(By.css('#sql'))
  await sql.sendKeys(
    `SELECT * FROM "SECOND"."BEDS" WHERE "HOUSE" = 'House of Willows'`,
    Key.chord(Key.CONTROL, Key.ENTER),
  )
  await eventually(async () => {
    await click(button('Run'))
    await driver.sleep(300)
    return (await driver.findElement(By.css('main')).getText()).includes('1 row')
  }, 10)
  await sql.sendKeys(Key.chord(Key.CONTROL, 'a'), 'DELETE FROM "SECOND"."BEDS"')
  await click(button('Run'))
  await sees('DELETE is not taken')
})

test('a row is held side by side: what differs while it is paused, is equal once it goes on', async () => {
  const { id, lanes } = await pipelineCalled('Alderbank to growers_warehouse')
  const lane = lanes.findIndex(({ source }) => source.name === 'beds')
  await call(server.url, 'POST', `/pipelines/${id}/pause`)
  await eventually(async () => (await pipelineCalled('Alderbank to growers_warehouse')).state === 'Paused')
  const edited = await fetch(`${standIns.screen}nursery/beds?find=House+7`).then(response => response.text())
  const ctid = /row\?ctid=([^"]+)"/.exec(edited)![1]!
  const bed = /<td>(\d+)<\/td>/.exec(edited)![1]!
  const form = new URLSearchParams({
    bed_id: bed,
    house: 'House of Reeds',
    row_no: '1',
    area_m2: '9.50',
    heated: 'true',
  })
  await fetch(`${standIns.screen}nursery/beds/row?ctid=${ctid}`, { method: 'POST', body: form })
  await open(`/pipelines/${id}/rows`)
  const select = await field('Lane')
  await select.findElement(By.css(`option[value="${lane}"]`)).click()
  await type('bed_id', bed)
  await click(button('Look'))
  await sees('fields differ')
  await sees('House of Reeds')
  await call(server.url, 'POST', `/pipelines/${id}/continue`)
  await sees('Both sides are equal')
})

test('a setup is a file as well: what is typed there is what the form says', async () => {
  await open('/pipelines/new')
  await click(find(By.css('[aria-label="Change As a file"]')))
  const area = await find(By.css('main [aria-label="The setup as a file"]'))
  await area.sendKeys(
    Key.chord(Key.CONTROL, 'a'),
    'name: Beds by file\nversion: 2\nshape: replicate\nfrom: Alderbank\nto: growers_warehouse\n',
  )
  await sees('Schema at the target is missing')
  await area.sendKeys('targetSc')
  await find(By.css('.cm-tooltip-autocomplete li[aria-selected="true"]'))
  await driver.sleep(200) // it takes no key in its first moments, for those who type on
  await area.sendKeys(Key.ENTER, 'FILED\npatterns: [{take: in, like: nursery.beds}]\n')
  await click(find(By.css('[aria-label="Change Tables"]')))
  await sees('decides 1 table')
  await sees('Creates 1 table and a schema')
  const { id } = await eventually(() => pipelineCalled('Beds by file'))
  await call(server.url, 'DELETE', `/pipelines/${id}`)
})

test('pause holds the target still while the source goes on; continue catches up', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}`)
  await click(button('Pause'))
  await sees('Paused')
  await fetch(`${standIns.screen}activity`, {
    method: 'POST',
    body: new URLSearchParams({ burst: '60', back: '/' }),
  })
  await eventually(async () => ((await pipelineCalled('Alderbank to growers_warehouse')).backlog ?? 0) >= 60)
  await sees('waiting')
  await click(button('Continue'))
  await sees('caught up', 30)
  expect((await pipelineCalled('Alderbank to growers_warehouse')).backlog).toBe(0)
})

test('a value that does not fit is held while others land; corrected, its row lands', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  const save = async (house: string, area: string) => {
    const page = await fetch(`${standIns.screen}nursery/beds?find=${house}`).then(response => response.text())
    const [, ctid] = /row\?ctid=([^"]+)"/.exec(page)!
    const [, bed] = /<td>(\d+)<\/td>/.exec(page)!
    await fetch(`${standIns.screen}nursery/beds/row?ctid=${ctid}`, {
      method: 'POST',
      body: new URLSearchParams({
        bed_id: bed!,
        house: 'House of Sedge',
        row_no: '1',
        area_m2: area,
        heated: 'true',
      }),
    })
  }
  await save('House+9', 'NaN')
  await open(`/pipelines/${id}/held`)
  await sees('1 row is held back')
  await click(find(By.css('main tbody a')))
  await sees('does not fit')
  await click(find(By.css('main tbody button')))
  await sees('House of Sedge')
  await type('AREA_M2 at the target', 'wide')
  await click(button('Land it with these values'))
  await sees('It still does not fit')
  await type('AREA_M2 at the target', '12.5')
  await click(button('Land it with these values'))
  await sees('1 row landed as corrected')
  await open(`/pipelines/${id}/held`)
  await sees('Nothing is held')
  await sees('corrected')
  // Mended at the source, it lands wherever else it was held.
  await save('House+of+Sedge', '13.5')
  await open('/held')
  // What Pollenpost has refused, and what two people have said differently, is all that is left.
  await sees('2 rows are held back')
})

test('three rows are changed behind its back: just those are found, shown, and repaired', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  const connections = await call<{ name: string; config: pg.ClientConfig }[]>(
    server.url,
    'GET',
    '/connections',
  )
  const { config } = connections.find(({ name }) => name === 'Alderbank')!
  const site = new pg.Client({ ...config, password: 'willow-and-water' })
  await site.connect()
  await site.query(`BEGIN; SET LOCAL session_replication_role = replica;
    UPDATE nursery.beds SET area_m2 = 77.5 WHERE bed_id = 21;
    DELETE FROM nursery.beds WHERE bed_id = 22;
    INSERT INTO nursery.beds SELECT 99001, house, row_no, area_m2, heated FROM nursery.beds WHERE bed_id = 23; COMMIT`)
  await site.end()
  await open(`/pipelines/${id}/agreement`)
  await sees('Not verified yet')
  await click(button('Verify …'))
  await click(button('Compare the rows'))
  await sees('1 lane does not agree', 60)
  await click(find(By.css('[aria-label="Differences of nursery.beds"]')))
  await sees('3 rows of nursery.beds do not agree')
  await click(button('21'))
  await sees('77.50')
  await click(button('Repair all 3 rows …'))
  await sees('1 row is deleted')
  await click(button('Repair them'))
  await sees('2 rows written as they stand at the source, 1 row that the source does not have taken away')
  const there = async (bed: number) =>
    warehouse(`SELECT "AREA_M2" FROM "SECOND"."BEDS" WHERE "BED_ID" = ${bed}`)
  expect(await there(21)).toEqual([['77.50']])
  expect(await there(22)).toEqual([])
  expect(await there(99001)).toHaveLength(1)
})

test('what a row was before is told where its changes are kept', async () => {
  const { id, lanes } = await pipelineCalled('All sites to warehouse')
  const lane = lanes.findIndex(({ source, origin }) => source.name === 'beds' && origin === 'alderbank')
  const page = await fetch(`${standIns.screen}nursery/beds?find=House+3`).then(response => response.text())
  const [, ctid] = /row\?ctid=([^"]+)"/.exec(page)!
  const [, bed] = /<td>(\d+)<\/td>/.exec(page)!
  await fetch(`${standIns.screen}nursery/beds/row?ctid=${ctid}`, {
    method: 'POST',
    body: new URLSearchParams({
      bed_id: bed!,
      house: 'House of Rushes',
      row_no: '1',
      area_m2: '5.5',
      heated: 'true',
    }),
  })
  await open(`/pipelines/${id}/rows`)
  await (await field('Lane')).findElement(By.css(`option[value="${lane}"]`)).click()
  await type('bed_id', bed!)
  await click(button('Look'))
  await xpath('//li[contains(., "House 3") and contains(., "House of Rushes")]')
})

test('a rewind to a mark says what it applies again, and does so', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}?rewind=`)
  await type('A note for the present position', 'before the burst')
  await click(button('Set a mark'))
  await sees('before the burst')
  await fetch(`${standIns.screen}activity`, {
    method: 'POST',
    body: new URLSearchParams({ burst: '40', back: '/' }),
  })
  const landed = async () =>
    (await pipelineCalled('Alderbank to growers_warehouse')).lanes.reduce(
      (sum, { inserted, updated, deleted }) => sum + inserted + updated + deleted,
      0,
    )
  await eventually(async () => (await pipelineCalled('Alderbank to growers_warehouse')).backlog === 0)
  const before = await landed()
  await open(`/pipelines/${id}?rewind=`)
  await type('Where to', 'before the war')
  await sees('Neither a time nor a position')
  await click(find(By.xpath('//tr[contains(., "before the burst")]//button[text()="To here"]')))
  await sees('are applied again')
  await click(find(By.xpath('//div[@role="dialog"]//button[text()="Rewind"]')))
  await eventually(async () => (await landed()) >= before + 40)
  await sees('caught up', 30)
  await open(`/pipelines/${id}/log`)
  await sees('Rewound from')
})

test('the log is searched, tells details for a while, and is saved', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}/log`)
  await (await find(By.css('[aria-label="Find in the log"]'))).sendKeys('rewound FROM')
  await driver.wait(until.urlContains('text=rewound'), WAIT)
  await driver.wait(async () => (await driver.findElements(By.css('main tbody tr'))).length === 1, WAIT)
  await click(button('Tell details for an hour'))
  await sees('details until')
  await pick('Level', 'details and all else')
  await click(button('Show all'))
  await pick('Level', 'details and all else')
  await sees('Landed ')
  const saved = await fetch(`${server.url}/api/log/file?pipeline=${id}&level=detail&form=json`)
  const lines = (await saved.text())
    .trimEnd()
    .split('\n')
    .map(line => JSON.parse(line))
  expect(lines.some(({ level, lanes }) => level === 'detail' && lanes.length > 0)).toBe(true)
  await click(button('Tell no details'))
})

test('what it did is told by run and by table, and saved', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}/runs`)
  for (const kind of ['Copy', 'Following', 'Verification', 'Repair', 'Rewind']) await sees(kind)
  await click(find(By.xpath('(//table[@aria-label="Runs"]//button[text()="Copy"])[last()]')))
  await driver.wait(
    async () => (await driver.findElements(By.css('[aria-label="Tables of the run"] tbody tr'))).length > 2,
    WAIT,
  )
  const csv = await (await fetch(`${server.url}/api/runs/file?pipeline=${id}&form=csv`)).text()
  expect(
    csv.split('\n').filter(line => line.includes(',copy,') && line.includes('nursery.readings')),
  ).not.toEqual([])
  await open('/pipelines/runs')
  await sees('nursery.readings')
  await sees('Rows a batch')
})

test('a verification is set for a time; many are paused at once, which is said before', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}/schedules`)
  await click(button('New schedule'))
  await pick('How often', 'by five fields')
  const fields = await find(By.css('[aria-label^="Minute, hour"]'))
  await fields.sendKeys(Key.chord(Key.CONTROL, 'a'), '0 0 30 2 *')
  await sees('never comes')
  await fields.sendKeys(Key.chord(Key.CONTROL, 'a'), '30 2 * * 1-5')
  await click(button('Set it'))
  await sees('Verify, from Monday to Friday at 02:30')
  await sees('Next 20')
  await open('/pipelines')
  await click(find(By.css('[aria-label="Choose Alderbank to growers_warehouse"]')))
  await click(button('Pause …'))
  await sees('changes a minute wait in its journal')
  await click(button('Pause 1 of 1'))
  await eventually(async () => (await pipelineCalled('Alderbank to growers_warehouse')).state === 'Paused')
  await sees('Tick pipelines')
  await sees('Paused')
  await click(find(By.css('[aria-label="Choose Alderbank to growers_warehouse"]')))
  await click(button('Pause …'))
  await sees('is paused')
  await click(button('Cancel'))
  await click(button('Continue …'))
  await click(button('Continue 1 of 1'))
  await eventually(async () => (await pipelineCalled('Alderbank to growers_warehouse')).state === 'Following')
  await sees('Tick pipelines')
})

test('one lane is copied again; a stop takes the capture off and says what it means', async () => {
  const { id } = await pipelineCalled('Alderbank to growers_warehouse')
  await open(`/pipelines/${id}`)
  await click(find(By.css('[aria-label="Recopy nursery.species"]')))
  await sees('404 rows in SPECIES')
  await click(button('Empty and copy it'))
  await eventually(async () => {
    const { state, lanes, consistent } = await pipelineCalled('Alderbank to growers_warehouse')
    return (
      state === 'Following' &&
      consistent &&
      lanes.every(lane => lane.copied) &&
      lanes.find(lane => lane.source.name === 'species')!.rowsThere === 404
    )
  })
  await click(button('Stop'))
  await sees('what changes there afterwards is not known')
  await click(button('Stop it'))
  await sees('Stopped by a person')
  await click(button('Start again …'))
  await sees('replaced')
  await sees('rows are replaced')
})

test('changes land as files: the setup says which, what waits lands at once, and what came with it is shown', async () => {
  const readings = await pipelineCalled('Readings as change files, every minute')
  const { id: draft } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    ...readings.definition,
    name: 'Beds as files',
    targetSchema: 'beds_as_files',
    tables: [{ namespace: 'nursery', name: 'beds' }],
    files: {},
  })
  await open(`/pipelines/${draft}/change`)
  await click(find(By.css('[aria-label="Change To"]')))
  await pick('Format of files', 'CSV')
  const folders = await find(By.css('[aria-label="Folders of files"]'))
  await folders.sendKeys('day={{date}')
  await sees('000000000042-….csv.gz')
  await sees('is made of letters, digits')
  await folders.sendKeys(Key.chord(Key.CONTROL, 'a'), 'day={date}')
  await sees('beds_as_files.beds/data/day=2026-03-09/000000000042-….csv.gz')
  await sees('in folders such as day=2026-03-09')
  await pick('What files hold', 'a merged table, as it is now')
  await sees('an Iceberg table that others read as of any commit')
  const { id } = await pipelineCalled('Batches as a merged table')
  await open(`/pipelines/${id}`)
  await eventually(async () => ((await pipelineCalled('Batches as a merged table')).backlog ?? 0) > 0, 60)
  const landed = (await pipelineCalled('Batches as a merged table')).landed
  await click(button('Land now'))
  await eventually(async () => (await pipelineCalled('Batches as a merged table')).landed > landed)
  await open('/connections')
  await click(xpath('//aside//a[contains(., "growers_lake")]'))
  await click(xpath('//section[@aria-label="Catalogue"]//button[contains(., "batches")]'))
  await sees('key batch_id')
  await click(button('Versions'))
  await sees('snapshots')
  await click(button('What changed'))
  await sees('What came and went with')
  await sees('gone')
  const lake = (await call<{ id: string; name: string }[]>(server.url, 'GET', '/connections')).find(
    ({ name }) => name === 'growers_lake',
  )!
  const { rows } = await call<{ rows: string[][] }>(server.url, 'POST', '/query', {
    connection: lake.id,
    sql: `SELECT count(*), count(DISTINCT batch_id) FROM alderbank.batches`,
  })
  expect(Number(rows[0]![0])).toBeGreaterThan(5000)
  expect(rows[0]![1]).toBe(rows[0]![0])
})

test('rows in scope are archived: rehearsed, started with the name of the target, and asked about with those that live', async () => {
  const { definition } = await pipelineCalled('Readings older than two years')
  const draft = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    ...definition,
    name: 'The first readings',
    targetSchema: 'first',
    scopes: [{ like: 'nursery.readings', where: { column: 'reading_id', op: 'is less than', value: '300' } }],
  })
  await open(`/pipelines/${draft.id}/change`)
  await sees('in scope are deleted at the source')
  await click(find(By.css('[aria-label="Change Start"]')))
  await click(button('Rehearse'))
  await sees('every one would go in', 20)
  await sees('299')
  await click(button('Archive and delete rows of 1 table'))
  const dialog = await find(By.css('[role="dialog"]'))
  await dialog.findElement(By.css('input')).sendKeys('growers_lake')
  await dialog.findElement(By.xpath('.//button[normalize-space()="Archive and delete rows of"]')).click()
  await eventually(async () => (await pipelineCalled('The first readings')).state === 'Finished', 40)
  await click(button('Log'))
  await sees('299 rows are archived, 299 of them are deleted at the source.')
  await open(`/pipelines/${draft.id}/rows`)
  await click(button('Run'))
  await sees('2 rows in', 30)
  const together = await find(By.css('[aria-label="Live and archived rows of readings"]'))
  expect(await together.getText()).toMatch(/true\s+299/)
  // What follows the same table elsewhere was not told.
  expect(
    await warehouse(
      `SELECT count(*) FROM "NURSERY"."READINGS" WHERE "SITE" = 'alderbank' AND "READING_ID" < 300`,
    ),
  ).toEqual([['299']])
})

test('a bundle is taken with what belongs to it', async () => {
  await open('/pipelines/new')
  await click(xpath('//label[contains(., "Alderbank")]//input'))
  await click(xpath('//label[contains(., "growers_warehouse")]//input'))
  await type('Schema at the target', 'BUNDLED')
  await click(find(By.css('[aria-label="Change Tables"]')))
  await pick('Add a bundle of', 'nursery.dispatches')
  await sees('2 tables')
  await sees('in 1 bundle')
  await sees('its parts, by dispatch_id')
  await click(find(By.css('[aria-label="Remove bundle 1"]')))
  await sees('none chosen yet')
})

test('the keyboard reaches everything: search-or-do, ledger, themes', async () => {
  await open('/pipelines')
  await sees('Tick pipelines')
  await driver.actions().sendKeys('/').perform()
  await driver.actions().sendKeys('alder wareh', Key.ENTER).perform()
  await driver.wait(until.urlMatches(/pipelines\/\w+$/), WAIT)
  await driver.actions().sendKeys('/').perform()
  await driver.actions().sendKeys('dark', Key.ENTER).perform()
  await driver.wait(
    async () => (await driver.executeScript('return document.documentElement.dataset.theme')) === 'dark',
    WAIT,
  )
  const row = await find(By.css('aside li a'))
  await row.sendKeys(Key.ARROW_DOWN, Key.ENTER)
  const second = (await driver.findElements(By.css('aside li a')))[1]!
  expect(await driver.getCurrentUrl()).toBe(await second.getAttribute('href'))
})

test('everything is as it was left after a kill', async () => {
  const before = await pipelineCalled('All sites to warehouse')
  const port = Number(new URL(server.url).port)
  await server.kill()
  await sees('no answer from the server')
  server = await startServer(folder, port)
  await eventually(async () => {
    const after = await pipelineCalled('All sites to warehouse')
    const { state, consistent, landed, lagSeconds } = after
    return state === 'Following' && consistent && landed >= before.landed && lagSeconds !== null
  })
  await driver.wait(
    async () => !(await driver.findElement(By.css('body')).getText()).includes('no answer'),
    WAIT,
  )
  const health = await (await fetch(`${server.url}/api/health`)).json()
  expect(health).toMatchObject({
    status: 'ok',
    version: expect.any(String),
    pipelines: expect.arrayContaining([
      expect.objectContaining({
        name: 'All sites to warehouse',
        state: 'Following',
        lagSeconds: expect.any(Number),
      }),
    ]),
  })
})
