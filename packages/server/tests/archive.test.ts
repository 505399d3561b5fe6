/** Rows move into an archive: none is lost, none is deleted that is not archived as it was, whatever happens meanwhile. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { RunRecord } from '@tide/core/definition/run'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string

beforeAll(async () => {
  systems = await openRealSystems(['alder'])
  ;({ url } = systems)
  const { config } = systems.mariadb
  await systems.connect('maria', 'mariadb', { ...config })
  await systems.connect('lake', 'folder', { path: join(systems.folder, 'lake') })
  await systems.connect('warehouse', 'duckdb', { path: join(systems.folder, 'warehouse.duckdb') })
}, 120_000)
afterAll(() => systems?.close())

const archiveOf = (
  from: string,
  table: string,
  more: Partial<ReplicateDefinition> = {},
): ReplicateDefinition => ({
  version: 2,
  shape: 'replicate',
  does: 'archive',
  name: `archive of ${table}`,
  from: systems.ids[from]!,
  to: systems.ids.lake!,
  targetSchema: `archive_${from}`,
  tables: [{ namespace: 'site', name: table }],
  scopes: [{ like: '*', where: { column: 'read_on', op: 'is less than', value: '2025-01-01' } }],
  ...more,
})

const planOf = (definition: ReplicateDefinition, pipeline?: string) =>
  call<PlanAnswer>(url, 'POST', '/plan', { definition, fresh: true, ...(pipeline ? { pipeline } : {}) })
const hindering = ({ notes }: PlanAnswer) =>
  notes.filter(({ level }) => level === 'refused' || level === 'undecided').map(({ message }) => message)

async function started(definition: ReplicateDefinition): Promise<string> {
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  expect(hindering(await planOf(definition, id))).toEqual([])
  await call(url, 'POST', `/pipelines/${id}/start`)
  return id
}
const statusOf = (id: string) => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
const finished = (id: string) =>
  eventually(async () => {
    const { state, reason } = await statusOf(id)
    if (reason) throw new Error(reason.message)
    return state === 'Finished'
  }, 60)
const said = async (id: string) =>
  (await call<{ message: string }[]>(url, 'GET', `/log?pipeline=${id}`)).map(({ message }) => message)

const COLUMNS = `id int PRIMARY KEY, gauge varchar(20), level decimal(12,4), read_on date, note text`

describe.each(['alder', 'maria'])('from %s', from => {
  const run = (sql: string) =>
    from === 'alder' ? systems.inPostgres('alder', sql) : systems.inMariadb(`USE site; ${sql}`)
  const fill = (table: string, rows: number) =>
    run(
      from === 'alder'
        ? `INSERT INTO site.${table} SELECT i, 'g' || i % 7, i / 8.0, '2024-01-01'::date + i % 700, CASE WHEN i % 3 > 0 THEN 'n, "' || i END FROM generate_series(1, ${rows}) i`
        : `INSERT INTO site.${table} SELECT seq, CONCAT('g', seq % 7), seq / 8, '2024-01-01' + INTERVAL seq % 700 DAY, IF(seq % 3 > 0, CONCAT('n, "', seq), NULL) FROM seq_1_to_${rows}`,
    )
  const count = async (connection: string, sql: string) => Number((await systems.ask(connection, sql))[0]![0])

  test('rows in scope are archived and deleted; other targets keep theirs, and what people do is followed', async () => {
    if (from === 'alder') await run('CREATE SCHEMA site')
    await run(`CREATE TABLE site.readings (${COLUMNS})`)
    await fill('readings', 2000)
    const mirror = await call<PipelineStatus>(url, 'POST', '/pipelines', {
      version: 2,
      shape: 'replicate',
      name: `mirror of ${from}`,
      from: systems.ids[from]!,
      to: systems.ids.warehouse!,
      targetSchema: `mirror_${from}`,
      tables: [{ namespace: 'site', name: 'readings' }],
    })
    await call(url, 'POST', `/pipelines/${mirror.id}/start`)
    const mirrored = () => count('warehouse', `SELECT count(*) FROM mirror_${from}.readings`)
    await eventually(async () => (await statusOf(mirror.id)).state === 'Following', 30)
    const old = `SELECT count(*) FROM site.readings WHERE read_on < '2025-01-01'`
    const before = await count(from, old)
    expect(before).toBeGreaterThan(500)
    const id = await started(archiveOf(from, 'readings'))
    await finished(id)
    // Before anybody has asked for a table of the lake by its name.
    const { rows } = await call<{ rows: string[][] }>(url, 'POST', `/pipelines/${id}/lanes/0/together`, {
      sql: 'SELECT in_archive, count(*), sum(level)::VARCHAR FROM readings GROUP BY 1 ORDER BY 1',
    })
    expect(rows.map(([where, n]) => [where, Number(n)])).toEqual([
      ['false', 2000 - before],
      ['true', before],
    ])
    // Of all rows, as they were filled in.
    expect(rows.reduce((sum, row) => sum + Number(row[2]), 0)).toBe((2000 * 2001) / 2 / 8)
    expect(await count(from, old)).toBe(0)
    expect(await count(from, 'SELECT count(*) FROM site.readings')).toBe(2000 - before)
    const archived = `SELECT count(*) FROM archive_${from}.readings`
    expect(await count('lake', archived)).toBe(before)
    expect(await said(id)).toContain(
      `Finished: ${before.toLocaleString('en')} rows are archived, ${before.toLocaleString('en')} of them are deleted at the source.`,
    )
    const runs = await call<RunRecord[]>(url, 'GET', `/runs?pipeline=${id}`)
    expect(runs).toMatchObject([
      { kind: 'archive', state: 'done', lanes: [{ rows: before, deleted: before }] },
    ])
    await run('DELETE FROM site.readings WHERE id = 699')
    await eventually(async () => (await mirrored()) === 1999, 20)
    // Again, when more rows have grown old; what was archived before stays.
    await run(`UPDATE site.readings SET read_on = '2024-06-01' WHERE id IN (600, 601)`)
    await planOf(archiveOf(from, 'readings'), id)
    await call(url, 'POST', `/pipelines/${id}/start`)
    await eventually(async () => (await count('lake', archived)) === before + 2, 30)
    await finished(id)
    expect(await count(from, old)).toBe(0)
    expect(await mirrored()).toBe(1999)
    await call(url, 'POST', `/pipelines/${mirror.id}/stop`)
  }, 120_000)

  test('what others refer to stays, and is told', async () => {
    await run(`CREATE TABLE site.gauges (${COLUMNS})`)
    await fill('gauges', 10)
    await run(`CREATE TABLE site.repairs (id int PRIMARY KEY, gauge int, FOREIGN KEY (gauge) REFERENCES site.gauges (id));
      INSERT INTO site.repairs VALUES (1, 3)`)
    const id = await started(archiveOf(from, 'gauges'))
    await finished(id)
    expect(await systems.ask(from, 'SELECT id FROM site.gauges')).toEqual([['3']])
    expect(await count('lake', `SELECT count(*) FROM archive_${from}.gauges`)).toBe(10)
    expect((await said(id)).join()).toMatch(
      /10 rows are archived, 9 of them are deleted at the source; 1 stay there/,
    )
  }, 60_000)

  test('what would lose something is refused before it begins', async () => {
    await run(`CREATE TABLE site.pumps (${COLUMNS});
      CREATE TABLE site.parts (id int PRIMARY KEY, pump int, FOREIGN KEY (pump) REFERENCES site.pumps (id) ON DELETE CASCADE)`)
    expect(hindering(await planOf(archiveOf(from, 'pumps'))).join()).toMatch(/parts/)
    await run('DROP TABLE site.parts')
    const refused = async (more: Partial<ReplicateDefinition>) =>
      hindering(await planOf(archiveOf(from, 'pumps', more))).join()
    expect(await refused({})).toBe('')
    expect(await refused({ scopes: [] })).toMatch(/not said which rows/)
    expect(await refused({ columns: [{ like: '*.note', does: { leave: 'out' } }] })).toMatch(
      /note .* would be gone/,
    )
    expect(await refused({ to: systems.ids.warehouse! })).toMatch(/folder or a bucket/)
    expect(await refused({ files: { as: 'changes' } })).toMatch(/table that is read as one/)
    expect(await refused({ deletes: 'keep' })).toMatch(/marks no deletions/)
  }, 60_000)
})
