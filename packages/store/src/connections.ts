import { and, eq, sql } from 'drizzle-orm'
import type { Database } from './database.ts'
import { connection } from './schema.ts'
import type { Seal } from './seal.ts'

/** A connection as people may see it: secrets are only named. */
export interface ConnectionRecord {
  id: string
  name: string
  kind: string
  config: Record<string, unknown>
  secretsSet: string[]
  lastCheck: { at: string; failed: number; warnings: number } | null
}

/** With secrets, for opening it. */
export interface OpenableConnection {
  id: string
  name: string
  kind: string
  config: Record<string, unknown>
}

export class Connections {
  private readonly db: Database
  private readonly seal: Seal

  constructor(db: Database, seal: Seal) {
    this.db = db
    this.seal = seal
  }

  /** Seals anew what was sealed in a way that is outdated; what the present key does not open stays as it is. */
  async sealAnew(): Promise<void> {
    const rows = await this.db.select().from(connection)
    for (const { id, secrets } of rows.filter(row => this.seal.isOutdated(row.secrets))) {
      let text: string
      try {
        text = this.seal.open(secrets)
      } catch {
        continue // its connection says so whenever it is used
      }
      // Not over what somebody has entered just now.
      await this.db
        .update(connection)
        .set({ secrets: this.seal.close(text) })
        .where(and(eq(connection.id, id), eq(connection.secrets, secrets)))
    }
  }

  async list(): Promise<ConnectionRecord[]> {
    const rows = await this.db
      .select()
      .from(connection)
      .orderBy(sql`lower(${connection.name})`)
    return rows.map(row => this.visible(row))
  }

  async get(id: string): Promise<ConnectionRecord | undefined> {
    const [row] = await this.db.select().from(connection).where(eq(connection.id, id))
    return row && this.visible(row)
  }

  async openable(id: string): Promise<OpenableConnection | undefined> {
    const [row] = await this.db.select().from(connection).where(eq(connection.id, id))
    if (!row) return undefined
    return { id: row.id, name: row.name, kind: row.kind, config: { ...row.config, ...this.secretsOf(row) } }
  }

  /** Writes a connection; secrets that are not given stay as they are. */
  async save(
    record: { id: string; name: string; kind: string; config: Record<string, unknown> },
    secrets: Record<string, unknown>,
  ): Promise<void> {
    const [present] = await this.db.select().from(connection).where(eq(connection.id, record.id))
    const kept = present ? this.secretsOf(present) : {}
    const values = { ...record, secrets: this.seal.close(JSON.stringify({ ...kept, ...secrets })) }
    await this.db.insert(connection).values(values).onConflictDoUpdate({ target: connection.id, set: values })
  }

  /** Puts secrets in place of those that are good no longer; nothing where the connection is gone. */
  keepSecrets(id: string, secrets: Record<string, unknown>): Promise<void> {
    return this.db.transaction(async db => {
      const [present] = await db.select().from(connection).where(eq(connection.id, id)).for('update')
      if (!present) return
      const now = this.seal.close(JSON.stringify({ ...this.secretsOf(present), ...secrets }))
      await db.update(connection).set({ secrets: now }).where(eq(connection.id, id))
    })
  }

  async setLastCheck(id: string, lastCheck: ConnectionRecord['lastCheck']): Promise<void> {
    await this.db.update(connection).set({ lastCheck }).where(eq(connection.id, id))
  }

  async remove(id: string): Promise<void> {
    await this.db.delete(connection).where(eq(connection.id, id))
  }

  private secretsOf(row: { secrets: string }): Record<string, unknown> {
    return JSON.parse(this.seal.open(row.secrets))
  }

  private visible(row: typeof connection.$inferSelect): ConnectionRecord {
    const { id, name, kind, config, lastCheck } = row
    return { id, name, kind, config, lastCheck, secretsSet: Object.keys(this.secretsOf(row)) }
  }
}
