import { asc, desc, eq } from 'drizzle-orm'
import type { SavedQuery, SavedQueryVersion } from '@tide/core/api/queries'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import type { Database } from './database.ts'
import { savedQuery, savedQueryVersion } from './schema.ts'

/** Questions that people have given a name, with what they were before. */
export class SavedQueries {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  list(): Promise<SavedQuery[]> {
    return this.db.select().from(savedQuery).orderBy(asc(savedQuery.name))
  }

  async get(id: string): Promise<SavedQuery | undefined> {
    const [found] = await this.db.select().from(savedQuery).where(eq(savedQuery.id, id))
    return found
  }

  /** A new one, or another version of one. */
  save(query: Omit<SavedQuery, 'version' | 'changedAt'>, at: string): Promise<void> {
    return this.db.transaction(async db => {
      const [present] = await db.select().from(savedQuery).where(eq(savedQuery.id, query.id)).for('update')
      const said = ({ sql, key, parameters }: Pick<SavedQuery, 'sql' | 'key' | 'parameters'>) =>
        canonicalJson([sql, key, parameters])
      const same = present && said(present) === said(query)
      const version = present ? present.version + (same ? 0 : 1) : 1
      const now = { ...query, version, changedAt: same ? present.changedAt : at }
      await db.insert(savedQuery).values(now).onConflictDoUpdate({ target: savedQuery.id, set: now })
      if (same) return
      const { id, sql, key, parameters } = query
      await db.insert(savedQueryVersion).values({ query: id, number: version, at, sql, key, parameters })
    })
  }

  /** The newest first. */
  versions(id: string): Promise<SavedQueryVersion[]> {
    return this.db
      .select({
        number: savedQueryVersion.number,
        at: savedQueryVersion.at,
        sql: savedQueryVersion.sql,
        key: savedQueryVersion.key,
        parameters: savedQueryVersion.parameters,
      })
      .from(savedQueryVersion)
      .where(eq(savedQueryVersion.query, id))
      .orderBy(desc(savedQueryVersion.number))
      .limit(100)
  }

  async remove(id: string): Promise<void> {
    await this.db.delete(savedQuery).where(eq(savedQuery.id, id))
  }
}
