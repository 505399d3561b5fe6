/**
 * Kills what keeps two tables in step anywhere, and cuts both databases off, while people write, make and delete rows on both sides; then each row has
 * its other half once, both say the same, and no edit is gone that nobody has replaced. All of it is looked at by the databases' own SQL.
 */
import type { Session } from '../../packages/connectors/src/mariadb/client.ts'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { startRealMariadb } from '../../packages/connectors/tests/real-mariadb.ts'
import { startRealPostgres } from '../../packages/connectors/tests/real-postgres.ts'
import type { Random } from '../random.ts'
import { course, Findings, sleep, type Faulted, type Looked, type People as Working } from './course.ts'
import { Syncers } from './syncers.ts'

const MOST_STANDING = 80
const WORDS = ['wet', ' dry ', 'größer', 'null', "it's", 'a\\b', '🌱', '', '{}', '“1”']

const MEMBERS = `CREATE TABLE members (id serial PRIMARY KEY, name text NOT NULL, active boolean NOT NULL DEFAULT true,
  seen timestamptz, fee numeric(8,2), note text, contact text)`
const CONTACTS = `CREATE TABLE contacts (id int AUTO_INCREMENT PRIMARY KEY, full_name varchar(100) NOT NULL, seen datetime(6),
  fee decimal(8,2), note text, member varchar(20))`

export async function tableFaults(faults: number, random: Random): Promise<Faulted> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-two-way-tables-'))
  const [postgres, mariadb] = await Promise.all([startRealPostgres(), startRealMariadb()])
  const a = await postgres.connect()
  const b = await mariadb.connect()
  await a.query(MEMBERS)
  await b.run('USE site')
  await b.run(CONTACTS)
  const syncers = new Syncers({
    world: 'tables',
    folder: join(place, 'store'),
    connections: { a: { ...postgres.config }, b: { ...mariadb.config } },
  })
  const people = new People(a, b, random)
  /** Everybody's sessions but those of the people. */
  const cutOff = async () => {
    await a.query(
      `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type IN ('client backend', 'walsender')`,
    )
    const others = await b.arrays(
      'SELECT id FROM information_schema.processlist WHERE id <> connection_id() AND user <> "system user"',
    )
    for (const [id] of others) await b.run(`KILL ${id}`).catch(() => {})
  }
  try {
    return await course(faults, {
      syncers,
      people,
      calm: () => {},
      trouble: async () => {
        await sleep(random.below(1500))
        if (random.below(3) > 0) return true
        await people.alone(cutOff)
        return false
      },
    })
  } finally {
    await a.end().catch(() => {})
    await b.close().catch(() => {})
    await Promise.all([postgres.close(), mariadb.close()])
    rmSync(place, { recursive: true, force: true })
  }
}

class People implements Working {
  edits = 0
  private readonly a: pg.Client
  private readonly b: Session
  private readonly random: Random
  /** What people of the office wrote last as names, and those of the shop as fees: by key. */
  private readonly names = new Map<string, string>()
  private readonly fees = new Map<string, string>()
  private turn: Promise<unknown> = Promise.resolve()

  constructor(a: pg.Client, b: Session, random: Random) {
    this.a = a
    this.b = b
    this.random = random
  }

  /** One after another. */
  alone<T>(does: () => Promise<T>): Promise<T> {
    const done = this.turn.then(does, does)
    this.turn = done.catch(() => {})
    return done
  }

  async work(signal: AbortSignal): Promise<void> {
    while (!signal.aborted) {
      await this.alone(() => this.once())
      await sleep(this.random.below(60))
    }
  }

