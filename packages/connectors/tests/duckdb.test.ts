import { limits } from './limits.ts'
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals'
import { spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { DuckDBInstance } from '@duckdb/node-api'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { Session } from '../src/contract/session.ts'
import { eventually } from '../../../e2e/server.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { lease } from '../src/duckdb/instance.ts'

const beds = (namespace: string): PrepareStep => ({
  step: 'create table',
  table: { namespace, name: 'beds' },
  columns: [
    { name: 'id', type: { kind: 'int', bits: 32, signed: true }, nativeType: 'INTEGER', nullable: false },
  ],
  key: ['id'],
})

describe('DuckDB', () => {
  let folder: string
  let session: Session
  const rows = async () =>
    (await session.query!('SELECT * FROM prices', limits({ maxRows: 100, timeoutMs: 5000 }))).rows

  beforeEach(async () => {
    folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
    const instance = await DuckDBInstance.create(join(folder, 'w.duckdb'))
    const connection = await instance.connect()
    await connection.run(
      `CREATE TABLE prices AS SELECT * FROM (VALUES (1, 1.00), (2, 2.00), (3, NULL)) v(id, price)`,
    )
    connection.disconnectSync()
    instance.closeSync()
    session = await duckdb.open({ path: join(folder, 'w.duckdb') })
  })
  afterEach(async () => {
    await session.close()
    rmSync(folder, { recursive: true, force: true })
  })

  test('what a killed process has staged goes when the next one opens a file', async () => {
    const left = mkdtempSync(join(tmpdir(), 'constant-tide-staging-99999999-'))
    const alive = mkdtempSync(join(tmpdir(), `constant-tide-staging-${process.pid}-`))
    const script = `const { lease } = await import('@tide/connectors/duckdb/instance'); await (await lease(process.argv[1])).release()`
    const { status } = spawnSync(
      process.execPath,
      ['--import', 'tsx', '--input-type=module', '-e', script, join(folder, 'other.duckdb')],
      { cwd: process.cwd() },
    )
    expect([status, existsSync(left), existsSync(alive)]).toEqual([0, false, true])
    rmSync(alive, { recursive: true })
  })

  test('a schema cannot be named like the file, which DuckDB would not tell from it', async () => {
    const { target } = session
    const step = { step: 'create schema', schema: 'W' } as const
    await expect(target!.make('p', [step, beds('W')])).rejects.toThrow('Ambiguous reference')
    expect(target!.profile.noSchema).toMatchObject({ name: 'w' })
  })

  test('a process that ends takes nothing along, and is started anew for whoever comes', async () => {
    const asking = session.query!('SELECT count(*) FROM range(1000000) a(i), range(1000000) b(i)', limits())
    asking.catch(() => {}) // awaited below
    const held = await lease(join(folder, 'w.duckdb'))
    const { host } = await held.connect()
    host.kill('A test ended it.')
    await expect(asking).rejects.toMatchObject({
      kind: 'transient',
      message: expect.stringContaining('A test ended it.'),
    })
    expect(await rows()).toHaveLength(3)
    await held.release()
  })

  test('a query is cut at its row cap; a long one is stopped', async () => {
    const { rows, total, cut } = await session.query!('SELECT * FROM range(5000)', limits({ maxRows: 10 }))
    expect([rows.length, total, cut]).toEqual([10, null, 'rows'])
    const endless =
      'SELECT count(*) FROM range(1000000) a, range(1000000) b, range(1000) c WHERE a.range + b.range = c.range - 1'
    await expect(session.query!(endless, limits({ timeoutMs: 300 }))).rejects.toMatchObject({
      message: expect.stringContaining('stopped after'),
    })
  })

  test('a file that cannot be read stops it, with what DuckDB says of it and nothing of the rows', async () => {
    const int = { kind: 'int', bits: 32, signed: true } as const
    const columns = ['id', 'price'].map(name => ({
      name,
      type: int,
      nativeType: 'INTEGER',
      nullable: true,
    }))
    const table = { namespace: 'main', name: 'prices' }
    const range = { csv: [Buffer.from('4711\n')], upTo: null }
    const loading = session.target!.load({ table, columns, key: ['id'] }, range, false, async () => {})
    await expect(loading).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(/CSV Error on Line: 1 .*Expected Number of Columns: 2 Found: 1/),
    })
    await expect(loading).rejects.not.toMatchObject({ message: expect.stringContaining('4711') })
    expect(await rows()).toHaveLength(3)
  })

  test('who comes while the last one leaves shares the file with those who come later', async () => {
    const file = join(folder, 'shared.duckdb')
    for (let ticks = 0; ticks < 6; ticks++) {
      const last = await lease(file)
      const coming = lease(file)
      for (let i = 0; i < ticks; i++) await undefined
      await last.release()
      const [here, later] = [await coming, await lease(file)]
      const [one, other] = [await here.connect(), await later.connect()]
      await one.run(`CREATE TABLE t${ticks} (i INT)`)
      expect(await other.ask(`SELECT count(*)::INT FROM t${ticks}`)).toEqual([[0]])
      await here.disconnect(one)
      await later.disconnect(other)
      await here.release()
      await later.release()
    }
  })

  test('a process that holds a file ends with its starter, however early that is killed', async () => {
    const script = `
      const { fork } = await import('node:child_process')
      const stdio = ['ignore', 'ignore', 'ignore', 'ipc']
      const child = fork(process.argv[1], { serialization: 'advanced', execArgv: [], stdio })
      child.send({ id: 0, op: 'open', file: ':memory:', settings: {}, statements: [] })
      child.send({ id: 1, op: 'connect' })
      console.log(child.pid)
      setTimeout(() => process.kill(process.pid, 'SIGKILL'), Number(process.argv[2]))`
    const host = join(process.cwd(), 'packages/connectors/src/duckdb/duckdb-host.mjs')
    const pids = [1, 20, 40, 80, 160].map(wait =>
      Number(
        spawnSync(process.execPath, ['--input-type=module', '-e', script, host, String(wait)], {
          encoding: 'utf8',
        }).stdout,
      ),
    )
    await eventually(async () => !pids.some(pid => existsSync(`/proc/${pid}`)), 10)
  })

  test('a file that another process holds is named with its holder', async () => {
    const script = `
      const { duckdb } = await import('@tide/connectors/duckdb/connector')
      for await (const item of duckdb.check({ path: process.argv[1] })) console.log(JSON.stringify(item))`
    const { stdout } = spawnSync(
      process.execPath,
      ['--import', 'tsx', '--input-type=module', '-e', script, join(folder, 'w.duckdb')],
      { encoding: 'utf8', cwd: process.cwd() },
    )
    expect(JSON.parse(stdout)).toMatchObject({
      result: 'failed',
      found: expect.stringMatching(/is held by process \d+ \(/),
      remedy: expect.stringContaining('one process only'),
    })
  })
})
