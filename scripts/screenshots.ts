// `npm run screenshots [-- URL]`: pictures of the main views from the running demo world, for the README.
import { mkdir, writeFile } from 'node:fs/promises'
import pg from 'pg'
import { By, Key, until, type WebDriver } from 'selenium-webdriver'
import { openBrowser } from '../e2e/browser.ts'

const OUT = 'docs/screenshots'
const base = process.argv[2] ?? 'http://127.0.0.1:4600'
const only = process.argv.slice(3)

interface Named {
  id: string
  name: string
  definition?: { name: string }
}
const list = async (what: string): Promise<Named[]> =>
  (await (await fetch(`${base}/api/${what}`)).json()) as Named[]
const connections = await list('connections')
const pipelines = await list('pipelines')
const connection = (name: string) => connections.find(one => one.name === name)!.id
const named = (name: string) => pipelines.find(({ definition }) => definition?.name === name)!.id
const [tickets, orders] = [named('Crew tickets'), named('Orders of the year onto Clubgate’s organisations')]
const pipeline = named('All sites to warehouse')

const click = async (driver: WebDriver, css: string) =>
  driver.wait(until.elementLocated(By.css(css)), 5000).click()

const write = async (driver: WebDriver, css: string, text: string) =>
  driver.wait(until.elementLocated(By.css(css)), 5000).sendKeys(Key.chord(Key.CONTROL, 'a'), text)

/** A source, a target and a schema there; the tables are open. */
async function beginCopy(driver: WebDriver): Promise<void> {
  const warehouse = '//label[contains(., "growers_warehouse")]/input[@name="Target"]'
  await driver.wait(until.elementLocated(By.xpath(warehouse)), 5000).click()
  await driver.findElement(By.css('main .max-w-72 input')).sendKeys('NURSERY_COPY')
  await click(driver, '[aria-label="Change Tables"]')
}

async function addPatterns(driver: WebDriver): Promise<void> {
  for (const [number, pattern] of ['nursery.*', '*.tmp_*'].entries()) {
    await driver.findElement(By.xpath('//button[text()="Add a pattern"]')).click()
    await write(driver, `[aria-label="Pattern ${number + 1}"]`, pattern)
  }
}

async function addColumnRule(
  driver: WebDriver,
  number: number,
  deed: string,
  pattern: string,
): Promise<void> {
  await driver.findElement(By.xpath('//button[text()="Add a rule"]')).click()
  await driver
    .findElement(By.css(`[aria-label="Deed of column rule ${number}"]`))
    .findElement(By.xpath(`./option[.="${deed}"]`))
    .click()
  await write(driver, `[aria-label="Pattern of column rule ${number}"]`, pattern)
}

const button = (driver: WebDriver, text: string) =>
  driver.wait(until.elementLocated(By.xpath(`//button[.="${text}"]`)), 5000)

/** At the simulated site, in a session whose changes no trigger sees. */
async function changeBehindItsBack(): Promise<void> {
  await atAlderbank(`BEGIN; SET LOCAL session_replication_role = replica;
    UPDATE nursery.inspections SET remarks = 'leaves curl, mites likely', vigour = 0.31 WHERE inspection_id = 5000;
    UPDATE nursery.inspections SET grade = 'C' WHERE inspection_id = 5001;
    DELETE FROM nursery.inspections WHERE inspection_id = 1000; COMMIT`)
}

async function correctABed(): Promise<void> {
  await atAlderbank('UPDATE nursery.beds SET area_m2 = 44.5 WHERE bed_id = 7')
  await atAlderbank(`UPDATE nursery.beds SET house = 'House 9', heated = true WHERE bed_id = 7`)
}

async function atAlderbank(sql: string): Promise<void> {
  const client = new pg.Client({
    host: '127.0.0.1',
    port: Number(new URL(base).port) + 11,
    user: 'osier',
    password: 'willow-and-water',
    database: 'alderbank',
  })
  await client.connect()
  await client.query(sql)
  await client.end()
}

