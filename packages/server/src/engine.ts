/**
 * An engine alone: it runs pipelines of a store that others share, and serves no pages. Settings come from the
 * environment: DATABASE_URL, TIDE_KEY, TIDE_DATA, TIDE_ENGINE.
 */
import { Failure } from '@tide/core/failure'
import { resolve } from 'node:path'
import { openDataFolder } from './data-folder.ts'
import { countFaults, liveUntilTold, failWith, makePrivately, openServices } from './process.ts'

async function main(): Promise<void> {
  countFaults()
  makePrivately()
  if (!process.env.DATABASE_URL) {
    throw new Failure(
      'refused',
      'An engine alone needs a store that it shares with others; the embedded one is for the server.',
      'Set DATABASE_URL to the PostgreSQL server that the others use, and TIDE_KEY to their passphrase.',
    )
  }
  const data = await openDataFolder(resolve(process.env.TIDE_DATA ?? '.tide-engine'), process.env.TIDE_ENGINE)
  const services = await openServices(data)
  if (process.send) process.send({ ready: data.name })
  else process.stdout.write(`Constant Tide ${services.version}: the engine “${data.name}” runs\n`)
  // Nothing else would keep the process: its sockets are the pipelines' own.
  const staying = setInterval(() => {}, 60_000)
  liveUntilTold(services, data, () => clearInterval(staying))
}

main().catch(failWith)
