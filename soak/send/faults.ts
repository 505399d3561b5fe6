/** Kills senders anywhere, and lets the app fail as apps do, while people edit the rows; then the app has each row once, as it is. */
import { fork, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { startRealPostgres } from '../../packages/connectors/tests/real-postgres.ts'
import { StandInApp } from '../../packages/stand-ins/src/apps/app.ts'
import { NO_APP_FAULTS, type AppFaults } from '../../packages/stand-ins/src/apps/faults.ts'
import { Records } from '../../packages/stand-ins/src/apps/records.ts'
import type { Random } from '../random.ts'
import { soakedStandIn } from './world.ts'

export interface Faulted {
  faults: number
  edits: number
  /** Calls that have changed something. */
  writes: number
  /** Records beside the one of their row. */
  doubled: number
  /** Rows without a record. */
  lost: number
  /** Records whose values are not those of their row, or whose row has gone. */
  different: number
}

const MOST_STANDING = 600
const WORDS = ['wet', 'dry', '', 'a "b", c', 'größer', 'null', '[]', '{{x}}', '“1”']

const sleep = (milliseconds: number) => new Promise(resolve => setTimeout(resolve, milliseconds))

/** `repeats`: the app knows calls that it was told of before. */
export async function sendFaults(faults: number, random: Random, repeats: boolean): Promise<Faulted> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-send-'))
  const database = await startRealPostgres()
  const client = new pg.Client(database.config)
  await client.connect()
  await client.query('CREATE TABLE clubs (id text PRIMARY KEY, name text NOT NULL, orders int, note text)')
  const app = new StandInApp(
    soakedStandIn,
    new Records(soakedStandIn, join(place, 'app.jsonl'), () => {}),
    () => random.below(1000) / 1000,
  )
  let server = ''
  const listening = app.api(() => server).listen(0, '127.0.0.1')
  await once(listening, 'listening')
  server = `http://127.0.0.1:${(listening.address() as AddressInfo).port}`
  const over = new AbortController()
  const senders = new Set<ChildProcess>()
  const begin = async (throughOnce: boolean) => {
    const said = JSON.stringify({
      source: database.config,
      server,
      folder: join(place, 'sent'),
      repeats,
      once: throughOnce,
    })
    const child = fork(new URL('./sender.ts', import.meta.url), [said], {
      execArgv: ['--import', 'tsx', '--no-warnings'],
      stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
    })
    senders.add(child)
    child.once('exit', () => senders.delete(child))
    await Promise.race([once(child, 'message'), once(child, 'exit')])
    return child
  }
  let [last, edits] = [0, 0]
  const edit = async () => {
    while (!over.signal.aborted) {
      const some = `id IN (SELECT id FROM clubs ORDER BY md5(id || '${random.below(1000)}') LIMIT ${1 + random.below(30)})`
      switch (random.below(4)) {
        case 0:
        case 1: {
          const { rows } = await client.query<{ n: number }>('SELECT count(*)::int AS n FROM clubs')
          if (rows[0]!.n > MOST_STANDING) break
          await client.query(
            `INSERT INTO clubs SELECT 'c' || i, 'Club ' || i, i % 7, $1 FROM generate_series(${last + 1}, ${last + 20}) i`,
            [random.pick(WORDS)],
          )
          last += 20
          break
        }
        case 2:
          await client.query(`UPDATE clubs SET orders = ${random.below(1000)}, note = $1 WHERE ${some}`, [
            random.below(3) === 0 ? null : random.pick(WORDS),
          ])
          break
        default:
          await client.query(`DELETE FROM clubs WHERE ${some}`)
      }
      edits++
      await sleep(random.below(60))
    }
  }
  try {
    const editing = edit()
    let sender = await begin(false)
    for (let i = 0; i < faults; i++) {
      const share = 0.1 + random.below(5) / 10
      const kinds: Partial<AppFaults>[] = [
        { lost: share },
        { failing: share },
        { busy: share },
        { lost: 0.2, failing: 0.2, busy: 0.2 },
        { html: true },
      ]
      app.faults = { ...NO_APP_FAULTS, ...(random.below(3) === 0 ? {} : random.pick(kinds)) }
      await sleep(random.below(700))
      if (random.below(2) === 0) {
        sender.kill('SIGKILL')
        if (senders.has(sender)) await once(sender, 'exit')
        sender = await begin(false)
      }
    }
    over.abort()
    await editing
    app.faults = { ...NO_APP_FAULTS }
    sender.kill('SIGKILL')
    if (senders.has(sender)) await once(sender, 'exit')
    const through = await begin(true)
    if (senders.has(through)) await once(through, 'exit')
    const result: Faulted = {
      faults,
      edits,
      writes: app.calls.length,
      doubled: 0,
      lost: 0,
      different: 0,
    }
    const { rows } = await client.query<{ id: string; name: string; orders: number; note: string | null }>(
      'SELECT * FROM clubs',
    )
    const wanted = new Map(rows.map(row => [row.id, row]))
    const seen = new Set<string>()
    for (const record of app.records.of('organisations')) {
      const id = String(record.club_number)
      const row = wanted.get(id)
      if (seen.has(id)) result.doubled++
      else if (
        !row ||
        row.name !== record.name ||
        row.orders !== record.orders_this_year ||
        row.note !== record.note
      )
        result.different++
      seen.add(id)
    }
    result.lost = rows.filter(({ id }) => !seen.has(id)).length
    return result
  } finally {
    over.abort()
    for (const sender of senders) sender.kill('SIGKILL')
    listening.closeAllConnections()
    listening.close()
    await client.end().catch(() => {})
    await database.close()
    rmSync(place, { recursive: true, force: true })
  }
}
