/** Kills archivers anywhere while people edit the very rows; then every row is at the source or in the archive, as it was last. */
import { fork, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { DuckDBInstance } from '@duckdb/node-api'
import type { Column } from '@tide/core/records/column'
import type { Lane } from '@tide/core/plan/lane'
import pg from 'pg'
import { FolderStore } from '../../packages/connectors/src/folder/folder-store.ts'
import { filesOf, openMerged } from '../../packages/connectors/src/lake/merged/table.ts'
import { startRealPostgres } from '../../packages/connectors/tests/real-postgres.ts'
import type { Random } from '../random.ts'

export interface ArchiveKilled {
  kills: number
  archived: number
  edits: number
  /** Rows that are nowhere. */
  lost: number
  /** Rows that the archive has more than once. */
  doubled: number
  /** Rows whose archived state is not the one that was deleted at the source. */
  deletedWhileChanged: number
}

const MOST_STANDING = 5_000
const WORDS = ['wet', 'dry', '', 'a "b", c', 'line\nbreak', '\\.', 'größer', 'NULL']

const column = (name: string, type: Column['type'], nativeType: string): Column => ({
  name,
  type,
  nativeType,
  nullable: true,
})
const READS = [
  column('id', { kind: 'int', bits: 32, signed: true }, 'integer'),
  column('level', { kind: 'decimal', precision: 12, scale: 4 }, 'numeric(12,4)'),
  column('note', { kind: 'utf8' }, 'text'),
  column('old', { kind: 'bool' }, 'boolean'),
]
const NATIVE = ['INTEGER', 'DECIMAL(12,4)', 'VARCHAR', 'BOOLEAN']

const PLAN: Lane = {
  source: { namespace: 'site', name: 'readings' },
  target: { namespace: 'archive', name: 'readings' },
  reads: READS,
  identity: ['id'],
  writes: READS.map((one, i) => ({
    ...one,
    nativeType: NATIVE[i]!,
    value: { from: 'column', column: one.name },
  })),
  key: ['id'],
  scope: { column: 'old', op: 'equals', value: 't' },
  there: 'add',
  files: { as: 'merged', format: 'parquet', compress: 'zstd', folders: '' },
  rows: 0,
  rowsExact: true,
  bytes: 0,
}

/** `gone` tells of each row that is deleted how it was then, and who has deleted it. */
const TABLES = `CREATE SCHEMA site;
  CREATE TABLE site.readings (id int PRIMARY KEY, level numeric(12,4), note text, old boolean);
  CREATE TABLE gone (id int PRIMARY KEY, who text, level text, note text);
  CREATE FUNCTION told() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO gone VALUES (OLD.id, current_setting('application_name'), OLD.level::text, OLD.note); RETURN NULL;
  END $$;
  CREATE TRIGGER told AFTER DELETE ON site.readings FOR EACH ROW EXECUTE FUNCTION told()`

export async function archiveKills(kills: number, random: Random): Promise<ArchiveKilled> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-archive-'))
  const database = await startRealPostgres()
  const client = new pg.Client({ ...database.config, application_name: 'people' })
  await client.connect()
  await client.query(TABLES)
  const path = join(place, 'lake')
  const over = new AbortController()
  let [last, edits, epoch, standing] = [0, 0, 0, 0]
  const old = async () =>
    Number((await client.query(`SELECT count(*) AS n FROM site.readings WHERE old`)).rows[0].n)
  const archivers = new Set<ChildProcess>()
  const begin = async () => {
    const said = JSON.stringify({ source: database.config, path, epoch: ++epoch, plan: PLAN })
    const child = fork(new URL('./archiver.ts', import.meta.url), [said], {
      execArgv: ['--import', 'tsx', '--no-warnings'],
      stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
    })
    archivers.add(child)
    child.once('exit', () => archivers.delete(child))
    await Promise.race([once(child, 'message'), once(child, 'exit')])
    return child
  }
  /** People: rows that change their values, grow old or new, come and go. */
  const edit = async () => {
    while (!over.signal.aborted) {
      const some = `id IN (SELECT id FROM site.readings WHERE id % ${2 + random.below(9)} = 0 ORDER BY id ${random.below(4) > 0 ? 'ASC' : 'DESC'} LIMIT ${1 + random.below(40)})`
      const note = random.pick(WORDS)
      const level = (random.below(1_000_000) / 100).toFixed(2)
      // Those who are killed again and again must not fall behind for ever.
      if (edits % 20 === 0) standing = await old()
      switch (random.below(6)) {
        case 0:
        case 1:
          if (standing > MOST_STANDING) break
          await client.query(
            `INSERT INTO site.readings SELECT i, $1::numeric, $2, i % 5 > 0 FROM generate_series(${last + 1}, ${last + 50}) i`,
            [level, note],
          )
          last += 50
          break
        case 2:
        case 3:
          await client.query(`UPDATE site.readings SET level = $1, note = $2 WHERE ${some}`, [level, note])
          break
        case 4:
          await client.query(`UPDATE site.readings SET old = ${random.below(3) > 0} WHERE ${some}`)
          break
        default:
          await client.query(`DELETE FROM site.readings WHERE id = ${1 + random.below(last + 1)}`)
      }
      edits++
      await sleep(random.below(20))
    }
  }
  try {
    const editing = edit()
    for (let i = 0; i < kills; i++) {
      const child = await begin()
      await sleep(random.below(700))
      child.kill('SIGKILL')
      if (archivers.has(child)) await once(child, 'exit')
    }
    over.abort()
    await editing
    // The last one goes through to the end.
    const child = await begin()
    for (let tries = 0; (await old()) > 0; tries++) {
      if (tries > 6000) throw new Error('it does not come to its end')
      await sleep(50)
    }
    child.kill('SIGKILL')
    const archived = await rowsOf(path, place)
    const result = { kills, archived: 0, edits, lost: 0, doubled: 0, deletedWhileChanged: 0 }
    const there = new Map<number, string>()
    for (const [id, ...values] of archived) {
      if (there.has(Number(id))) result.doubled++
      there.set(Number(id), JSON.stringify(values))
    }
    result.archived = there.size
    const gone = new Map((await client.query('SELECT * FROM gone')).rows.map(row => [row.id as number, row]))
    const standing = new Set((await client.query('SELECT id FROM site.readings')).rows.map(row => row.id))
    for (let id = 1; id <= last; id++) {
      const row = gone.get(id)
      if (row && row.who !== 'people' && there.get(id) !== JSON.stringify([row.level, row.note]))
        result.deletedWhileChanged++
      if (!row && !standing.has(id)) result.lost++
    }
    return result
  } finally {
    over.abort()
    for (const child of archivers) child.kill('SIGKILL')
    await client.end().catch(() => {})
    await database.close()
    rmSync(place, { recursive: true, force: true })
  }
}

const sleep = (milliseconds: number) => new Promise(resolve => setTimeout(resolve, milliseconds))

/** What the files of the archive's newest metadata hold, by DuckDB alone. */
async function rowsOf(path: string, place: string): Promise<unknown[][]> {
  const store = new FolderStore(path)
  const folder = 'archive.readings'
  const table = await openMerged(store, folder)
  const instance = await DuckDBInstance.create(':memory:')
  const connection = await instance.connect()
  const rows: unknown[][] = []
  for (const [i, file] of (await filesOf(store, table!)).entries()) {
    const to = join(place, `${i}.parquet`)
    await store.fetch(`${folder}/${file.path}`, to)
    const read = await connection.runAndReadAll(`SELECT id, level::VARCHAR, note FROM read_parquet('${to}')`)
    for (const row of read.getRows()) rows.push(row)
  }
  connection.disconnectSync()
  instance.closeSync()
  await store.close()
  return rows
}
