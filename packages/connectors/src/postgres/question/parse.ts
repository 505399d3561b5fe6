/** A statement as PostgreSQL's own parser reads it. */
import { Turns } from '@tide/core/pace/turns'
import { Worker } from 'node:worker_threads'
import { misunderstood } from '../../question/refusal.ts'

const ANSWERS_WITHIN_MS = 5_000

let worker: Worker | undefined
const turns = new Turns()

/** The parser's tree (see the JSON of `pg_query`): objects of one key, a node's kind, and its fields. */
export function parse(sql: string): Promise<unknown> {
  return turns
    .run(async () => {
      worker ??= startWorker()
      const present = worker
      try {
        return await answer(present, sql)
      } catch {
        worker = undefined
        await present.terminate()
        throw misunderstood('The statement is nested too deeply to be read.')
      }
    })
    .then(({ tree, wrong }) => {
      if (wrong !== undefined) throw misunderstood(wrong)
      return tree
    })
}

function startWorker(): Worker {
  const started = new Worker(new URL('./parse-worker.mjs', import.meta.url))
  started.on('error', () => {}) // whoever waits hears of it
  started.unref()
  return started
}

function answer(from: Worker, sql: string): Promise<{ tree?: unknown; wrong?: string }> {
  return new Promise((resolve, reject) => {
    const end = () => {
      clearTimeout(timer)
      from.off('message', said)
      from.off('exit', gone)
    }
    const said = (message: { tree?: unknown; wrong?: string }) => {
      end()
      resolve(message)
    }
    const gone = () => {
      end()
      reject(new Error('no answer'))
    }
    const timer = setTimeout(gone, ANSWERS_WITHIN_MS)
    from.once('message', said)
    from.once('exit', gone)
    from.postMessage(sql)
  })
}
