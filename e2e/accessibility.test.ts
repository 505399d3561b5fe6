/** Every view in both themes, looked over by axe-core for roles, names, labels and contrast (WCAG 2.2 AA), and by the Tab key. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import axe from 'axe-core'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { By, Key, type WebDriver } from 'selenium-webdriver'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { openBrowser } from './browser.ts'
import { pagesOf } from './pages.ts'
import { eventually, startServer, startStandIns, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-access-'))
let server: ServerProcess
let standIns: Awaited<ReturnType<typeof startStandIns>>
let driver: WebDriver
let pipeline: string
/** One that sends, and one that keeps two apps in step. */
let sends = ''
let twoWay = ''
let connections: Map<string, string>
const { button, click, find, open, sees, type, xpath } = pagesOf(
  () => driver,
  () => server.url,
)

beforeAll(async () => {
  server = await startServer(folder)
  standIns = await startStandIns(folder, server.url)
  driver = await openBrowser()
  const list = await call<ConnectionInfo[]>(server.url, 'GET', '/connections')
  connections = new Map(list.map(({ id, name }) => [name, id]))
  const all = await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
  pipeline = all.find(({ definition }) => definition.name === 'All sites to warehouse')!.id
  await eventually(
    async () =>
      (await call<PipelineStatus>(server.url, 'GET', `/pipelines/${pipeline}`)).state === 'Following',
  )
  await eventually(async () => {
    const now = await call<PipelineStatus[]>(server.url, 'GET', '/pipelines')
    sends = now.find(({ send }) => send?.held === 1)?.id ?? ''
    twoWay = now.find(({ twoWay }) => twoWay?.held === 1)?.id ?? ''
    return sends !== '' && twoWay !== ''
  }, 60)
}, 180_000)
afterAll(async () => {
  await driver?.quit()
  await standIns?.stop()
  await server?.stop()
  rmSync(folder, { recursive: true, force: true })
})

const ALL = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']
/** Of what a theme can change, which is colours alone. */
const OF_COLOURS = ['color-contrast', 'link-in-text-block']

/** What is wrong with the page as it stands, one line each. */
async function faults(rules: readonly string[]): Promise<string[]> {
  await driver.executeScript(`if (!window.axe) { ${axe.source} }`)
  return driver.executeAsyncScript<string[]>(
    `const done = arguments[0]
     const lines = ({ violations }) => violations.flatMap(({ id, nodes }) =>
       nodes.map(({ target, failureSummary }) => id + ': ' + target.join(' ') + ' ' + failureSummary))
     axe.run(document, { runOnly: ${JSON.stringify(rules)} }).then(results => done(lines(results)), fault => done([String(fault)]))`,
  )
}

const withDialog = (label: string, sure: string) => async () => {
  await click(button(label))
  await sees(sure)
}
const openFirst = (table: string) => () =>
  click(xpath(`//table[@aria-label="${table}"]//button[@aria-expanded]`))
