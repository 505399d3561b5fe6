/** Pipelines on one source with a log, followed into any number of targets by the built server. */
import type { JournalInfo } from '@tide/core/api/journals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { compareWithin } from '@tide/core/position/order'
import { join } from 'node:path'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { eventually, startServer, type ServerProcess } from '../e2e/server.ts'
import { copied } from './bed.ts'

export type TargetKind = 'duckdb' | 'postgres' | 'folder'

export interface FollowedSource {
  kind: 'postgres' | 'mariadb'
  config: object
  /** Of the table `mixed`. */
  namespace: string
  positionKind: string
}

export interface Following {
  server: ServerProcess
  /** Makes a pipeline and starts it; resolves with its id when it follows. `more`: of its definition. */
  follow(name: string, kind: TargetKind, more?: object): Promise<string>
  status(id: string): Promise<PipelineStatus>
  act(id: string, action: 'pause' | 'continue'): Promise<unknown>
  /** Seconds until so many changes have landed since the start. */
  untilLanded(id: string, changes: number): Promise<number>
  /** Seconds until the journal holds the source's log up to a place. */
  untilInJournal(place: string): Promise<number>
  close(): Promise<void>
}

export async function makeFollowing(folder: string, source: FollowedSource): Promise<Following> {
  let target: RealPostgres | undefined
  const server = await startServer(join(folder, 'data'))
  const connect = async (name: string, kind: string, config: object) =>
    (await call<{ id: string }>(server.url, 'POST', '/connections', { name, kind, config })).id
  const from = await connect('source', source.kind, source.config)
  const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  const timed = async (what: string, done: () => Promise<boolean>) => {
    const began = performance.now()
    await eventually(done, 900, what)
    return (performance.now() - began) / 1000
  }
  return {
    server,
    status,
    follow: async (name, kind, more = {}) => {
      if (kind === 'postgres') target ??= await startRealPostgres()
      const to =
        kind === 'duckdb'
          ? await connect(name, kind, { path: join(folder, `${name}.warehouse.duckdb`) })
          : kind === 'folder'
            ? await connect(name, kind, { path: join(folder, `${name}.lake`) })
            : await connect(name, kind, { ...target!.config, method: 'log' })
      const tables = [{ namespace: source.namespace, name: 'mixed' }]
      const definition = {
        version: 2,
        shape: 'replicate',
        name,
        from,
        to,
        targetSchema: `into_${name}`,
        tables,
        ...more,
      }
      const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', definition)
      await call(server.url, 'POST', `/pipelines/${id}/start`)
      const follows = async () => copied(await status(id)) && (await status(id)).state === 'Following'
      await eventually(follows, 120, 'the start')
      return id
    },
    act: (id, action) => call(server.url, 'POST', `/pipelines/${id}/${action}`),
    untilLanded: (id, changes) => timed(id, async () => (await status(id)).landed >= changes),
    untilInJournal: place =>
      timed('the journal', async () => {
        const journal = await call<JournalInfo>(server.url, 'GET', `/connections/${from}/journal`)
        return compareWithin(source.positionKind, journal.end.position, place) !== 'before'
      }),
    close: async () => {
      await server.stop()
      await target?.close()
    },
  }
}
