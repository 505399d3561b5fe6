/**
 * Ten thousand tables in the setup: how long until they can be seen, until what is typed has filtered them, and until the whole
 * plan is there. The limit is what the design asks of each; the ratio is the worst of them.
 */
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PlanAnswer } from '@tide/core/api/plans'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { By, Key, until } from 'selenium-webdriver'
import { openBrowser } from '../e2e/browser.ts'
import { startServer } from '../e2e/server.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { say } from './bed.ts'

const TABLES = 10_000
const LIMITS = { paint: 300, keystroke: 100, plan: 2_000 }

/** In the page: from the click or the letter to the frame after the list is as wanted. */
const TIMED = `
  const [act, wanted, done] = [arguments[0], arguments[1], arguments[arguments.length - 1]]
  const began = performance.now()
  const look = () => {
    const lines = document.querySelectorAll('[aria-label^="many."]')
    if (lines.length > 0 && [...lines].every(line => line.getAttribute('aria-label').includes(wanted)))
      return requestAnimationFrame(() => done(performance.now() - began))
    requestAnimationFrame(look)
  }
  if (act.startsWith('click ')) document.querySelector(act.slice(6)).click()
  else {
    const input = document.querySelector('input[placeholder^="Find"], input[aria-label="Find tables"]')
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(input, act)
    input.dispatchEvent(new Event('input', { bubbles: true }))
  }
  look()`

const database = await startRealPostgres()
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-chooser-'))
const server = await startServer(join(folder, 'data'))
const driver = await openBrowser()
try {
  const client = await database.connect()
  await client.query('CREATE SCHEMA many')
  for (let n = 0; n < TABLES; n += 500)
    await client.query(
      Array.from(
        { length: 500 },
        (_, i) => `CREATE TABLE many.t_${n + i} (id int PRIMARY KEY, a text, b numeric(9,2), at timestamptz)`,
      ).join(';'),
    )
  await client.end()
  const connect = (name: string, kind: string, config: object) =>
    call<ConnectionInfo>(server.url, 'POST', '/connections', { name, kind, config })
  const from = await connect('Many', 'postgres', database.config)
  const to = await connect('Warehouse', 'duckdb', { path: join(folder, 'w.duckdb') })
  const definition = {
    version: 2,
    shape: 'replicate',
    name: 'All of them',
    from: from.id,
    to: to.id,
    targetSchema: 'all',
    tables: [],
    patterns: [{ take: 'in', like: 'many.*' }],
  }
  const plan = () => call<PlanAnswer>(server.url, 'POST', '/plan', { definition })
  const { lanes } = await plan() // with both catalogues read
  if (lanes.length !== TABLES) throw new Error(`${lanes.length} lanes were planned`)
  const best = async (what: string, run: () => Promise<number>) => {
    const times: number[] = []
    for (let round = 0; round < 5; round++) times.push(await run())
    say(`${what}: ${times.map(one => Math.round(one)).join(', ')} ms`)
    return Math.min(...times)
  }
  const planned = await best('plan of 10,000 tables', async () => {
    const began = performance.now()
    await plan()
    return performance.now() - began
  })
  await driver.get(`${server.url}/pipelines/new?from=${from.id}`)
  await driver.manage().setTimeouts({ script: 30_000 })
  await driver.wait(until.elementLocated(By.css('[aria-label="Change Tables"]')), 20_000)
  const turn = () => driver.findElement(By.css('[aria-label="Change Tables"], [aria-label="Fold Tables"]'))
  await turn().click()
  await driver.wait(until.elementLocated(By.css('[aria-label^="many."]')), 30_000)
  const painted = await best('first paint', async () => {
    await turn().click()
    return driver.executeAsyncScript<number>(TIMED, 'click [aria-label="Change Tables"]', 't_')
  })
  const letters = ['t_9', 't_99', 't_999', 't_12', 't_1234']
  let typed = 0
  const filtered = await best('a keystroke', () => {
    const text = letters[typed++]!
    return driver.executeAsyncScript<number>(TIMED, text, text)
  })
  await driver.actions().sendKeys(Key.ESCAPE).perform()
  const ratio = Math.max(painted / LIMITS.paint, filtered / LIMITS.keystroke, planned / LIMITS.plan)
  say(
    `chooser: ratio ${ratio.toFixed(2)} (ours ${Math.round(painted)}, ${Math.round(filtered)} and ${Math.round(planned)} ms, limit ${LIMITS.paint}, ${LIMITS.keystroke} and ${LIMITS.plan} ms)`,
  )
} finally {
  await driver.quit()
  await server.stop()
  await database.close()
  rmSync(folder, { recursive: true, force: true })
}
