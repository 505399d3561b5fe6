import type { Pool, PoolClient } from 'pg'

/** Runs `body` in a transaction on one client of the pool. */
export async function inTransaction<T>(pool: Pool, body: (client: PoolClient) => Promise<T>): Promise<T> {
  const client = await pool.connect()
  let broken: Error | undefined
  try {
    await client.query('BEGIN')
    const result = await body(client)
    await client.query('COMMIT')
    return result
  } catch (error) {
    await client.query('ROLLBACK').catch((failed: Error) => (broken = failed))
    throw error
  } finally {
    client.release(broken)
  }
}
