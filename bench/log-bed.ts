/** A real PostgreSQL with one table, followed by its log. */
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { makeFollowing, type Following } from './following.ts'

export interface LogBed extends Following {
  folder: string
  source: RealPostgres
  client: pg.Client
  head(): Promise<string>
}

export async function makeLogBed(): Promise<LogBed> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
  const source = await startRealPostgres({ wal_sender_timeout: '0' })
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
  const following = await makeFollowing(folder, {
    kind: 'postgres',
    config: { ...source.config, method: 'log' },
    namespace: 'public',
    positionKind: 'postgres log',
  })
  return {
    ...following,
    folder,
    source,
    client,
    head: async () => (await client.query('SELECT pg_current_wal_insert_lsn()::text AS lsn')).rows[0].lsn,
    close: async () => {
      await client.end()
      await following.close()
      await source.close()
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
