/** Into an app, as a person does it in the browser: describe the app, be let in on its page, write a query, look, try, run, correct. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Errand } from '@tide/core/definition/errand'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { By, Key, type WebDriver } from 'selenium-webdriver'
import { clubgate } from '../packages/connectors/src/http/described/clubgate.ts'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { StandInApp } from '../packages/stand-ins/src/apps/app.ts'
import { clubgateApp } from '../packages/stand-ins/src/apps/clubgate.ts'
import { Records } from '../packages/stand-ins/src/apps/records.ts'
import { createAppScreen } from '../packages/stand-ins/src/apps/screen.ts'
import { openBrowser } from './browser.ts'
import { pagesOf } from './pages.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-send-walk-'))
let server: ServerProcess
let driver: WebDriver
let database: RealPostgres
let client: pg.Client
let app: StandInApp
let screen = ''
let api = ''
const listening: Server[] = []
const { button, click, field, find, open, sees, type, xpath } = pagesOf(
  () => driver,
  () => server.url,
)
const [ORGANISATIONS] = clubgateApp.objects as [(typeof clubgateApp.objects)[0]]
const named = (name: string) => app.records.of('organisations').find(record => record.name === name)
const choose = async (label: string, option: string) => {
  const select = await xpath(
    `//select[@aria-label="${label}"] | //*[@id = //label[normalize-space()="${label}"]/@for]`,
  )
  await select.findElement(By.xpath(`.//option[contains(., "${option}")]`)).click()
}

/** What was asked for is over: another run may be asked for. */
async function settled(): Promise<void> {
  const [pipeline] = await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
  await eventually(async () => {
    const errands = await call<Errand[]>(server.url, 'GET', `/pipelines/${pipeline!.id}/errands`)
    return errands.every(({ endedAt }) => endedAt !== null)
  }, 15)
}

async function listen(koa: { listen(port: number, host: string): Server }): Promise<string> {
  const one = koa.listen(0, '127.0.0.1')
  listening.push(one)
  await new Promise(resolve => one.once('listening', resolve))
  return `http://127.0.0.1:${(one.address() as AddressInfo).port}`
}

