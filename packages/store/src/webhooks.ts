import { eq, inArray } from 'drizzle-orm'
import type { Webhook } from '@tide/core/definition/webhook'
import type { Database } from './database.ts'
import { webhook } from './schema.ts'
import type { Seal } from './seal.ts'

/** Addresses that apps call when records have changed. */
export class Webhooks {
  private readonly db: Database
  private readonly seal: Seal

  constructor(db: Database, seal: Seal) {
    this.db = db
    this.seal = seal
  }

  async of(pipeline: string): Promise<Webhook[]> {
    const rows = await this.db.select().from(webhook).where(eq(webhook.pipeline, pipeline))
    return rows.map(row => this.opened(row))
  }

  async get(id: string): Promise<Webhook | undefined> {
    const [row] = await this.db.select().from(webhook).where(eq(webhook.id, id))
    return row && this.opened(row)
  }

  async keep({ secret, ...hook }: Webhook): Promise<void> {
    await this.db.insert(webhook).values({ ...hook, secret: this.seal.close(secret) })
  }

  async forget(ids: readonly string[]): Promise<void> {
    if (ids.length > 0) await this.db.delete(webhook).where(inArray(webhook.id, [...ids]))
  }

  private opened({ secret, ...row }: typeof webhook.$inferSelect): Webhook {
    return { ...row, secret: this.seal.open(secret) }
  }
}
