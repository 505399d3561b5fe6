/** What the benchmarks run on: the embedded source, the built server, a pipeline between them. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { fork, type ChildProcess } from 'node:child_process'
import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, type ServerProcess } from '../e2e/server.ts'
import { freePort } from '../packages/connectors/tests/real-postgres.ts'

export interface Bed {
  folder: string
  source: { host: string; port: number; database: string; user: string; password: string }
  server: ServerProcess
  /** Makes a pipeline of the table into `schema` and starts it; resolves with its id when the start was answered. */
  start(schema: string): Promise<string>
  status(id: string): Promise<PipelineStatus>
  until(id: string, what: (status: PipelineStatus) => boolean): Promise<PipelineStatus>
  close(): Promise<void>
}

export async function makeBed(rows: number, nodeOptions = ''): Promise<Bed> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
  const port = await freePort()
  const child: ChildProcess = fork(fileURLToPath(new URL('source.ts', import.meta.url)), [
    folder,
    String(port),
    String(rows),
  ])
  await new Promise(resolve => child.once('message', resolve))
  const source = {
    host: '127.0.0.1',
    port,
    database: 'site',
    user: 'osier',
    password: 'x',
    method: 'triggers',
  }
  const server = await startServer(join(folder, 'data'), 0, { NODE_OPTIONS: nodeOptions })
  const from = await call<{ id: string }>(server.url, 'POST', '/connections', {
    name: 'Site',
    kind: 'postgres',
    config: source,
  })
  const to = await call<{ id: string }>(server.url, 'POST', '/connections', {
    name: 'Warehouse',
    kind: 'duckdb',
    config: { path: join(folder, 'warehouse.duckdb') },
  })
  const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  return {
    folder,
    source,
    server,
    status,
    start: async schema => {
      const definition = {
        version: 2,
        shape: 'replicate',
        name: schema,
        from: from.id,
        to: to.id,
        targetSchema: schema,
        tables: [{ namespace: 'public', name: 'mixed' }],
      }
      const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', definition)
      await call(server.url, 'POST', `/pipelines/${id}/start`)
      return id
    },
    until: (id, what) =>
      eventually(
        async () => {
          const now = await status(id)
          if (now.state === 'Stopped') throw new Error(now.reason?.message)
          return what(now) && now
        },
        600,
        'the pipeline',
      ),
    close: async () => {
      await server.stop()
      child.kill()
      rmSync(folder, { recursive: true, force: true })
    },
  }
}

export const copied = (status: PipelineStatus) => status.lanes.every(lane => lane.copied)

/** Resident memory of a process and all that it has started, in MB. */
export function residentMemory(pid: number): number {
  const children = readdirSync('/proc')
    .filter(name => /^\d+$/.test(name))
    .filter(name => new RegExp(`PPid:\\s+${pid}\n`).test(statusOf(name)))
  return children.reduce((sum, child) => sum + residentMemory(Number(child)), residentOf(statusOf(pid)))
}

const residentOf = (status: string) => Number(/VmRSS:\s+(\d+)/.exec(status)?.[1] ?? 0) / 1024

/** Of one that has ended meanwhile, nothing. */
function statusOf(pid: number | string): string {
  try {
    return readFileSync(`/proc/${pid}/status`, 'utf8')
  } catch {
    return ''
  }
}

export function percentile(values: number[], share: number): number {
  const sorted = [...values].sort((a, b) => a - b)
  return sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))] ?? NaN
}

export function say(line: string): void {
  process.stdout.write(`${line}\n`)
}