beforeAll(async () => {
  database = await startRealPostgres()
  client = new pg.Client(database.config)
  await client.connect()
  await client.query(
    `CREATE TABLE orders (club text, mail text, plants int);
     INSERT INTO orders SELECT 'Club ' || i % 12, CASE WHEN i % 12 = 7 THEN 'no address' ELSE 'club' || i % 12 || '@example.org' END, i FROM generate_series(1, 240) i`,
  )
  app = new StandInApp(
    clubgateApp,
    new Records(clubgateApp, join(folder, 'clubgate.jsonl'), records => {
      for (const n of [1, 2, 3]) records.create(ORGANISATIONS, { name: `Club ${n}`, note: 'known for long' })
    }),
  )
  app.perMinute = 0
  api = await listen(app.api(() => api))
  screen = await listen(createAppScreen(app, () => api))
  server = await startServer(folder)
  await call(server.url, 'POST', '/connections', {
    name: 'Office',
    kind: 'postgres',
    config: database.config,
  })
  driver = await openBrowser()
}, 180_000)
afterAll(async () => {
  await driver?.quit()
  await server?.stop()
  for (const one of listening) {
    one.closeAllConnections()
    one.close()
  }
  await client?.end()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

test('an app is described; what is wrong is said at its line, and the app lets us in on its own page', async () => {
  const description = {
    ...clubgate,
    signIn: { by: 'authorization code', authorize: '/authorize', token: '/token', revoke: '/revoke' },
  }
  await open('/connections/new')
  await click(xpath('//button[contains(., "Described app")]'))
  await type('Name', 'Clubs')
  await type('Address', api)
  await type('User or client', 'constant-tide')
  const area = await field('Description')
  // Typed, a long text takes its time.
  const put = (text: string) =>
    driver.executeScript(
      `const [area, text] = arguments
       Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(area, text)
       area.dispatchEvent(new Event('input', { bubbles: true }))`,
      area,
      text,
    )
  await put('description: 1\napp: Clubs\nsignIn:\n  by: magic\nobjects: {}\n')
  await click(button('Test'))
  await sees('The description, line')
  const wrong = {
    ...description,
    objects: { organisations: { ...description.objects.organisations!, label: 'nickname' } },
  }
  await put(JSON.stringify(wrong, null, 2))
  await click(button('Test'))
  await sees('has no property “nickname”')
  const shelf = await listen({
    listen: (port, host) =>
      createServer((_, response) => response.end(JSON.stringify(description, null, 2))).listen(port, host),
  })
  await put(`${shelf}/clubs.json`)
  await click(button('Fetch it from there'))
  await eventually(async () => (await area.getAttribute('value'))?.includes('"app": "Clubgate"') ?? false, 15)
  await click(button('Test'))
  await sees('Nobody has signed in to Clubgate yet')
  await click(button('Save'))
  await sees('Nobody has let us in yet.')
  await click(button('Sign in to Clubs'))
  await sees('Let “constant-tide” in?')
  await click(button('Refuse'))
  await sees('Nobody let us into Clubgate')
  await click(button('To the connections'))
  await click(xpath('//a[contains(., "Clubs")]'))
  await sees('Nobody has let us in yet.')
  await click(button('Sign in to Clubs'))
  await sees('Let “constant-tide” in?')
  await click(button('Allow'))
  await sees('Somebody has let us in on its page.')
  await click(button('Test'))
  await sees('Read Organisations')
  await sees('It answers.')
}, 90_000)

test('a query is written, previewed and saved; fields are joined, and what the first run would do is told', async () => {
  await open('/pipelines/new')
  await click(button('send records into an app'))
  await type('Name of the pipeline', 'Orders onto clubs')
  await click(button('SQL'))
  await choose('Source', 'Office')
  const editor = await find(By.css('.cm-content'))
  await editor.sendKeys(
    'SELECT club AS name, min(mail) AS email, sum(plants)::int AS orders_this_year FROM orders GROUP BY club',
  )
  await click(button('Preview'))
  await sees('12 rows')
  await type('Name of the query', 'Orders by club')
  await click(button('Save it'))
  await click(xpath('//fieldset//label[contains(., "name")]/input'))
  await sees('by name')
  await click(xpath('//button[@aria-label="Change Where"]'))
  await click(xpath('//label[contains(., "Clubs")]/input'))
  await choose('Object', 'Organisations')
  await click(xpath('//button[@aria-label="Change Fields"]'))
  await click(button('Join them'))
  await sees('3 fields: name, email, orders_this_year')
  await click(xpath('//button[@aria-label="Change Match"]'))
  await click(button('Add a match key'))
  await choose('Column of match key 1', 'name')
  await choose('Field of match key 1', 'name')
  // Eleven that fit: three are there, and one has no address.
  await sees('Of the new rows 3 meet one record, 8 meet none')
  await sees('“no address” is no e-mail address.')
  expect(app.records.of('organisations')).toHaveLength(3)
}, 90_000)

test('one record is tried and taken back; then all are sent', async () => {
  await click(button('Start'))
  await sees('Waiting for a run', 30)
  await click(button('Differences'))
  await click(xpath('//button[@aria-label="Try it: Club 5"]'))
  await eventually(async () => named('Club 5') !== undefined, 15)
  await click(button('Take it back'))
  await eventually(async () => named('Club 5') === undefined, 15)
  await settled()
  await click(button('Send now'))
  // What there is changes after what there is not is made: the last of both says that the run is done.
  await eventually(
    async () =>
      app.records.of('organisations').length === 11 && named('Club 2')?.email === 'club2@example.org',
    15,
  )
  expect(named('Club 2')).toMatchObject({ note: 'known for long' })
  await click(button('Now'))
  await sees('and sent 11 records')
}, 90_000)

test('an address is corrected at the source, and goes', async () => {
  await client.query(`UPDATE orders SET mail = 'seven@example.org' WHERE mail = 'no address'`)
  await settled()
  await click(button('Send now'))
  await eventually(async () => named('Club 7')?.email === 'seven@example.org', 15)
}, 60_000)

test('a row that does not fit is corrected by hand, and another left out with a note', async () => {
  await client.query(`UPDATE orders SET mail = 'nowhere' WHERE club IN ('Club 8', 'Club 9')`)
  const [pipeline] = await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
  await open(`/pipelines/${pipeline!.id}/differences`)
  await click(xpath('//button[@aria-label="Correct Club 8"]'))
  await type('email', 'eight@example.org')
  await click(button('Send it so'))
  await eventually(async () => named('Club 8')?.email === 'eight@example.org', 15)
  await settled()
  await eventually(async () => {
    await click(xpath('//button[@aria-label="Leave out Club 9"]'))
    return (await driver.findElements(By.xpath('//label[normalize-space()="Why"]'))).length > 0
  }, 15)
  await type('Why', 'closed in spring')
  await click(button('Leave it out'))
  await open(`/pipelines/${pipeline!.id}/refused`)
  await sees('left out: closed in spring')
  await sees('email: eight@example.org')
  expect(named('Club 9')).toMatchObject({ email: 'club9@example.org' })
}, 60_000)

test('what somebody edits in the app is told before it is sent again', async () => {
  await driver.get(`${screen}/organisations/${named('Club 4')!.id}`)
  await type('Orders this year', '1')
  await click(button('Save'))
  const [pipeline] = await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
  await open(`/pipelines/${pipeline!.id}/records`)
  await click(button('Look at Clubs'))
  await sees('1 changed by others')
  await sees('orders_this_year: 1 →')
  await click(button('Send it again'))
  await eventually(async () => Number(named('Club 4')!.orders_this_year) > 1, 15)
  await driver.actions().sendKeys(Key.ESCAPE).perform()
}, 60_000)
