import { and, desc, eq, lt, ne, or } from 'drizzle-orm'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import type { Database } from './database.ts'
import { pipeline, savedPosition } from './schema.ts'

/** So many of those that nobody has set are kept of each pipeline. */
const KEPT = 100

/** Where pipelines stood at moments that people may want to go back to. */
export class SavedPositions {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async keep(saved: Omit<SavedPosition, 'id'>): Promise<void> {
    await this.db.insert(savedPosition).values(saved)
    const ofIt = and(eq(savedPosition.pipeline, saved.pipeline), ne(savedPosition.kind, 'mark'))
    const [oldest] = await this.db
      .select({ id: savedPosition.id })
      .from(savedPosition)
      .where(ofIt)
      .orderBy(desc(savedPosition.id))
      .offset(KEPT - 1)
      .limit(1)
    if (oldest) await this.db.delete(savedPosition).where(and(ofIt, lt(savedPosition.id, oldest.id)))
  }

  /** Those of a pipeline and of its origins, the newest first. */
  of(id: string): Promise<(SavedPosition & { origin: string })[]> {
    const { pipeline: of, kind, at, position, completeUpTo, note } = savedPosition
    return this.db
      .select({
        id: savedPosition.id,
        pipeline: of,
        kind,
        at,
        position,
        completeUpTo,
        note,
        origin: pipeline.origin,
      })
      .from(savedPosition)
      .innerJoin(pipeline, eq(pipeline.id, savedPosition.pipeline))
      .where(or(eq(pipeline.id, id), eq(pipeline.of, id)))
      .orderBy(desc(savedPosition.id))
  }

  /** Forgets one that somebody has set; false when there is none. */
  async forget(of: string, id: number): Promise<boolean> {
    const gone = await this.db
      .delete(savedPosition)
      .where(and(eq(savedPosition.id, id), eq(savedPosition.pipeline, of), eq(savedPosition.kind, 'mark')))
      .returning({ id: savedPosition.id })
    return gone.length > 0
  }
}
