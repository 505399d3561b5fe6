import { Failure } from '@tide/core/failure'
import { createHash } from 'node:crypto'
import { mkdir, realpath, rm, stat } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Worker } from 'node:worker_threads'

export interface Embedded {
  /** For the driver: the folder of the socket, in place of a host name. */
  host: string
  close(): Promise<void>
}

/** Starts the embedded PostgreSQL on `folder` in a worker thread. A new folder takes some seconds. */
export async function startEmbedded(folder: string): Promise<Embedded> {
  await mkdir(folder, { recursive: true })
  // Socket paths must be short, so it is not in the data folder; what a killed process left there goes.
  const name = createHash('sha256')
    .update(await realpath(folder))
    .digest('hex')
    .slice(0, 20)
  const host = join(tmpdir(), `constant-tide-store-${name}`)
  await rm(host, { recursive: true, force: true })
  await mkdir(host, { mode: 0o700 })
  const socket = join(host, '.s.PGSQL.5432')
  // Making a database takes hundreds of megabytes that its thread never gives back: another thread goes on with it.
  const made = await stat(join(folder, 'PG_VERSION')).catch(() => undefined)
  if (!made) await stop(await start(folder, socket))
  const worker = await start(folder, socket)
  return {
    host,
    close: async () => {
      await stop(worker)
      await rm(host, { recursive: true, force: true })
    },
  }
}

async function start(folder: string, socket: string): Promise<Worker> {
  const worker = new Worker(new URL('./pglite-worker.mjs', import.meta.url), {
    workerData: { folder, socket },
    execArgv: [],
  })
  const { failed } = await answer(worker)
  if (failed === undefined) return worker
  await worker.terminate()
  throw new Failure(
    'structural',
    `The application’s own database in ${folder} does not start: ${failed}`,
    'Put the folder back from a backup, or move it away to begin anew.',
  )
}

async function stop(worker: Worker): Promise<void> {
  const closed = answer(worker)
  worker.postMessage('close')
  await closed
  await worker.terminate()
}

function answer(worker: Worker): Promise<{ failed?: string }> {
  return new Promise((resolve, reject) => {
    worker.once('message', resolve)
    worker.once('error', reject)
  })
}