  private async once(): Promise<void> {
    const { random } = this
    const word = () => `${random.pick(WORDS)} ${random.hex(3)}`
    const [member, contact] = [await this.any('a'), await this.any('b')]
    switch (random.below(10)) {
      case 0:
        if (member.of < MOST_STANDING) await this.onA('INSERT INTO members (name) VALUES ($1)', [word()])
        return
      case 1:
        if (contact.of < MOST_STANDING)
          await this.onB(`INSERT INTO contacts (full_name, fee) VALUES (${quoted(word())}, 1.5)`)
        return
      case 2:
        if (random.below(3) > 0) return
        if (random.below(2) === 0) await this.onA('DELETE FROM members WHERE id = $1', [member.id])
        else await this.onB(`DELETE FROM contacts WHERE id = ${contact.id}`)
        return
      case 3:
      case 4: {
        const name = word()
        // What is rolled back was never written.
        if (random.below(4) === 0) {
          await this.a.query('BEGIN')
          await this.a.query('UPDATE members SET name = $1 WHERE id = $2', [name, member.id])
          await this.a.query('ROLLBACK')
          return
        }
        await this.onA('UPDATE members SET name = $1 WHERE id = $2', [name, member.id])
        this.names.set(member.id, name)
        return
      }
      case 5:
      case 6: {
        const fee = `${random.below(90_000) / 100}`
        await this.onB(`UPDATE contacts SET fee = ${fee} WHERE id = ${contact.id}`)
        this.fees.set(contact.id, Number(fee).toFixed(2))
        return
      }
      case 7:
        return this.onA("UPDATE members SET seen = now() - $1 * interval '1 h', note = $2 WHERE id = $3", [
          random.below(100),
          random.below(4) === 0 ? null : word(),
          member.id,
        ])
      case 8:
        return this.onB(
          `UPDATE contacts SET seen = UTC_TIMESTAMP(6) - INTERVAL ${random.below(100)} HOUR, note = ${quoted(word())} WHERE id = ${contact.id}`,
        )
      default:
        // Of what no lane is about.
        return this.onA('UPDATE members SET active = NOT active WHERE id = $1', [member.id])
    }
  }

  private async any(side: 'a' | 'b'): Promise<{ id: string; of: number }> {
    const ids = await this.rows(side, `SELECT id FROM ${side === 'a' ? 'members' : 'contacts'} ORDER BY id`)
    return { id: ids.length === 0 ? '0' : this.random.pick(ids)[0]!, of: ids.length }
  }

  private async onA(sql: string, values: unknown[]): Promise<void> {
    await this.a.query(sql, values)
    this.edits++
  }

  private async onB(sql: string): Promise<void> {
    await this.b.run(sql)
    this.edits++
  }

  private async rows(side: 'a' | 'b', sql: string): Promise<(string | null)[][]> {
    if (side === 'b') return this.b.arrays(sql)
    const { rows } = await this.a.query<unknown[]>({ text: sql, rowMode: 'array' })
    return rows.map(row => row.map(value => (value === null ? null : String(value))))
  }

  /** Calls that were carried out at both. */
  async writes(): Promise<string> {
    const a = await this.rows('a', 'SELECT once FROM constant_tide_target.call_answers ORDER BY 1')
    const b = await this.rows('b', 'SELECT once FROM constant_tide_target.call_answers ORDER BY 1')
    return JSON.stringify([a, b])
  }

  looked(): Promise<Looked> {
    return this.alone(async () => {
      const findings = new Findings()
      const { found } = findings
      const wrong = findings.add.bind(findings)
      const members = await this.rows(
        'a',
        `SELECT id::text, contact, name, fee::text, to_char(seen AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS.US'), note FROM members`,
      )
      const contacts = await this.rows(
        'b',
        `SELECT CAST(id AS CHAR), member, full_name, CAST(fee AS CHAR), DATE_FORMAT(seen, '%Y-%m-%d %H:%i:%s.%f'), note FROM contacts`,
      )
      const byMember = new Map<string, (string | null)[][]>()
      for (const contact of contacts) {
        if (contact[1] === null) wrong('lost', `contact ${contact[0]} has no member`)
        else byMember.set(contact[1]!, [...(byMember.get(contact[1]!) ?? []), contact])
      }
      for (const [id, linked, ...says] of members) {
        const its = byMember.get(id!) ?? []
        byMember.delete(id!)
        if (its.length === 0) wrong('lost', `member ${id} has no contact`)
        if (its.length > 1) wrong('doubled', `member ${id} has ${its.map(([key]) => key).join()}`)
        const [contact] = its
        if (!contact) continue
        found.pairs++
        if (linked !== contact[0]) wrong('different', `member ${id} is linked to ${linked}`)
        const there = contact.slice(2)
        if (JSON.stringify(says) !== JSON.stringify(there))
          wrong('different', `${id}: ${JSON.stringify(says)} ${JSON.stringify(there)}`)
        const [name, fee] = [this.names.get(id!), this.fees.get(contact[0]!)]
        if (name !== undefined && says[0] !== name)
          wrong('different', `${id}: the name written last was ${name}`)
        if (fee !== undefined && there[1] !== fee)
          wrong('different', `${id}: the fee written last was ${fee}`)
      }
      for (const [member, its] of byMember)
        for (const [key] of its) wrong('different', `contact ${key} is of ${member}, which is gone`)
      return found
    })
  }
}

function quoted(text: string): string {
  return `'${text.replaceAll('\\', '\\\\').replaceAll("'", "''")}'`
}
