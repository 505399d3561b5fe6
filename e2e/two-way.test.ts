/** Two apps kept in step, as people do it in the browser: in the setup, in both apps' own screens, and where something waits for a person. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { RunAnswer } from '@tide/core/api/runs'
import { mkdtempSync, rmSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { By, Key, type WebDriver } from 'selenium-webdriver'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { StandInApp } from '../packages/stand-ins/src/apps/app.ts'
import { benchbookApp } from '../packages/stand-ins/src/apps/benchbook.ts'
import { clubgateApp } from '../packages/stand-ins/src/apps/clubgate.ts'
import type { StandInAppDefinition, StandInObject } from '../packages/stand-ins/src/apps/definition.ts'
import { rakeboardApp } from '../packages/stand-ins/src/apps/rakeboard.ts'
import { Records } from '../packages/stand-ins/src/apps/records.ts'
import { createAppScreen } from '../packages/stand-ins/src/apps/screen.ts'
import { openBrowser } from './browser.ts'
import { pagesOf } from './pages.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-two-way-walk-'))
let server: ServerProcess
let driver: WebDriver
let rakeboard: StandInApp
let benchbook: StandInApp
const screens = { rakeboard: '', benchbook: '' }
const listening: Server[] = []
const { button, click, open, sees, type, xpath } = pagesOf(
  () => driver,
  () => server.url,
)
const [PROGRAMMES, SEASONS, TICKETS] = rakeboardApp.objects as [StandInObject, StandInObject, StandInObject]
const [, JOBS] = benchbookApp.objects as [StandInObject, StandInObject]
const jobFor = (ticket: string) => benchbook.records.of('jobs').find(one => one.ticket === ticket)
const choose = async (label: string, option: string) => {
  const select = await xpath(`//select[@aria-label="${label}"]`)
  await select.findElement(By.xpath(`.//option[contains(., "${option}")]`)).click()
}
const pipelines = () => call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
const pipeline = async () => (await pipelines())[0]!

async function listen(koa: { listen(port: number, host: string): Server }): Promise<string> {
  const one = koa.listen(0, '127.0.0.1')
  listening.push(one)
  await new Promise(resolve => one.once('listening', resolve))
  return `http://127.0.0.1:${(one.address() as AddressInfo).port}`
}

async function started(
  definition: StandInAppDefinition,
  fill: (records: Records) => void,
): Promise<[StandInApp, string]> {
  const app = new StandInApp(definition, new Records(definition, join(folder, definition.name), fill))
  app.perMinute = 0
  let api = ''
  api = await listen(app.api(() => api))
  await call(server.url, 'POST', '/connections', {
    name: definition.name,
    kind: definition.name.toLowerCase(),
    config: { server: api, token: definition.token },
  })
  return [app, await listen(createAppScreen(app, () => api))]
}

beforeAll(async () => {
  server = await startServer(folder)
  ;[rakeboard, screens.rakeboard] = await started(rakeboardApp, records => {
    records.create(PROGRAMMES, { name: 'Gates' })
    records.create(SEASONS, { name: 'Autumn' })
    for (let n = 1; n <= 12; n++)
      records.create(TICKETS, {
        summary: `Mend gate ${n}`,
        labels: n < 12 ? ['growers'] : [],
        season: 'SEA-1',
        status: 'new',
      })
  })
  ;[benchbook, screens.benchbook] = await started(benchbookApp, records =>
    records.create(JOBS, { job: 'Mend gate 3', stage: 'doing', tags: [] }),
  )
  driver = await openBrowser()
}, 120_000)
afterAll(async () => {
  await driver?.quit()
  await server?.stop()
  for (const one of listening) {
    one.closeAllConnections()
    one.close()
  }
  rmSync(folder, { recursive: true, force: true })
})

/** A record on the app's own screen. */
async function edit(of: keyof typeof screens, path: string, values: Record<string, string>): Promise<void> {
  await driver.get(`${screens[of]}/${path}`)
  await xpath('//form[@class="row"]')
  for (const [label, value] of Object.entries(values)) await type(label, value)
  await answered('Save')
}

/** What is opened next must not be overtaken by the page that answers: only a new page has no mark. */
async function answered(verb: string): Promise<void> {
  await driver.executeScript('window.asked = true')
  await click(button(verb))
  await driver.wait(
    () => driver.executeScript('return !window.asked && document.readyState === "complete"'),
    15_000,
    'waiting for the page that answers',
  )
}

