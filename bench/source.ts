/** The embedded source in a process of its own, as in the demo world: a table of 8 mixed columns behind a socket. */
import { PGlite } from '@electric-sql/pglite'
import { join } from 'node:path'
import { PostgresSocketServer } from '../packages/stand-ins/src/postgres/socket-server.ts'

const [folder, port, rows] = process.argv.slice(2) as [string, string, string]
const db = await PGlite.create(join(folder, 'source'))
await db.exec(`CREATE TABLE mixed (
  id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), ratio double precision,
  flag boolean, label text, code uuid, day date)`)
await db.exec(`INSERT INTO mixed SELECT i, timestamptz '2026-01-01' + i * interval '1 second', i / 7.0, i / 3.0, i % 2 = 0,
  CASE WHEN i % 10 = 0 THEN NULL ELSE 'bed ' || i % 120 || ', row ' || i END, md5(i::text)::uuid, date '2026-01-01' + i % 365
  FROM generate_series(1, ${Number(rows)}) i`)
await db.exec('ANALYZE')
const server = new PostgresSocketServer(db, { database: 'site', user: 'osier', password: 'x' })
await server.listen(Number(port))
process.send!('ready')
process.on('disconnect', () => process.exit(0))