/** At the simulated site, somebody enters an area that is no number. */
async function measureWrongly(houses: readonly string[]): Promise<void> {
  const { port } = new URL(base)
  const beds = `http://127.0.0.1:${Number(port) + 10}/nursery/beds`
  for (const house of houses) {
    const page = await (await fetch(`${beds}?find=${house}`)).text()
    const [, row] = /row\?ctid=([^"]+)"/.exec(page)!
    const [, bed] = /<td>(\d+)<\/td>/.exec(page)!
    const name = house.replace('+', ' ')
    const body = new URLSearchParams({
      bed_id: bed!,
      house: name,
      row_no: '1',
      area_m2: 'NaN',
      heated: 'true',
    })
    await fetch(`${beds}/row?ctid=${row}`, { method: 'POST', body, redirect: 'manual' })
  }
}

const VIEWS: { name: string; path: string; before?: (driver: WebDriver) => Promise<void> }[] = [
  { name: 'map', path: '/' },
  { name: 'now', path: `/pipelines/${pipeline}` },
  {
    name: 'connection',
    path: `/connections/${connection('Alderbank')}`,
    before: async driver => {
      await driver.findElement(By.xpath('//main//button[text()="Test"]')).click()
      await driver.findElement(By.xpath('//section//button[contains(., "batches")]')).click()
      await driver.wait(until.elementLocated(By.css('ol[aria-label="Result of the test"]')), 8000)
    },
  },
  {
    name: 'lake',
    path: `/connections/${connection('growers_lake')}`,
    before: async driver => {
      const table = '//section[@aria-label="Catalogue"]//button[contains(., "batches")]'
      await driver.wait(until.elementLocated(By.xpath(table)), 8000).click()
      await button(driver, 'Versions').click()
      await button(driver, 'What changed').click()
      await driver.wait(until.elementLocated(By.xpath('//*[text()="gone"]')), 8000)
    },
  },
  { name: 'journal', path: `/connections/${connection('Alderbank')}` },
  {
    name: 'query',
    path: `/query?connection=${connection('growers_warehouse')}&table=NURSERY.BATCHES`,
  },
  {
    name: 'held',
    path: '/held',
    before: async driver => {
      await measureWrongly(['House+3', 'House+7'])
      await driver.wait(until.elementLocated(By.css('main tbody a')), 15_000).click()
      await driver.wait(until.elementLocated(By.css('main tbody button')), 5000).click()
    },
  },
  {
    name: 'rows',
    path: `/pipelines/${pipeline}/rows`,
    before: async driver => {
      await correctABed()
      await (
        await driver.wait(until.elementLocated(By.xpath('//option[.="nursery.beds of alderbank"]')), 5000)
      ).click()
      const key = By.css('main form input')
      await driver.wait(until.elementLocated(By.xpath('//label[.="bed_id"]')), 5000)
      await driver.findElement(key).sendKeys(Key.chord(Key.CONTROL, 'a'), '7', Key.ENTER)
      await driver.wait(until.elementLocated(By.xpath('//li[contains(., "House 9")]')), 15_000)
    },
  },
  {
    name: 'agreement',
    path: `/pipelines/${pipeline}/agreement`,
    before: async driver => {
      await changeBehindItsBack()
      await (await button(driver, 'Verify …')).click()
      await (await button(driver, 'Compare the rows')).click()
      // The list is put in another order as results come in.
      await driver.sleep(8_000)
      const look = By.css('[aria-label="Differences of nursery.inspections of alderbank"]')
      await driver.wait(until.elementLocated(look), 60_000).click()
      await (await button(driver, '5000')).click()
      await driver.wait(until.elementLocated(By.css('section mark')), 5000)
    },
  },
  {
    name: 'rewind',
    path: `/pipelines/${pipeline}?rewind=`,
    before: async driver => {
      await driver.findElement(By.xpath('//option[.="cotterdale"]')).click()
      await click(driver, '[role="dialog"] tbody tr:last-child button')
      await driver.wait(until.elementLocated(By.xpath('//*[contains(., "are applied again")]')), 8000)
    },
  },
  {
    name: 'runs',
    path: `/pipelines/${pipeline}/runs`,
    before: async driver => {
      await (await button(driver, 'Copy')).click()
    },
  },
  {
    name: 'schedules',
    path: `/pipelines/${pipeline}/schedules`,
    before: async driver => {
      const schedule = { deed: 'count', cron: '30 6 * * 1-5', zone: 'Europe/London' }
      await fetch(`${base}/api/pipelines/${pipeline}/schedules`, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json' },
        body: JSON.stringify(schedule),
      })
      await (await button(driver, 'New schedule')).click()
    },
  },
  { name: 'log', path: '/log' },
  {
    name: 'send-setup',
    path: `/pipelines/${orders}/change`,
    before: async driver => {
      await driver.wait(until.elementLocated(By.css('[aria-label="What the first run would do"]')), 15_000)
    },
  },
  { name: 'two-way', path: `/pipelines/${tickets}` },
  {
    name: 'two-way-setup',
    path: `/pipelines/${tickets}/change`,
    before: async driver => {
      await driver.wait(
        until.elementLocated(By.css('[aria-label="Field pairs"] ins, [aria-label="Field pairs"] td')),
        15_000,
      )
    },
  },
  {
    name: 'setup-origins',
    path: `/pipelines/new?from=${connection('Alderbank')}`,
    before: async driver => {
      await click(driver, '[aria-label="Change From"]')
      for (let n = 0; n < 2; n++)
        await driver.findElement(By.xpath('//button[text()="Add an origin"]')).click()
      await click(driver, '[aria-label="Change To"]')
      await beginCopy(driver)
      await addPatterns(driver)
      await driver.sleep(1500)
      await click(driver, '[aria-label="Change From"]')
    },
  },
  {
    name: 'setup',
    path: `/pipelines/new?from=${connection('Alderbank')}`,
    before: async driver => {
      await beginCopy(driver)
      await addPatterns(driver)
    },
  },
  {
    name: 'setup-columns',
    path: `/pipelines/new?from=${connection('Alderbank')}`,
    before: async driver => {
      await beginCopy(driver)
      await click(driver, '[aria-label="nursery.dispatches"]')
      await click(driver, '[aria-label="Change Columns"]')
      for (const [number, deed, pattern] of [
        [1, 'mask by a keyed hash', '*.contact_mail'],
        [2, 'mask but the ends', '*.club'],
        [3, 'add a computed column', 'nursery.dispatches'],
      ] as const)
        await addColumnRule(driver, number, deed, pattern)
      await write(driver, '[aria-label="Expression of column rule 3"]', 'coalesce(carrier, "by hand") + ca')
    },
  },
]

await mkdir(OUT, { recursive: true })
const driver = await openBrowser()
try {
  for (const { name, path, before } of VIEWS) {
    if (only.length > 0 && !only.includes(name)) continue
    await driver.get(base + path)
    await driver.executeScript('return document.fonts.ready')
    await driver.sleep(1200)
    await before?.(driver)
    await driver.sleep(1500)
    await writeFile(`${OUT}/${name}.png`, await driver.takeScreenshot(), 'base64')
    process.stdout.write(`${OUT}/${name}.png\n`)
  }
} finally {
  await driver.quit()
  // The setup leaves a draft behind; nobody else makes one here.
  for (const { id, definition } of await list('pipelines')) {
    const draft = !pipelines.some(one => one.id === id)
    if (draft && definition) await fetch(`${base}/api/pipelines/${id}`, { method: 'DELETE' })
  }
}