test('a pipeline is set up from what is ready-made, on trial; what the first pass would do is told before', async () => {
  // By the keyboard: the system, the other, what is to begin.
  await open('/')
  const join = await xpath('//button[@aria-label="Join Benchbook with another system"]')
  await join.sendKeys(Key.ENTER)
  await sees('Choose the system to join Benchbook with')
  await driver.actions().sendKeys(Key.ESCAPE).perform()
  await eventually(
    async () =>
      (await driver.switchTo().activeElement().getAttribute('aria-label')) ===
      'Join Benchbook with another system',
  )
  // By the pointer: a line from one to the other.
  const from = await xpath('//button[@aria-label="Join Rakeboard with another system"]')
  await driver.actions().move({ origin: from }).press().move({ x: 200, y: 200 }).perform()
  const to = await xpath('//button[normalize-space()="Join with Benchbook"]')
  await driver.actions().move({ origin: to }).release().perform()
  await click(xpath('//*[@role="menuitem"][. = "Keep two places in step"]'))
  const side = await xpath('//div[@aria-label="Side B"]//label[contains(., "Benchbook")]/input')
  expect(await side.isSelected()).toBe(true)
  await type('Name of the pipeline', 'Crew tickets')
  await click(button('Begin with what is ready-made'))
  await sees('Takes part now: 12 records', 30)
  // A live record runs down the page.
  await sees('RKB-101, Mend gate 1')
  await click(xpath('//button[contains(@aria-label, "how status and stage are joined")]'))
  await choose('In a conflict of status', 'a person decides')
  await click(xpath('//button[@aria-label="Change Who"]'))
  await sees('11 of 12 take part by themselves')
  await click(button('Try it with a few records first'))
  await type('Key of a record of Rakeboard for the trial', 'RKB-101')
  await click(xpath('//div[@aria-label="Trial"]//button[normalize-space()="Add"]'))
  await sees('10 more would take part then', 30)
  expect(benchbook.records.of('jobs')).toHaveLength(1)
}, 90_000)

test('the trial is of one record; then all take part', async () => {
  await click(xpath('//button[starts-with(normalize-space(), "Start with these")]'))
  await sees('On trial: 1 record takes part', 30)
  await eventually(async () => jobFor('RKB-101') !== undefined, 20)
  expect(jobFor('RKB-101')).toMatchObject({ job: 'RKB-101 Mend gate 1', stage: 'to do', season: 'Autumn' })
  expect(benchbook.records.of('jobs')).toHaveLength(2)
  await click(button('Stop'))
  await click(button('Stop it'))
  await sees('Start again', 20)
  await click(xpath('//a[contains(., "Start again")]'))
  await click(xpath('//button[@aria-label="Change Who"]'))
  await click(button('Let all take part'))
  await sees('11 of 12 take part by themselves', 20)
  await eventually(async () => {
    const start = await driver.findElements(
      By.xpath('//button[starts-with(normalize-space(), "Start with these 12")]'),
    )
    return start.length > 0
  }, 20)
  await click(xpath('//button[starts-with(normalize-space(), "Start with these 12")]'))
  await eventually(async () => jobFor('RKB-111') !== undefined, 30)
  // What was there already is the same record.
  await eventually(async () => jobFor('RKB-103')?.id === 'rowj1', 20)
  expect(benchbook.records.of('jobs')).toHaveLength(11)
}, 120_000)

test('a label in one app makes the record in the other, with its prefix and its link', async () => {
  await edit('rakeboard', 'tickets/RKB-112', { Labels: 'growers' })
  await eventually(async () => jobFor('RKB-112') !== undefined, 30)
  const job = jobFor('RKB-112')!
  await eventually(async () => rakeboard.records.get('tickets', 'RKB-112')!.benchbook_job === job.id, 20)
  expect(job.job).toBe('RKB-112 Mend gate 12')
}, 60_000)

test('different fields merge; the same field is decided by a person', async () => {
  const job = jobFor('RKB-105')!.id
  await edit('benchbook', `jobs/${job}`, { Who: 'h.ivers@example.org', Stage: 'finished' })
  // A form that was opened before would write back what it showed.
  await eventually(async () => rakeboard.records.get('tickets', 'RKB-105')!.status === 'done', 30)
  await edit('rakeboard', 'tickets/RKB-105', { Notes: 'bring the ladder' })
  await eventually(async () => benchbook.records.get('jobs', job)!.notes === 'bring the ladder', 30)
  expect(rakeboard.records.get('tickets', 'RKB-105')).toMatchObject({ assignee: 'h.ivers@example.org' })
  // Nobody looks while both are edited.
  const { id } = await pipeline()
  await open(`/pipelines/${id}`)
  await click(button('Pause'))
  await sees('Paused', 20)
  await edit('benchbook', `jobs/${job}`, { Stage: 'doing' })
  await edit('rakeboard', 'tickets/RKB-105', { Status: 'waiting for parts' })
  await open(`/pipelines/${id}/undecided`)
  await click(button('Continue'))
  await sees('Both sides have changed it, differently.', 30)
  await click(button('Take Benchbook: doing'))
  await eventually(async () => rakeboard.records.get('tickets', 'RKB-105')!.status === 'in progress', 30)
  await sees('Nothing waits for a person.', 30)
  await open(`/pipelines/${id}/pairs?find=RKB-105`)
  await click(button('Mend gate 5'))
  await sees('a person has decided so')
}, 120_000)

