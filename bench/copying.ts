/** One table copied by the built server, timed from the start's request to the last row committed. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Definition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer } from '../e2e/server.ts'
import { copied, residentMemory, say } from './bed.ts'
import { machineTime } from './processor.ts'

export interface System {
  kind: string
  config: object
}

export interface Measured {
  seconds: number
  /** Processor time of everybody, the systems' own included. */
  processor: number
}

/** Copies `namespace.mixed`, which must have so many rows; all of them must be in scope. */
export async function copyOurs(
  folder: string,
  source: System & { namespace: string },
  target: System,
  rows: number,
  shaping: Partial<Definition> = {},
): Promise<Measured> {
  const server = await startServer(join(folder, 'data'))
  const connect = async (name: string, { kind, config }: System) =>
    (await call<{ id: string }>(server.url, 'POST', '/connections', { name, kind, config })).id
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'copy',
    from: await connect('source', { kind: source.kind, config: source.config }),
    to: await connect('target', target),
    targetSchema: 'ours',
    tables: [{ namespace: source.namespace, name: 'mixed' }],
    ...shaping,
  })
  let peak = 0
  const watching = setInterval(() => (peak = Math.max(peak, residentMemory(server.child.pid!))), 200)
  const [began, worked] = [performance.now(), machineTime()]
  await call(server.url, 'POST', `/pipelines/${id}/start`)
  const status = await eventually(
    async () => {
      const now = await call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
      return (now.state === 'Stopped' || copied(now)) && now
    },
    1200,
    'the copy',
  )
  const measured = { seconds: (performance.now() - began) / 1000, processor: machineTime() - worked }
  clearInterval(watching)
  if (status.state === 'Stopped') throw new Error(status.reason?.message)
  if (status.lanes[0]!.copiedRows !== rows) throw new Error(`${status.lanes[0]!.copiedRows} rows were copied`)
  say(
    `ours: ${rows} rows in ${measured.seconds.toFixed(2)} s; the server and its children held ${Math.round(peak)} MB at most`,
  )
  await server.stop()
  return measured
}

/** Measures what `work` takes, done by others. */
export async function measured(work: () => unknown): Promise<Measured> {
  const [began, worked] = [performance.now(), machineTime()]
  await work()
  return { seconds: (performance.now() - began) / 1000, processor: machineTime() - worked }
}

/** What a benchmark of a copy says last: rates and processor times, ours and the limit's. */
export function sayCopy(name: string, rows: number, ours: Measured, limit: Measured, toReach: number): void {
  say(
    `processor time of all: ours ${ours.processor.toFixed(2)} s, limit ${limit.processor.toFixed(2)} s, ratio ${(ours.processor / limit.processor).toFixed(2)}`,
  )
  const rate = ({ seconds }: Measured) => `${Math.round(rows / seconds)} rows/s`
  say(
    `${name}: ratio ${(limit.seconds / ours.seconds).toFixed(2)} (ours ${rate(ours)}, limit ${rate(limit)}; to reach: at least ${toReach})`,
  )
}
