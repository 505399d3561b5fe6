/** All rows of real systems through a whole setup: what is foreseen is what then happens. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { FullRehearsal } from '@tide/core/api/rehearsal'
import type { Definition } from '@tide/core/definition/definition'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let definition: Definition

beforeAll(async () => {
  systems = await openRealSystems(['alder'])
  ;({ url } = systems)
  await systems.inMariadb('CREATE DATABASE gathered')
  await systems.connect('into mariadb', 'mariadb', { ...systems.mariadb.config, database: 'gathered' })
  await systems.inPostgres(
    'alder',
    `CREATE SCHEMA site;
     CREATE TABLE site.beds (id int PRIMARY KEY, weight text, share float8, note text) PARTITION BY RANGE (id);
     CREATE TABLE site.beds_low PARTITION OF site.beds FOR VALUES FROM (0) TO (3000);
     CREATE TABLE site.beds_high PARTITION OF site.beds FOR VALUES FROM (3000) TO (9000);
     INSERT INTO site.beds SELECT i, i || '.5', i, repeat('é', i % 40) FROM generate_series(1, 5000) i;
     UPDATE site.beds SET weight = 'heavy' WHERE id IN (17, 4711);
     UPDATE site.beds SET share = 'NaN' WHERE id = 17 OR id = 18;
     UPDATE site.beds SET weight = 'not in scope' WHERE id > 4990`,
  )
  definition = {
    version: 2,
    shape: 'replicate',
    name: 'rehearsed',
    from: systems.ids.alder!,
    to: systems.ids['into mariadb']!,
    targetSchema: 'gathered',
    tables: [{ namespace: 'site', name: 'beds' }],
    columns: [
      { like: '*.weight', does: { become: 'decimal(8,1)' } },
      { like: '*.note', does: { limit: 21 } },
    ],
    scopes: [{ like: '*', where: { column: 'id', op: 'is at most', value: '4990' } }],
  }
}, 120_000)
afterAll(() => systems?.close())

async function rehearsed(): Promise<FullRehearsal> {
  let { id, ...found } = await call<FullRehearsal>(url, 'POST', '/rehearsals', { definition })
  await eventually(async () => {
    ;({ id, ...found } = await call<FullRehearsal>(url, 'GET', `/rehearsals/${id}`))
    return found.state !== 'reading'
  }, 30)
  return { id, ...found }
}

test('says of every row whether it takes part, and would go in', async () => {
  const { state, problem, lanes } = await rehearsed()
  expect([state, problem]).toEqual(['done', null])
  expect(lanes).toMatchObject([
    {
      source: { namespace: 'site', name: 'beds' },
      rows: 5000,
      inScope: 4990,
      held: 3,
      // 21 bytes hold ten of these letters.
      cut: [{ column: 'note_cut', values: 4990 - countUpTo(4990, rest => rest <= 10) }],
      read: true,
    },
  ])
  const of = (column: string) => lanes[0]!.misfits.find(one => one.column === column)!
  expect(of('weight')).toMatchObject({ rows: 2 })
  expect(of('weight').examples.map(({ key }) => key[0])).toEqual(['17', '4711'])
  expect(of('share')).toMatchObject({ rows: 2 })
})

function countUpTo(most: number, is: (rest: number) => boolean): number {
  return Array.from({ length: most }, (_, i) => (i + 1) % 40).filter(is).length
}

test('what was foreseen to go in does, and nothing else', async () => {
  await systems.inPostgres(
    'alder',
    `UPDATE site.beds SET weight = '1.5', share = 1 WHERE id IN (17, 18, 4711)`,
  )
  const { lanes } = await rehearsed()
  expect(lanes[0]).toMatchObject({ held: 0, misfits: [] })
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  await call(url, 'POST', `/pipelines/${id}/start`)
  await eventually(async () => {
    const { state, reason } = await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
    if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
    return state === 'Following'
  }, 30)
  const [landed] = await systems.ask(
    'into mariadb',
    'SELECT count(*), sum(note_cut), max(octet_length(note)) FROM gathered.beds',
  )
  expect(landed!.map(Number)).toEqual([lanes[0]!.inScope, lanes[0]!.cut[0]!.values, 20])
  await call(url, 'POST', `/pipelines/${id}/stop`)
})

test('ends when it is told to, and what is not there is said', async () => {
  const { id } = await call<FullRehearsal>(url, 'POST', '/rehearsals', { definition })
  await call(url, 'DELETE', `/rehearsals/${id}`)
  await eventually(async () => {
    const { state, lanes } = await call<FullRehearsal>(url, 'GET', `/rehearsals/${id}`)
    return state === 'ended' && lanes[0]!.rows < 5000
  }, 10)
  await expect(call(url, 'GET', '/rehearsals/none')).rejects.toThrow('There is no rehearsal none')
})

test('a setup that cannot be is refused with the reason', async () => {
  const columns = [{ like: '*.weight', does: { become: 'heap' } }]
  await expect(call(url, 'POST', '/rehearsals', { definition: { ...definition, columns } })).rejects.toThrow(
    'there is no type “heap”',
  )
})
