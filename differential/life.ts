/** Carries out a script's statements at its source, as its people would. What the source refuses is left out. */
import type pg from 'pg'
import type { Session } from '../packages/connectors/src/mariadb/client.ts'
import type { BuiltTransaction } from './script.ts'
import { PLAIN_SETTINGS } from './systems.ts'

export interface Told {
  /** Statements as they were carried out, for the script that repeats the case. */
  script: string[]
  done: number
  refused: Map<string, number>
}

/** One connection to the source. */
export interface Hand {
  /** Runs a statement; throws when the source refuses it. */
  run(sql: string): Promise<unknown>
  transaction(one: BuiltTransaction, name: string, told: Told): Promise<void>
  query(sql: string): Promise<(string | null)[][]>
  /** Ends what was left prepared. */
  settle(): Promise<void>
  close(): Promise<void>
}

function refuse(told: Told, error: unknown): void {
  const message = (error as Error).message.replace(/[0-9a-f]{6,}/g, '…').slice(0, 90)
  told.refused.set(message, (told.refused.get(message) ?? 0) + 1)
}

/** `settings` hold within transactions only: some sources have one session for all their clients. */
export function postgresHand(client: pg.Client, settings: string): Hand {
  let inTransaction = false
  const within = async <T>(body: () => Promise<T>): Promise<T> => {
    if (inTransaction) return body()
    await client.query(`BEGIN; ${settings}`)
    try {
      const result = await body()
      await client.query('COMMIT')
      return result
    } catch (error) {
      await client.query('ROLLBACK')
      throw error
    }
  }
  const run = (sql: string) => within(() => client.query(sql))
  let left: string[] = []
  return {
    run,
    query: text =>
      within(async () => {
        await client.query(PLAIN_SETTINGS.replaceAll('SET ', 'SET LOCAL '))
        return (await client.query({ text, rowMode: 'array' })).rows
      }),
    transaction: async ({ statements, end, savepoint, phase }, name, told) => {
      const say = async (sql: string) => {
        told.script.push(sql)
        await client.query(sql)
      }
      await say(`BEGIN; ${settings}`)
      inTransaction = true
      for (const [i, sql] of statements.entries()) {
        if (i === savepoint) await say('SAVEPOINT back')
        await run('SAVEPOINT one')
        try {
          await run(sql)
          await run('RELEASE SAVEPOINT one')
          told.script.push(sql)
          told.done++
        } catch (error) {
          await run('ROLLBACK TO SAVEPOINT one')
          refuse(told, error)
        }
      }
      if (savepoint !== undefined) await say('ROLLBACK TO SAVEPOINT back').catch(() => {})
      inTransaction = false
      if (end === 14 || end === 15) return say('ROLLBACK')
      if (end < 16) return say('COMMIT')
      try {
        await say(`PREPARE TRANSACTION '${name}'`)
      } catch {
        return say('ROLLBACK')
      }
      // A start waits for what is prepared.
      if (end === 18 && phase >= 2) left.push(`COMMIT PREPARED '${name}'`)
      else await say(`${end === 17 ? 'ROLLBACK' : 'COMMIT'} PREPARED '${name}'`)
    },
    settle: async () => {
      for (const sql of left) await client.query(sql)
      left = []
    },
    close: () => client.end(),
  }
}

/** `open`: another session in the same state, since one that has prepared a transaction can do nothing else. */
export async function mariadbHand(open: () => Promise<Session>): Promise<Hand> {
  let session = await open()
  const run = (sql: string) => session.run(sql)
  let left: string[] = []
  return {
    run,
    transaction: async ({ statements, end, savepoint, phase }, name, told) => {
      const say = async (sql: string) => {
        told.script.push(sql)
        await run(sql)
      }
      const xa = end >= 16
      await say(xa ? `XA START '${name}'` : 'START TRANSACTION')
      for (const [i, sql] of statements.entries()) {
        if (i === savepoint && !xa) await say('SAVEPOINT back')
        try {
          await run(sql)
          told.script.push(sql)
          told.done++
        } catch (error) {
          refuse(told, error)
          if (!(error as { fatal?: boolean }).fatal) continue
          // Some statements are too much for a server, which ends the session and rolls back.
          session = await open()
          return
        }
      }
      if (savepoint !== undefined && !xa) await say('ROLLBACK TO SAVEPOINT back').catch(() => {})
      if (!xa) return say(end === 14 || end === 15 ? 'ROLLBACK' : 'COMMIT')
      try {
        await say(`XA END '${name}'`)
        if (end === 19) return await say(`XA COMMIT '${name}' ONE PHASE`)
        await say(`XA PREPARE '${name}'`)
      } catch {
        // A lock that was waited for too long has rolled it back.
        return void (await run(`XA ROLLBACK '${name}'`).catch(() => {}))
      }
      if (end === 18) {
        session.destroy()
        session = await open()
        if (phase < 2) await say(`XA COMMIT '${name}'`).catch(() => {})
        else left.push(`XA COMMIT '${name}'`)
      } else await say(`XA ${end === 17 ? 'ROLLBACK' : 'COMMIT'} '${name}'`)
    },
    settle: async () => {
      // One without changes went when its session ended.
      for (const sql of left) await run(sql).catch(() => {})
      left = []
    },
    query: sql => session.arrays(sql),
    close: () => session.close(),
  }
}
