/**
 * The server process. Settings come from the environment: TIDE_PORT, TIDE_HOST, TIDE_DATA, TIDE_KEY, TIDE_ENGINE,
 * DATABASE_URL and TIDE_URL (where apps reach it, if not there where it listens).
 */
import { Failure } from '@tide/core/failure'
import { createServer, type RequestListener } from 'node:http'
import type { AddressInfo } from 'node:net'
import { resolve } from 'node:path'
import { createApp } from './app.ts'
import { openDataFolder } from './data-folder.ts'
import { countFaults, liveUntilTold, failWith, makePrivately, openServices } from './process.ts'

async function main(): Promise<void> {
  countFaults()
  makePrivately()
  const folder = resolve(process.env.TIDE_DATA ?? '.tide')
  const host = process.env.TIDE_HOST ?? '127.0.0.1'
  const port = portOf(process.env.TIDE_PORT ?? '4600')
  if (!['127.0.0.1', 'localhost', '::1'].includes(host)) {
    throw new Failure(
      'refused',
      `It does not listen on ${host}: there is no sign-in yet, so anybody could come in.`,
      'Set TIDE_HOST to 127.0.0.1.',
    )
  }
  const data = await openDataFolder(folder, process.env.TIDE_ENGINE)
  let handle: RequestListener = (_request, response) => {
    response
      .writeHead(503, { 'Content-Type': 'text/plain', 'Retry-After': '1' })
      .end('Constant Tide is starting.\n')
  }
  const server = createServer((request, response) => handle(request, response))
  await new Promise<void>((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) => {
      const taken = error.code === 'EADDRINUSE'
      reject(
        taken
          ? new Failure('refused', `Port ${port} on ${host} is taken.`, 'Set TIDE_PORT to another.')
          : error,
      )
    })
    server.listen(port, host, resolve)
  })
  const services = await openServices(data)
  handle = createApp(services).callback()
  const url = `http://${host}:${(server.address() as AddressInfo).port}`
  services.reached.at = process.env.TIDE_URL ?? url
  if (process.send) process.send({ ready: url })
  else process.stdout.write(`Constant Tide ${services.version} serves ${url}\n`)
  liveUntilTold(services, data, () => {
    server.closeAllConnections()
    server.close()
  })
}

function portOf(text: string): number {
  const port = Number(text)
  if (Number.isInteger(port) && port >= 0 && port <= 65535) return port
  throw new Failure(
    'refused',
    `TIDE_PORT is “${text}”, which is no port.`,
    'Set it to a number from 1 to 65535.',
  )
}

main().catch(failWith)
