/** A connection in replication mode. https://www.postgresql.org/docs/current/protocol-replication.html */
import type { Socket } from 'node:net'
import pg from 'pg'
import type { PostgresConfig } from '../config.ts'
import { CANONICAL_OPTIONS, clientConfig } from '../pool.ts'

/** What the driver offers beneath its typed face: messages of the protocol as they come. */
interface Wire {
  on(event: 'copyData', listener: (message: { chunk: Buffer }) => void): void
  once(event: 'replicationStart', listener: () => void): void
  sendCopyFromChunk(chunk: Buffer): void
  stream: Socket
}

export type ReplicationClient = pg.Client & { connection: Wire }

/** Values are printed in canonical text. The caller ends the client. */
export async function openReplication(config: PostgresConfig): Promise<ReplicationClient> {
  const settings = { ...clientConfig(config), replication: 'database', options: CANONICAL_OPTIONS }
  const client = new pg.Client(settings as pg.ClientConfig) as ReplicationClient
  client.on('error', () => {}) // whoever waits for it hears of it there
  await client.connect()
  return client
}

export interface SourceSystem {
  /** The server's own number and its timeline: another one is another history. */
  incarnation: string
}

export async function identifySystem(client: ReplicationClient): Promise<SourceSystem> {
  const { systemid, timeline } = (await client.query('IDENTIFY_SYSTEM')).rows[0]
  return { incarnation: `${systemid}/${timeline}` }
}

/** Runs `body` on a replication connection of its own. */
export async function withReplication<T>(
  config: PostgresConfig,
  body: (client: ReplicationClient) => Promise<T>,
): Promise<T> {
  const client = await openReplication(config)
  try {
    return await body(client)
  } finally {
    await client.end().catch(() => {})
  }
}
