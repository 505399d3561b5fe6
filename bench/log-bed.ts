/** A real PostgreSQL with one table, followed by its log into any number of targets by the built server. */
import type { JournalInfo, PipelineStatus } from '@tide/core/api/types'
import { compareWithin } from '@tide/core/position/order'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { eventually, startServer, type ServerProcess } from '../e2e/server.ts'
import { copied } from './bed.ts'

export type TargetKind = 'duckdb' | 'postgres'

export interface LogBed {
  folder: string
  source: RealPostgres
  client: pg.Client
  server: ServerProcess
  /** Makes a pipeline and starts it; resolves with its id when it follows. */
  follow(name: string, kind: TargetKind): Promise<string>
  status(id: string): Promise<PipelineStatus>
  act(id: string, action: 'pause' | 'continue'): Promise<unknown>
  /** Seconds until so many changes have landed since the start. */
  untilLanded(id: string, changes: number): Promise<number>
  /** Seconds until the journal holds what the source had committed when it was called. */
  untilInJournal(lsn: string): Promise<number>
  head(): Promise<string>
  close(): Promise<void>
}

export async function makeLogBed(): Promise<LogBed> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
  const source = await startRealPostgres({ wal_sender_timeout: '0' })
  let target: RealPostgres | undefined
  const client = await source.connect()
  await client.query(
    `CREATE TABLE mixed (id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), label text)`,
  )
  await client.query(`CREATE PROCEDURE one_by_one(first int, n int) LANGUAGE plpgsql AS $$
BEGIN
  FOR i IN first .. first + n - 1 LOOP
    INSERT INTO mixed VALUES (i, clock_timestamp(), i / 7.0, 'row ' || i);
    COMMIT;
  END LOOP;
END $$`)
  const server = await startServer(join(folder, 'data'))
  const connect = async (name: string, kind: string, config: object) =>
    (await call<{ id: string }>(server.url, 'POST', '/connections', { name, kind, config })).id
  const from = await connect('source', 'postgres', { ...source.config, method: 'log' })
  const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  const timed = async (what: string, done: () => Promise<boolean>) => {
    const began = performance.now()
    await eventually(done, 900, what)
    return (performance.now() - began) / 1000
  }
  return {
    folder,
    source,
    client,
    server,
    status,
    follow: async (name, kind) => {
      if (kind === 'postgres') target ??= await startRealPostgres()
      const to =
        kind === 'duckdb'
          ? await connect(name, kind, { path: join(folder, `${name}.warehouse.duckdb`) })
          : await connect(name, kind, { ...target!.config, method: 'log' })
      const tables = [{ namespace: 'public', name: 'mixed' }]
      const definition = { version: 1, name, from, to, targetSchema: `into_${name}`, tables }
      const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', definition)
      await call(server.url, 'POST', `/pipelines/${id}/start`)
      const follows = async () => copied(await status(id)) && (await status(id)).state === 'Following'
      await eventually(follows, 120, 'the start')
      return id
    },
    act: (id, action) => call(server.url, 'POST', `/pipelines/${id}/${action}`),
    untilLanded: (id, changes) => timed(id, async () => (await status(id)).landed >= changes),
    untilInJournal: lsn =>
      timed('the journal', async () => {
        const journal = await call<JournalInfo>(server.url, 'GET', `/connections/${from}/journal`)
        return compareWithin('postgres log', journal.end.position, lsn) !== 'before'
      }),
    head: async () => (await client.query('SELECT pg_current_wal_insert_lsn()::text AS lsn')).rows[0].lsn,
    close: async () => {
      await client.end()
      await server.stop()
      await Promise.all([source.close(), target?.close()])
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