test('a comment is said in the other app, by whom; corrected where it is a copy, it is corrected where it was said', async () => {
  const job = jobFor('RKB-107')!.id
  const said = () => benchbook.records.of('comments').filter(one => one.job === job)
  await driver.get(`${screens.rakeboard}/tickets/RKB-107`)
  await type('Comment', 'The hinge is ordered')
  await answered('Say it')
  await eventually(() => Promise.resolve(said().length > 0), 30)
  await driver.get(`${screens.benchbook}/jobs/${job}`)
  await sees(': The hinge is ordered')
  const [{ id: copy, body }] = said() as [{ id: string; body: string }]
  expect(body).toMatch(/^u\.wren@example\.org, .+ UTC: The hinge is ordered$/)
  await edit('benchbook', `comments/${copy}`, { Comment: body.replace('ordered', 'here') })
  await eventually(
    () => Promise.resolve(rakeboard.records.of('comments').some(one => one.body === 'The hinge is here')),
    30,
  )
  const { id } = await pipeline()
  await open(`/pipelines/${id}/pairs?find=hinge`)
  await click(button('The hinge is here'))
  await sees('u.wren@example.org')
}, 90_000)

test('a run is undone', async () => {
  const job = jobFor('RKB-106')!.id
  const before = new Date().toISOString()
  await edit('rakeboard', 'tickets/RKB-106', { Summary: 'A mistake' })
  // The app has the value before the run has ended, and until then another one is the newest to be undone.
  const run = await eventually(async () => {
    const runs = await call<RunAnswer[]>(server.url, 'GET', '/runs')
    return runs.find(one => one.endedAt !== null && one.endedAt > before && one.rows > 0)
  }, 30)
  expect(benchbook.records.get('jobs', job)!.job).toBe('RKB-106 A mistake')
  const { id } = await pipeline()
  await open(`/pipelines/${id}/runs`)
  await click(xpath(`//button[@aria-label="Undo the run of ${run.startedAt}"]`))
  await sees('RKB-106 A mistake → RKB-106 Mend gate 6')
  await click(button('Undo it'))
  await eventually(async () => benchbook.records.get('jobs', job)!.job === 'RKB-106 Mend gate 6', 30)
}, 60_000)

test('what is ready-made and not there is made after a look; a field that somebody takes away stops it, and nothing is emptied', async () => {
  const [clubgate] = await started(clubgateApp, records => {
    const { id } = records.create(clubgateApp.objects[0]!, {
      name: 'Withy Lane',
      club_number: 'GC-1',
      tier: 'seed',
    })
    records.create(clubgateApp.objects[1]!, {
      name: 'Ada Fenwick',
      email: 'ada@example.org',
      organisation: id,
    })
  })
  const connections = await call<ConnectionInfo[]>(server.url, 'GET', '/connections')
  const idOf = (name: string) => connections.find(one => one.name === name)!.id
  const asked = new URLSearchParams({ shape: 'two-way', from: idOf('Clubgate'), to: idOf('Benchbook') })
  await open(`/pipelines/new?${asked}`)
  await sees('Benchbook has no table “Clubs”')
  await click(button('Begin with what is ready-made …'))
  await sees('"title": "Orders this year"')
  await click(button('Make it'))
  await sees('Takes part now: 2 records', 30)
  await click(xpath('//button[starts-with(normalize-space(), "Start with these")]'))
  await eventually(() => Promise.resolve(benchbook.records.of('people_of_clubs').length === 1), 30)
  expect(benchbook.records.of('clubs')).toMatchObject([
    { name: 'Withy Lane', club_number: 'GC-1', tier: 'seed', club_in_clubgate: 'org_1001' },
  ])
  // One more, of those that are left.
  await click(button('Stop'))
  await click(button('Stop it'))
  await sees('Stopped')
  const { id } = (await pipelines()).find(({ definition }) => definition.from === idOf('Clubgate'))!
  await open(`/pipelines/${id}/change`)
  await click(button('News wanted'))
  await click(button('Make a field in Benchbook for “News wanted” …'))
  await sees('"yes or no"')
  await click(button('Make it'))
  await sees('news_wanted')
  await click(xpath('//button[starts-with(normalize-space(), "Start with these")]'))
  await sees('Following', 30)
  clubgate.records.change(clubgateApp.objects[0]!, 'org_1001', { news_wanted: true })
  await eventually(() => Promise.resolve(benchbook.records.get('clubs', 'clubs_1')!.news_wanted === true), 30)
  await driver.get(`${screens.benchbook}/clubs`)
  await choose('A field that goes', 'Tier')
  await answered('Take the field away')
  await edit('benchbook', 'clubs/clubs_1', { Name: 'Withy Lane and others' })
  await open(`/pipelines/${id}`)
  await sees('Clubs of Benchbook have no “Tier” any more.', 30)
  expect(clubgate.records.get('organisations', 'org_1001')).toMatchObject({ tier: 'seed' })
}, 120_000)
