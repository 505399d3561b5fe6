/**
 * A pipeline that runs gets another plan while people go on writing: what need not be copied again is not, and in the end each
 * target holds just what a pipeline by that plan would have brought there. Compared by both systems' own SQL.
 */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import { asReplication, type ReplicateDefinition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let ids: Record<string, string>
const at = (site: string, sql: string) => systems.inPostgres(site, sql)
const ask = (connection: string, sql: string) => systems.ask(connection, sql)

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'bracken', 'cotter', 'gathered'])
  ;({ url, ids } = systems)
  await systems.inMariadb('CREATE DATABASE gathered')
  await systems.connect('into duckdb', 'duckdb', { path: join(systems.folder, 'gathered.duckdb') })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.connect('into mariadb', 'mariadb', { ...systems.mariadb.config, database: 'gathered' })
}, 120_000)
afterAll(() => systems?.close())

/** Somebody who goes on writing until told to stop. */
function writing(sites: readonly string[]): () => Promise<void> {
  let on = true
  const done = Promise.all(
    sites.map(async site => {
      for (let n = 0; on; n++) {
        await at(
          site,
          `INSERT INTO site.beds VALUES (${1000 + (n % 100)}, ${n % 7}, 'new ${n}', 'm${n}@example.org')
             ON CONFLICT (id) DO UPDATE SET note = excluded.note;
           UPDATE site.beds SET n = n + 1, note = 'again ${n}' WHERE id % 50 = ${n % 50};
           DELETE FROM site.beds WHERE id = ${200 + n};
           UPDATE site.tools SET n = ${n} WHERE id = ${n % 20}`,
        )
      }
    }),
  )
  return async () => {
    on = false
    await done
  }
}

const TARGETS = ['into duckdb', 'into postgres', 'into mariadb']

