/** A server that is told to end does, whatever runs, and one that is killed leaves nothing behind. */
import { afterAll, expect, test } from '@jest/globals'
import { mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { eventually, startServer } from './server.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-ending-'))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** Processes that a process has started, and those that they have. */
function childrenOf(parent: number): number[] {
  const direct = readdirSync('/proc').flatMap(name => {
    if (!/^\d+$/.test(name)) return []
    try {
      const stat = readFileSync(`/proc/${name}/stat`, 'utf8')
      const [, ppid] = stat.slice(stat.lastIndexOf(')') + 2).split(' ')
      return Number(ppid) === parent ? [Number(name)] : []
    } catch {
      return [] // it has ended meanwhile
    }
  })
  return direct.flatMap(one => [one, ...childrenOf(one)])
}

function isThere(processId: number): boolean {
  try {
    // One that has ended and was not waited for yet is a zombie.
    return !/\) Z /.test(readFileSync(`/proc/${processId}/stat`, 'utf8'))
  } catch {
    return false
  }
}

test.each(['SIGTERM', 'SIGKILL'] as const)(
  'heavy queries do not outlive %s',
  async signal => {
    const source = await startRealPostgres()
    const server = await startServer(join(folder, signal))
    const add = async (name: string, kind: string, config: object) =>
      (await call<{ id: string }>(server.url, 'POST', '/connections', { name, kind, config })).id
    const warehouse = await add('W', 'duckdb', { path: join(folder, `${signal}.duckdb`) })
    const operational = await add('P', 'postgres', { ...source.config, method: 'log' })
    const asked = [
      [warehouse, 'SELECT count(*) FROM range(1000000) a(i), range(1000000) b(i) WHERE a.i * b.i = -1'],
      [warehouse, 'SELECT a.i, b.i FROM range(1000000) a(i), range(1000000) b(i) ORDER BY a.i * b.i DESC'],
      [operational, 'SELECT count(*) FROM generate_series(1, 3000000000)'],
      [operational, 'SELECT count(*) FROM generate_series(1, 3000000000)'],
    ] as const
    const answers = asked.map(([connection, sql]) =>
      fetch(`${server.url}/api/query`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ connection, sql }),
      }).catch(() => undefined),
    )
    const client = await source.connect()
    const busy = async () =>
      Number(
        (
          await client.query(
            `SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'FETCH%' AND state = 'active' AND pid <> pg_backend_pid()`,
          )
        ).rows[0].count,
      )
    await eventually(async () => (await busy()) === 2, 15, 'the queries run')
    const children = childrenOf(server.child.pid!)
    expect(children.length).toBeGreaterThan(0)
    const began = Date.now()
    if (signal === 'SIGTERM') expect(await server.stop()).toBe(0)
    else await server.kill()
    await eventually(() => Promise.resolve(!children.some(isThere)), 10, 'its children have ended')
    expect(Date.now() - began).toBeLessThan(11_000)
    await eventually(async () => (await busy()) === 0, 30, 'the source works on nothing of ours')
    await Promise.all(answers)
    await client.end()
    await source.close()
  },
  90_000,
)