const joinOpen = () => click(xpath('//button[contains(@aria-label, "how status and stage are joined")]'))
const VIEWS: [what: string, path: () => string, text: string, before?: () => Promise<void>][] = [
  ['what is sent, now', () => `/pipelines/${sends}`, 'Sent last'],
  ['what a run would send', () => `/pipelines/${sends}/differences`, 'in the result'],
  ['records that were sent', () => `/pipelines/${sends}/records`, 'Accepted'],
  ['refused records', () => `/pipelines/${sends}/refused`, 'has bounced before'],
  ['the setup of what sends', () => `/pipelines/${sends}/change`, 'A run now'],
  ['what is kept in step, now', () => `/pipelines/${twoWay}`, 'Written last'],
  ['pairs', () => `/pipelines/${twoWay}/pairs?only=held`, 'Started in', openFirst('Pairs')],
  ['what waits for a decision', () => `/pipelines/${twoWay}/undecided`, 'Take Rakeboard'],
  ['the setup of what is kept in step', () => `/pipelines/${twoWay}/change`, 'Takes part now', joinOpen],
  ['an app', () => `/connections/${connections.get('Clubgate')!}`, 'organisations'],
  ['the map', () => '/', 'All sites to warehouse'],
  [
    'search-or-do',
    () => '/',
    'Alderbank',
    async () => {
      await driver.actions().sendKeys('/').perform()
      await find(By.css('[role="dialog"] input, [role="combobox"]'))
    },
  ],
  [
    'pipelines, one of them chosen',
    () => '/pipelines',
    'Tick pipelines',
    async () => {
      await click(find(By.css('[aria-label="Choose All sites to warehouse"]')))
      await click(button('Recopy …'))
      await sees('copied again')
    },
  ],
  ['runs by table', () => '/pipelines/runs', 'nursery.readings'],
  ['its runs', () => `/pipelines/${pipeline}/runs`, 'Rows a minute'],
  [
    'its schedules',
    () => `/pipelines/${pipeline}/schedules`,
    'Nothing is done at set times',
    async () => {
      await click(button('New schedule'))
      await sees('The next times')
    },
  ],
  ['a pipeline now', () => `/pipelines/${pipeline}`, 'Tide'],
  ['its rows', () => `/pipelines/${pipeline}/rows`, 'Lane'],
  ['its setup', () => `/pipelines/${pipeline}/setup`, 'Tables'],
  ['its log', () => `/pipelines/${pipeline}/log`, 'Following'],
  ['the question before a stop', () => `/pipelines/${pipeline}`, 'Tide', withDialog('Stop', 'not known')],
  ['a new pipeline', () => `/pipelines/new?from=${connections.get('Alderbank')}`, 'Schema at the target'],
  [
    'a plan that refuses',
    () => `/pipelines/new?from=${connections.get('Alderbank')}`,
    'Schema at the target',
    async () => {
      await click(xpath('//label[contains(., "growers_warehouse")]//input'))
      await type('Schema at the target', 'SECOND')
      await click(find(By.css('[aria-label="Change Tables"]')))
      await click(find(By.css('[aria-label="nursery.watering_rota"]')))
      await sees('has no key')
    },
  ],
  ['connections', () => '/connections', 'New connection'],
  [
    'a connection',
    () => `/connections/${connections.get('Alderbank')}`,
    'nursery',
    async () => {
      await click(xpath('//section[@aria-label="Catalogue"]//button[contains(., "species")]'))
      await sees('latin_name')
      await click(button('Test'))
      await find(By.css('ol[aria-label="Result of the test"] li'))
    },
  ],
  [
    'versions of a table of a lake',
    () => `/connections/${connections.get('growers_lake')}`,
    'batches',
    async () => {
      await click(xpath('//section[@aria-label="Catalogue"]//button[contains(., "batches")]'))
      await click(button('Versions'))
      await sees('snapshot')
      await click(button('Rows'))
      await sees('As it was with')
    },
  ],
  [
    'a pipeline into files',
    () => `/pipelines/new?from=${connections.get('Alderbank')}`,
    'Schema at the target',
    async () => {
      await click(xpath('//label[contains(., "growers_lake")]//input'))
      await find(By.css('[aria-label="What files hold"]'))
    },
  ],
  [
    'a new connection',
    () => '/connections/new',
    'PostgreSQL',
    async () => {
      await click(xpath('//main//button[contains(., "PostgreSQL")]'))
      await sees('Host')
      for (const details of await driver.findElements(By.css('main details summary'))) await details.click()
    },
  ],
  [
    'a query',
    () => '/query',
    'Run',
    async () => {
      await (
        await find(By.css('#sql'))
      ).sendKeys('SELECT * FROM "NURSERY"."BEDS"', Key.chord(Key.CONTROL, Key.ENTER))
      await sees('rows')
    },
  ],
  [
    'a query that is refused',
    () => '/query',
    'Run',
    async () => {
      await (
        await find(By.css('#sql'))
      ).sendKeys('DELETE FROM "NURSERY"."BEDS"', Key.chord(Key.CONTROL, Key.ENTER))
      await sees('DELETE is not taken')
    },
  ],
  ['the log', () => '/log', 'All sites to warehouse'],
  ['settings', () => '/settings', 'This server'],
  ['a way that leads nowhere', () => '/nowhere', 'no such page'],
]

test('a theme is chosen by word', async () => {
  for (const theme of ['dark', 'light']) {
    await open('/')
    await driver.actions().sendKeys('/').perform()
    await driver.actions().sendKeys(theme, Key.ENTER).perform()
    await driver.wait(
      async () => (await driver.executeScript('return document.documentElement.dataset.theme')) === theme,
      15_000,
    )
  }
})

describe('in both themes', () => {
  for (const [what, path, text, before] of VIEWS) {
    test(what, async () => {
      await open(path())
      await sees(text)
      await before?.()
      expect(await faults(ALL)).toEqual([])
      await driver.executeScript(`document.documentElement.dataset.theme = 'dark'`)
      expect(await faults(OF_COLOURS)).toEqual([])
    })
  }
})

test('Tab reaches every control of a sheet, one after another, and shows where it is', async () => {
  await open(`/pipelines/${pipeline}`)
  await sees('Tide')
  const wanted = await driver.executeScript<number>(
    `return [...document.querySelectorAll('a[href], button, input, select, textarea, summary, [tabindex="0"]')]
       .filter(one => !one.disabled && one.tabIndex >= 0 && one.getClientRects().length > 0).length`,
  )
  const seen = new Set<string>()
  for (let i = 0; i < wanted + 5; i++) {
    await driver.actions().sendKeys(Key.TAB).perform()
    const [path, outlined] = await driver.executeScript<[string, boolean]>(`
      const one = document.activeElement
      if (one === document.body) return ['body', true]
      const path = []
      for (let at = one; at.parentElement; at = at.parentElement) path.unshift([...at.parentElement.children].indexOf(at))
      const style = getComputedStyle(one)
      return [path.join('.'), style.outlineStyle !== 'none' || style.boxShadow !== 'none']`)
    expect(outlined).toBe(true)
    seen.add(path)
  }
  seen.delete('body')
  expect(seen.size).toBe(wanted)
})
