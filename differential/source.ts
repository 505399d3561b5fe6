/** A source with a schema of its own for a case. */
import type { Session } from '../packages/connectors/src/contract/session.ts'
import { openSource } from './connectors.ts'
import { mariadbDialect, postgresDialect } from './dialects.ts'
import { mariadbHand, postgresHand, type Hand, type Told } from './life.ts'
import { PRELUDE } from './postgres-types.ts'
import type { Dialect, Script } from './script.ts'
import { CURSOR, plainClient, type SourceName, type Systems } from './systems.ts'

export class Source {
  readonly kind: 'postgres' | 'mariadb'
  readonly dialect: Dialect
  readonly namespace: string
  readonly session: () => Promise<Session>
  readonly hand: Hand
  private readonly other: Hand | undefined
  private readonly drop: string

  private constructor(parts: {
    kind: 'postgres' | 'mariadb'
    dialect: Dialect
    namespace: string
    session: () => Promise<Session>
    hands: Hand[]
    drop: string
  }) {
    this.kind = parts.kind
    this.dialect = parts.dialect
    this.namespace = parts.namespace
    this.session = parts.session
    this.hand = parts.hands[0]!
    this.other = parts.hands[1]
    this.drop = parts.drop
  }

  static async open(systems: Systems, name: SourceName, schema: string): Promise<Source> {
    if (name === 'mariadb') {
      const open = async () => {
        const session = await systems.mariadb.connect()
        await session.run(`CREATE DATABASE IF NOT EXISTS ${schema} CHARACTER SET utf8mb4`)
        await session.run(`USE ${schema}`)
        await session.run('SET innodb_lock_wait_timeout = 1')
        return session
      }
      return new Source({
        kind: 'mariadb',
        dialect: mariadbDialect,
        namespace: schema,
        session: () => openSource(systems, 'mariadb'),
        hands: [await mariadbHand(open), await mariadbHand(open)],
        drop: `DROP DATABASE ${schema}`,
      })
    }
    const config = name === 'embedded' ? systems.embedded! : systems.postgres.config
    const clients = [await plainClient(config)]
    if (name !== 'embedded') clients.push(await plainClient(config))
    const settings = `SET LOCAL search_path = ${schema}, public; SET LOCAL lock_timeout = '500ms'`
    const hands = clients.map(client => postgresHand(client, settings))
    for (const sql of [`CREATE SCHEMA ${schema}`, ...PRELUDE]) await hands[0]!.run(sql)
    return new Source({
      kind: 'postgres',
      dialect: postgresDialect(name === 'cursor' ? CURSOR : undefined),
      namespace: schema,
      session: () => openSource(systems, name),
      hands,
      drop: `DROP SCHEMA ${schema} CASCADE`,
    })
  }

  /** The transactions of a phase; those of the second session run beside the others. */
  async live({ transactions }: Script, phase: number, name: string, told: Told): Promise<void> {
    const mine = transactions
      .map((one, i) => [one, `${name}.${i}`] as const)
      .filter(([one]) => one.phase === phase)
    const work = async (hand: Hand, session: number) => {
      await hand.settle()
      for (const [one, id] of mine) {
        if ((this.other ? one.session : 0) === session) await hand.transaction(one, id, told)
      }
    }
    await Promise.all([work(this.hand, 0), ...(this.other ? [work(this.other, 1)] : [])])
  }

  async settle(): Promise<void> {
    await this.hand.settle()
    await this.other?.settle()
  }

  rows(sql: string): Promise<(string | null)[][]> {
    return this.hand.query(sql)
  }

  async cleanUp(reader: string): Promise<void> {
    await this.settle().catch(() => {})
    const session = await this.session()
    await session.log?.close(reader)
    await session.close()
    await this.hand.run(this.drop)
    await this.hand.close()
    await this.other?.close()
  }
}
