/** Servers that speak TLS alone: what each way of encrypting asks of them, and that all our connections are encrypted. */
import { limits } from './limits.ts'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { Connector } from '../src/contract/session.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { makeAuthority, type Certificates } from './certificates.ts'
import { begin, copyAll, followToHead, openFrom } from './landing.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

let authority: Certificates
let [office, elsewhere]: RealPostgres[] = []
let [site, siteElsewhere]: RealMariadb[] = []
const HERE = 'IP:127.0.0.1'
const NOT_HERE = 'DNS:office.osierhill.example'

beforeAll(async () => {
  authority = makeAuthority()
  const officeOf = (name: string) => {
    const { cert, key } = authority.issue(name, 'postgres')
    return startRealPostgres({ ssl: 'on', ssl_cert_file: cert, ssl_key_file: key })
  }
  const siteOf = async (name: string) => {
    const server = await startRealMariadb()
    const { cert, key } = authority.issue(name, 'mysql')
    await server.restart('SIGTERM', ['--ssl', `--ssl-cert=${cert}`, `--ssl-key=${key}`])
    return server
  }
  ;[office, elsewhere, site, siteElsewhere] = await Promise.all([
    officeOf(HERE),
    officeOf(NOT_HERE),
    siteOf(HERE),
    siteOf(NOT_HERE),
  ])
  const client = await site.connect()
  await client.run(`ALTER USER osier@'%' REQUIRE SSL`)
  await client.close()
}, 120_000)
afterAll(async () => {
  await Promise.all([office, elsewhere, site, siteElsewhere].map(server => server?.close()))
  authority?.remove()
})

const asked = async (connector: Connector, config: object) => {
  const session = await connector.open(config as never)
  try {
    return await session.query!('SELECT 1', limits({ maxRows: 1, timeoutMs: 5000 })).then(({ rows }) => rows)
  } finally {
    await session.close()
  }
}

test.each<[string, Connector, () => object, () => object]>([
  ['PostgreSQL', postgres, () => office!.config, () => elsewhere!.config],
  ['MariaDB', mariadb, () => site!.config, () => siteElsewhere!.config],
])(
  '%s: who answers is verified when that is asked for, and the refusal says what to do',
  async (_, connector, here, there) => {
    const tlsCa = authority.authority
    expect(await asked(connector, { ...here(), tls: 'encrypt' })).toEqual([['1']])
    expect(await asked(connector, { ...there(), tls: 'encrypt' })).toEqual([['1']])
    expect(await asked(connector, { ...here(), tls: 'verify', tlsCa })).toEqual([['1']])
    await expect(asked(connector, { ...here(), tls: 'verify' })).rejects.toMatchObject({
      kind: 'structural',
      remedy: expect.stringMatching(/Certificate authority/),
    })
    await expect(asked(connector, { ...there(), tls: 'verify', tlsCa })).rejects.toMatchObject({
      kind: 'structural',
      message: expect.stringMatching(/office\.osierhill\.example/),
      remedy: expect.stringMatching(/Host/),
    })
    await expect(asked(connector, { ...here(), tls: 'verify', tlsCa: 'not PEM' })).rejects.toMatchObject({
      kind: 'structural',
      remedy: expect.stringMatching(/Certificate authority/),
    })
  },
)

test('copying, following and merging are encrypted on every connection', async () => {
  const verified = { tls: 'verify', tlsCa: authority.authority }
  const [postgresHere, mariadbHere] = [
    { ...office!.config, ...verified, method: 'log' },
    { ...site!.config, ...verified },
  ]
  const client = await office!.connect()
  await client.query(
    `CREATE TABLE beds (id int PRIMARY KEY, house text); INSERT INTO beds SELECT i, 'House ' || i FROM generate_series(1, 500) i`,
  )
  const out = await openFrom(() => postgres.open(postgresHere))
  const into = await mariadb.open(mariadbHere)
  const there = await begin(out, into, [{ namespace: 'public', name: 'beds' }], 'nursery')
  await copyAll(out, into, there)
  await client.query(`UPDATE beds SET house = 'House of Reeds' WHERE id = 7; DELETE FROM beds WHERE id = 8`)
  expect((await followToHead(out, into, there)).events).toBe(2)
  const back = await openFrom(() => mariadb.open(mariadbHere))
  const home = await postgres.open(postgresHere)
  const again = await begin(back, home, [{ namespace: 'nursery', name: 'beds' }], 'again')
  await copyAll(back, home, again)
  await client.query(`INSERT INTO beds VALUES (501, 'House of Sedge')`)
  await followToHead(out, into, there)
  expect((await followToHead(back, home, again)).events).toBe(1)
  const landed = await client.query(
    `SELECT count(*)::int AS n, max(house) FILTER (WHERE id = 7) AS seven FROM again.beds`,
  )
  expect(landed.rows).toEqual([{ n: 500, seven: 'House of Reeds' }])
  // The server of MariaDB lets this user in no other way; PostgreSQL is asked.
  const ours = await client.query(
    `SELECT a.backend_type AS type, bool_and(s.ssl) AS encrypted FROM pg_stat_activity a JOIN pg_stat_ssl s USING (pid)
      WHERE a.application_name = 'Constant Tide' GROUP BY 1 ORDER BY 1`,
  )
  expect(ours.rows).toEqual([
    { type: 'client backend', encrypted: true },
    { type: 'walsender', encrypted: true },
  ])
  await Promise.all([out.close(), back.close(), into.close(), home.close()])
  await client.end()
})
