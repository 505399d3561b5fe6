// @ts-check
// The embedded database works in a thread of its own, so that its queries never hold up the server. It is reached
// over a local socket by the ordinary driver: an external PostgreSQL server would be used by the very same code.
import { PGlite } from '@electric-sql/pglite'
import { PGLiteSocketServer } from '@electric-sql/pglite-socket'
import { parentPort, workerData } from 'node:worker_threads'

const port = /** @type {import('node:worker_threads').MessagePort} */ (parentPort)
try {
  const db = await PGlite.create(workerData.folder)
  const server = new PGLiteSocketServer({ db, path: workerData.socket, maxConnections: 2 })
  await server.start()
  port.on('message', async () => {
    await server.stop()
    await db.close()
    port.postMessage({ closed: true })
  })
  port.postMessage({ ready: true })
} catch (error) {
  port.postMessage({ failed: error instanceof Error ? error.message : String(error) })
}
