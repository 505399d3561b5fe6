/** A page of another origin, in the same browser, reaches nothing: neither by what it sends nor by what it shows. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { WebDriver } from 'selenium-webdriver'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { openBrowser } from './browser.ts'
import { startServer, type ServerProcess } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-foreign-'))
let server: ServerProcess
let elsewhere: Server
let foreign: string
let driver: WebDriver

const CONNECTION = JSON.stringify({
  name: 'Planted',
  kind: 'duckdb',
  config: { path: join(folder, 'planted.duckdb') },
})

beforeAll(async () => {
  server = await startServer(join(folder, 'data'))
  // Another origin, and for browsers another site: localhost is not 127.0.0.1.
  elsewhere = createServer((request, response) => {
    if (request.url === '/onward')
      return response.writeHead(307, { location: `${server.url}/api/connections` }).end()
    response
      .writeHead(200, { 'content-type': 'text/html' })
      .end('<!doctype html><title>Elsewhere</title><body>')
  })
  await new Promise<void>(resolve => elsewhere.listen(0, '127.0.0.1', resolve))
  foreign = `http://localhost:${(elsewhere.address() as AddressInfo).port}/`
  driver = await openBrowser(['--host-resolver-rules=MAP rebound.example 127.0.0.1'])
}, 60_000)
afterAll(async () => {
  await driver?.quit()
  elsewhere?.closeAllConnections()
  elsewhere?.close()
  expect(await server?.stop()).toBe(0)
  rmSync(folder, { recursive: true, force: true })
})

const planted = async () =>
  (await call<{ name: string }[]>(server.url, 'GET', '/connections')).map(({ name }) => name)

/** What a script in the foreign page comes to: `sent` for what goes unheard, the text that it could read, or why not. */
const tries: [what: string, script: string][] = [
  [
    'a request as JSON',
    `return fetch(url + '/api/connections', { method: 'POST', body, headers: { 'content-type': 'application/json' } }).then(a => a.text())`,
  ],
  [
    'a request as plain text, unheard',
    `return fetch(url + '/api/connections', { method: 'POST', body, mode: 'no-cors' }).then(() => 'sent')`,
  ],
  ['a beacon', `return String(navigator.sendBeacon(url + '/api/connections', body)) && 'sent'`],
  [
    'a beacon of JSON',
    `return String(navigator.sendBeacon(url + '/api/connections', new Blob([body], { type: 'application/json' }))) && 'sent'`,
  ],
  [
    'a redirect on the way',
    `return fetch('/onward', { method: 'POST', body, mode: 'no-cors', headers: { 'content-type': 'text/plain' } }).then(() => 'sent')`,
  ],
  ['reading an answer', `return fetch(url + '/api/connections').then(a => a.text())`],
  [
    'an event stream',
    `return new Promise(r => { const e = new EventSource(url + '/api/events'); e.onmessage = m => r(m.data); e.onerror = () => r('error') })`,
  ],
  [
    'a script of ours',
    `return new Promise(r => { const s = document.createElement('script'); s.src = url + '/api/connections'; s.onload = () => r('loaded'); s.onerror = () => r('error'); document.body.append(s) })`,
  ],
]

test.each(tries)('%s comes to nothing', async (_, script) => {
  await driver.get(foreign)
  const came = await driver.executeAsyncScript<string>(
    `const [url, body, done] = arguments; (async () => { ${script} })().then(done, error => done('error ' + error.message))`,
    server.url,
    CONNECTION,
  )
  expect(came).toMatch(/^(sent|error)/)
  expect(await planted()).toEqual([])
})

test('a form comes to nothing', async () => {
  await driver.get(foreign)
  await driver.executeScript(
    `const [url, body] = arguments
     const form = document.createElement('form'); form.method = 'post'; form.enctype = 'text/plain'; form.action = url + '/api/connections'
     const input = document.createElement('input'); input.name = body.slice(0, -1) + ',"x":"'; input.value = '"}'
     form.append(input); document.body.append(form); form.submit()`,
    server.url,
    CONNECTION,
  )
  await driver.wait(async () => (await driver.getCurrentUrl()).startsWith(server.url), 10_000)
  expect(await driver.getPageSource()).toMatch(/not taken|must be JSON/)
  expect(await planted()).toEqual([])
})

test('our pages do not stand in frames of others', async () => {
  await driver.get(foreign)
  await driver.executeScript(
    `const frame = document.createElement('iframe'); frame.src = arguments[0]; document.body.append(frame)`,
    server.url,
  )
  await new Promise(resolve => setTimeout(resolve, 1500))
  await driver.switchTo().frame(0)
  expect(await driver.getPageSource()).not.toContain('id="root"')
  await driver.switchTo().defaultContent()
})

test('a foreign name that was made to point here is not served, and our own page still is', async () => {
  const { port } = new URL(server.url)
  await driver.get(`http://rebound.example:${port}/`)
  expect(await driver.getPageSource()).toContain('rebound.example is not served')
  await driver.get(server.url)
  await driver.wait(async () => (await driver.getPageSource()).includes('Constant Tide'), 10_000)
  const said = await driver.executeAsyncScript<string>(
    `const done = arguments[1]; fetch('/api/connections', { method: 'POST', body: arguments[0], headers: { 'content-type': 'application/json' } }).then(a => done(String(a.status)))`,
    CONNECTION,
  )
  expect(said).toBe('201')
  expect(await planted()).toEqual(['Planted'])
})
