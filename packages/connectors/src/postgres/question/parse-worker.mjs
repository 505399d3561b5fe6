// @ts-check
// PostgreSQL's own parser. In a thread, since a statement that is nested too deeply leaves it broken: then the thread goes.
import { hasSqlDetails, loadModule, parseSync } from 'libpg-query'
import { parentPort } from 'node:worker_threads'

const port = /** @type {import('node:worker_threads').MessagePort} */ (parentPort)
await loadModule()
port.on('message', sql => {
  try {
    port.postMessage({ tree: parseSync(sql) })
  } catch (error) {
    if (hasSqlDetails(error)) port.postMessage({ wrong: error.message })
    else throw error
  }
})