describe.each(TARGETS)('a pipeline %s is changed while it runs', to => {
  let id: string
  let first: ReplicateDefinition
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const plan = (definition: ReplicateDefinition) =>
    call<PlanAnswer>(url, 'POST', '/plan', { pipeline: id, definition, fresh: true })
  const fates = ({ lanes, change }: PlanAnswer) =>
    Object.fromEntries(
      lanes.map(({ source, origin }, i) => [
        [origin, source.name].filter(Boolean).join(' '),
        change!.lanes[i]!.fate,
      ]),
    )
  const change = async (definition: ReplicateDefinition): Promise<PlanAnswer> => {
    const { reason } = await status()
    expect(reason).toBeNull()
    const planned = await plan(definition)
    expect(planned.notes.filter(({ level }) => level === 'refused' || level === 'undecided')).toEqual([])
    await call(url, 'POST', `/pipelines/${id}/change`, { definition, plan: planned.digest })
    await eventually(async () => {
      const { lanes, state, changing, reason } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && !changing && lanes.every(({ copied }) => copied)
    }, 40)
    return planned
  }
  /** The same query means the same at both sides, but for names. */
  const equal = async (sites: readonly string[], here: string, there: string) => {
    let last: [string[][], string[][]] = [[], []]
    await eventually(async () => {
      const of = await Promise.all(
        sites.map(async site =>
          (await ask(site, here)).map(row => (sites.length > 1 ? [site, ...row] : row)),
        ),
      )
      last = [of.flat(), await ask(to, there)]
      return JSON.stringify(last[0]) === JSON.stringify(last[1])
    }, 30).catch(() => {})
    expect(last[1]).toEqual(last[0])
  }

  beforeAll(async () => {
    for (const site of ['alder', 'bracken', 'cotter']) {
      await at(
        site,
        `DROP SCHEMA IF EXISTS site CASCADE; CREATE SCHEMA site;
         CREATE TABLE site.beds (id int PRIMARY KEY, n int NOT NULL, note text, mail text);
         INSERT INTO site.beds SELECT i, i % 7, 'note ' || i, 'a' || i || '@example.org' FROM generate_series(1, 300) i;
         CREATE TABLE site.tools (id int PRIMARY KEY, n int);
         INSERT INTO site.tools SELECT i, i FROM generate_series(0, 19) i;
         CREATE TABLE site.rota (id int PRIMARY KEY);
         INSERT INTO site.rota VALUES (1)`,
      )
    }
    const schema = `one_${to.slice(5)}`
    first = {
      version: 2,
      shape: 'replicate',
      name: `changed ${to}`,
      from: ids.alder!,
      to: ids[to]!,
      targetSchema: schema,
      tables: [
        { namespace: 'site', name: 'beds' },
        { namespace: 'site', name: 'tools' },
      ],
    }
    id = (await call<PipelineStatus>(url, 'POST', '/pipelines', first)).id
    await call(url, 'POST', `/pipelines/${id}/start`)
    await eventually(async () => (await status()).state === 'Following')
  }, 60_000)

  test('names and columns in place; a mask and a scope by copying one table again; tables come and go', async () => {
    const schema = first.targetSchema
    await expect(plan(first)).resolves.toMatchObject({
      notes: [{ level: 'undecided', message: 'Nothing is changed.' }],
    })
    const stop = writing(['alder'])
    const renamed: ReplicateDefinition = {
      ...first,
      names: [
        { names: 'tables', like: 'site.beds', does: { call: 'garden_beds' } },
        { names: 'columns', like: 'site.beds.n', does: { call: 'plants' } },
      ],
      columns: [
        { like: 'site.beds.mail', does: { leave: 'out' } },
        { like: 'site.beds', does: { add: 'came', metadata: 'operation' } },
      ],
    }
    expect(fates(await change(renamed))).toEqual({ beds: 'altered', tools: 'stays' })
    // The rows that were there are there still, and it is not known any more how they came.
    const before = await ask(to, `SELECT count(*) FROM ${schema}.garden_beds WHERE came IS NULL`)
    expect(Number(before[0]![0])).toBeGreaterThan(100)
    const masked: ReplicateDefinition = {
      ...renamed,
      columns: [{ like: 'site.beds.mail', does: { mask: 'hash' } }],
      scopes: [{ like: 'site.beds', where: { all: [{ column: 'n', op: 'is less than', value: '5' }] } }],
      tables: [...first.tables, { namespace: 'site', name: 'rota' }],
    }
    const planned = await change(masked)
    expect(fates(planned)).toEqual({ beds: 'copied again', tools: 'stays', rota: 'copied' })
    expect(planned.notes).toContainEqual(expect.objectContaining({ level: 'loss' }))
    const without: ReplicateDefinition = {
      ...masked,
      tables: masked.tables.filter(({ name }) => name !== 'tools'),
    }
    expect((await change(without)).change!.takenOut).toEqual([1])
    await at('alder', `INSERT INTO site.rota VALUES (2)`)
    await stop()
    await equal(
      ['alder'],
      'SELECT id, n, note FROM site.beds WHERE n < 5 ORDER BY id',
      `SELECT id, plants, note FROM ${schema}.garden_beds ORDER BY id`,
    )
    await equal(
      ['alder'],
      'SELECT id FROM site.rota ORDER BY id',
      `SELECT id FROM ${schema}.rota ORDER BY id`,
    )
    const clear = await ask(to, `SELECT count(*) FROM ${schema}.garden_beds WHERE mail LIKE '%@%'`)
    expect(clear).toEqual([['0']])
    // The one that was taken out stands as it was, and nothing follows it.
    await at('alder', 'DELETE FROM site.tools; DELETE FROM site.rota WHERE id = 1')
    await equal(['alder'], 'SELECT id FROM site.rota', `SELECT id FROM ${schema}.rota`)
    expect(await ask(to, `SELECT count(*) FROM ${schema}.tools`)).toEqual([['20']])
    expect((await status()).lanes.map(({ source }) => source.name)).toEqual(['beds', 'rota'])
  }, 120_000)

  test('a column is filled in the rows that are there, and made otherwise later, while people write; nobody finds fewer rows', async () => {
    const schema = `filled_${to.slice(5)}`
    const other = await call<PipelineStatus>(url, 'POST', '/pipelines', {
      ...first,
      name: `filled ${to}`,
      from: ids.cotter!,
      targetSchema: schema,
    })
    const before = id
    id = other.id
    try {
      await call(url, 'POST', `/pipelines/${id}/start`)
      await eventually(async () => (await status()).state === 'Following')
      const stop = writing(['cotter'])
      const over = new AbortController()
      let fewest = Infinity
      const watching = (async () => {
        while (!over.signal.aborted) {
          const [[rows]] = (await ask(to, `SELECT count(*) FROM ${schema}.beds`)) as [[string]]
          fewest = Math.min(fewest, Number(rows))
          await new Promise(resolve => setTimeout(resolve, 20))
        }
      })()
      const computed = (compute: string): ReplicateDefinition => ({
        ...asReplication(other.definition),
        columns: [{ like: 'site.beds', does: { add: 'twice', compute } }],
      })
      const planned = await change(computed('n * 2'))
      expect(fates(planned)).toEqual({ beds: 'filled', tools: 'stays' })
      expect(planned.notes).toContainEqual(
        expect.objectContaining({ level: 'warning', message: expect.stringContaining('twice is filled') }),
      )
      expect(fates(await change(computed('n * 3')))).toEqual({ beds: 'filled', tools: 'stays' })
      await eventually(async () => (await status()).lanes.every(({ detached }) => !detached))
      await stop()
      over.abort()
      await watching
      expect(fewest).toBeGreaterThanOrEqual(100)
      await equal(
        ['cotter'],
        'SELECT id, n, note, n * 3 FROM site.beds ORDER BY id',
        `SELECT id, n, note, twice FROM ${schema}.beds ORDER BY id`,
      )
    } finally {
      id = before
      await call(url, 'POST', `/pipelines/${other.id}/stop`)
    }
  }, 120_000)

  test('what cannot be changed is refused, and the pipeline goes on', async () => {
    const definition = asReplication((await status()).definition)
    const refusals = async (changed: ReplicateDefinition) =>
      (await plan(changed)).notes.flatMap(({ level, message }) => (level === 'refused' ? [message] : []))
    const elsewhere = ids[TARGETS.find(one => one !== to)!]!
    expect(await refusals({ ...definition, to: elsewhere })).toContainEqual(
      expect.stringMatching(/target cannot/),
    )
    expect(await refusals({ ...definition, from: ids.bracken! })).toContainEqual(
      expect.stringMatching(/source cannot/),
    )
    const stale = { ...definition, later: 'report' as const }
    const { digest } = await plan(stale)
    await at('alder', 'ALTER TABLE site.rota ADD COLUMN extra int DEFAULT 3')
    await expect(
      call(url, 'POST', `/pipelines/${id}/change`, { definition: stale, plan: digest }),
    ).rejects.toThrow(/not the plan that was shown/)
    // The column that has come takes the lane along, once that is wanted.
    expect(fates(await plan(stale))).toEqual({ beds: 'stays', rota: 'copied again' })
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped')
  }, 60_000)

  test('an origin is added to others, and all of them are altered together', async () => {
    const schema = `all_${to.slice(5)}`
    await at('alder', 'DROP TABLE site.rota; CREATE TABLE site.rota (id int PRIMARY KEY)')
    const both: ReplicateDefinition = {
      ...first,
      name: `both ${to}`,
      targetSchema: schema,
      from: [
        { connection: ids.alder!, tag: 'alder' },
        { connection: ids.bracken!, tag: 'bracken' },
      ],
      tables: [{ namespace: 'site', name: 'beds' }],
    }
    id = (await call<PipelineStatus>(url, 'POST', '/pipelines', both)).id
    await call(url, 'POST', `/pipelines/${id}/start`)
    await eventually(async () => (await status()).state === 'Following')
    const stop = writing(['alder', 'bracken'])
    const renamed: ReplicateDefinition = {
      ...both,
      names: [{ names: 'columns', like: 'site.beds.n', does: { call: 'plants' } }],
      columns: [{ like: 'site.beds.mail', does: { leave: 'out' } }],
    }
    expect(fates(await change(renamed))).toEqual({ 'alder beds': 'altered', 'bracken beds': 'altered' })
    const scoped: ReplicateDefinition = {
      ...renamed,
      tables: [...renamed.tables, { namespace: 'site', name: 'tools' }],
      scopes: [{ like: 'site.beds', where: { all: [{ column: 'n', op: 'is less than', value: '6' }] } }],
    }
    expect(fates(await change(scoped))).toEqual({
      'alder beds': 'copied again',
      'bracken beds': 'copied again',
      'alder tools': 'copied',
      'bracken tools': 'copied',
    })
    // Another origin comes into the tables that the others go on writing to.
    const third: ReplicateDefinition = {
      ...scoped,
      from: [
        ...(both.from as { connection: string; tag: string }[]),
        { connection: ids.cotter!, tag: 'cotter' },
      ],
    }
    expect(fates(await change(third))).toEqual({
      'alder beds': 'stays',
      'bracken beds': 'stays',
      'cotter beds': 'copied',
      'alder tools': 'stays',
      'bracken tools': 'stays',
      'cotter tools': 'copied',
    })
    await at('cotter', `UPDATE site.beds SET note = 'came later' WHERE id = 3`)
    await stop()
    const sites = ['alder', 'bracken', 'cotter']
    await equal(
      sites,
      'SELECT id, n, note FROM site.beds WHERE n < 6 ORDER BY id',
      `SELECT origin, id, plants, note FROM ${schema}.beds ORDER BY origin, id`,
    )
    await equal(
      sites,
      'SELECT id, n FROM site.tools ORDER BY id',
      `SELECT origin, id, n FROM ${schema}.tools ORDER BY origin, id`,
    )
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped')
  }, 120_000)

  test('once, from now on, or no more than the tables', async () => {
    await at(
      'alder',
      `DROP TABLE IF EXISTS site.moved; CREATE TABLE site.moved (id int PRIMARY KEY, n int NOT NULL);
       INSERT INTO site.moved SELECT i, 0 FROM generate_series(1, 3000) i`,
    )
    const begin = async (does: ReplicateDefinition['does']) => {
      const only: ReplicateDefinition = {
        ...first,
        name: `${does} ${to}`,
        targetSchema: `${does}_${to.slice(5)}`,
        tables: [{ namespace: 'site', name: 'moved' }],
        does,
      }
      id = (await call<PipelineStatus>(url, 'POST', '/pipelines', only)).id
      const { lanes, rows } = await plan(only)
      expect([lanes.length, rows]).toEqual([1, does === 'copy' ? expect.any(Number) : 0])
      await call(url, 'POST', `/pipelines/${id}/start`)
      return only.targetSchema
    }
    /** Whether the source's changes are kept for it. */
    const isHeld = async () =>
      JSON.stringify(await call(url, 'GET', `/connections/${ids.alder}/journal`)).includes(id)
    // What is moved from one row to another is in neither or in both of them, whenever it is looked at.
    let on = true
    const moving = (async () => {
      for (let n = 0; on; n++)
        await at(
          'alder',
          `BEGIN; UPDATE site.moved SET n = n - 7 WHERE id = ${1 + (n % 3000)};
           UPDATE site.moved SET n = n + 7 WHERE id = ${3000 - (n % 2000)}; COMMIT`,
        )
    })()
    const copied = await begin('copy')
    await eventually(async () => (await status()).state === 'Finished', 40)
    on = false
    await moving
    expect(await ask(to, `SELECT count(*), sum(n) FROM ${copied}.moved`)).toEqual([['3000', '0']])
    await eventually(async () => (await status()).wanted === 'pause')
    expect(await isHeld()).toBe(false)
    await call(url, 'DELETE', `/pipelines/${id}`)
    const structure = await begin('structure')
    await eventually(async () => (await status()).state === 'Finished', 20)
    expect(await ask(to, `SELECT count(*) FROM ${structure}.moved`)).toEqual([['0']])
    expect(await isHeld()).toBe(false)
    const followed = await begin('follow')
    await eventually(async () => (await status()).state === 'Following', 20)
    await at('alder', 'UPDATE site.moved SET n = 1 WHERE id = 5; DELETE FROM site.moved WHERE id = 6')
    await eventually(
      async () => JSON.stringify(await ask(to, `SELECT id, n FROM ${followed}.moved`)) === '[["5","1"]]',
    )
    await at('alder', `INSERT INTO site.moved VALUES (9000, 2); UPDATE site.moved SET n = 3 WHERE id = 5`)
    await eventually(
      async () =>
        JSON.stringify(await ask(to, `SELECT id, n FROM ${followed}.moved ORDER BY id`)) ===
        '[["5","3"],["9000","2"]]',
    )
    expect([(await status()).consistent, await isHeld()]).toEqual([false, true])
    await call(url, 'POST', `/pipelines/${id}/recopy`, { lanes: [0] })
    await eventually(async () => (await status()).consistent, 20)
    expect(await ask(to, `SELECT count(*) FROM ${followed}.moved`)).toEqual([['3000']])
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped')
  }, 90_000)
})
