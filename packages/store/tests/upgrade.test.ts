/** A store that an earlier version has written opens with what it held, as values of today. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { drizzle } from 'drizzle-orm/node-postgres'
import { migrate } from 'drizzle-orm/node-postgres/migrator'
import { cpSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import { startEmbedded } from '../src/embedded.ts'
import { openStore } from '../src/store.ts'

const here = (path: string) => fileURLToPath(new URL(path, import.meta.url))

let folder: string
beforeAll(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-store-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** Makes a store as it was after so many migrations, with rows that were dumped from one. */
async function storeOf(migrations: number, dump: Record<string, unknown[]>): Promise<void> {
  const past = join(folder, 'migrations')
  cpSync(here('../migrations'), past, { recursive: true })
  const journal = join(past, 'meta', '_journal.json')
  const { entries, ...rest } = JSON.parse(readFileSync(journal, 'utf8'))
  writeFileSync(journal, JSON.stringify({ ...rest, entries: entries.slice(0, migrations) }))
  const { host, close } = await startEmbedded(join(folder, 'store'))
  const pool = new pg.Pool({ host, port: 5432, user: 'postgres', database: 'postgres', max: 1 })
  await migrate(drizzle(pool), { migrationsFolder: past })
  for (const [table, rows] of Object.entries(dump)) {
    await pool.query(`INSERT INTO ${table} SELECT * FROM json_populate_recordset(NULL::${table}, $1::json)`, [
      JSON.stringify(rows),
    ])
  }
  await pool.end()
  await close()
}

test('the first version: definitions get their shape, lanes their parts, and what was asked for waits on', async () => {
  const dump = JSON.parse(readFileSync(here('version-1.json'), 'utf8'))
  const [{ id }] = dump.pipeline
  await storeOf(2, dump)
  for (let opened = 0; opened < 2; opened++) {
    const store = await openStore({ folder })
    const found = (await store.pipelines.get(id))!
    expect(found.definition).toEqual({
      version: 2,
      shape: 'replicate',
      name: 'Office beds',
      from: '164dc1b7da',
      to: 'af52f36e33',
      targetSchema: 'copied',
      tables: [{ namespace: 'public', name: 'beds' }],
    })
    expect(found.lanes).toHaveLength(1)
    expect(found.lanes[0]).toMatchObject({
      identity: ['id'],
      key: ['id'],
      scope: null,
      reads: [
        { name: 'id', nativeType: 'integer', nullable: false },
        { name: 'house', nativeType: 'text', nullable: true },
        { name: 'area', nativeType: 'numeric(8,2)' },
      ],
      writes: [
        { name: 'id', nativeType: 'int', value: { from: 'column', column: 'id' } },
        { name: 'house', nativeType: 'longtext COLLATE utf8mb4_nopad_bin' },
        { name: 'area', type: { kind: 'decimal', precision: 8, scale: 2 }, nativeType: 'decimal(8,2)' },
      ],
    })
    expect(found.steps[1]).toMatchObject({
      step: 'create table',
      columns: [{ name: 'id', nativeType: 'int' }, {}, {}],
    })
    expect(await store.errands.waiting(id)).toMatchObject([{ kind: 'recopy', lanes: [0], state: 'waiting' }])
    await store.close()
  }
}, 60_000)
