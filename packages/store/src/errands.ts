import { and, asc, eq, exists, inArray, isNull, or, sql } from 'drizzle-orm'
import type { Errand } from '@tide/core/definition/errand'
import type { Database } from './database.ts'
import { errand, pipeline } from './schema.ts'

/** What people ask of running pipelines, and what came of it. */
export class Errands {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async ask(asked: Omit<Errand, 'state' | 'outcome' | 'endedAt'>): Promise<void> {
    await this.db.insert(errand).values(asked)
  }

  /** Those that are not over, in the order in which they were asked. */
  waiting(of: string): Promise<Errand[]> {
    return this.db
      .select()
      .from(errand)
      .where(and(eq(errand.pipeline, of), isNull(errand.endedAt)))
      .orderBy(asc(errand.askedAt), asc(errand.id))
  }

  /** False when another engine runs the pipeline by now. */
  async begin(id: string, holder: string, begunAt: string): Promise<boolean> {
    const held = this.db
      .select({ id: pipeline.id })
      .from(pipeline)
      .where(and(eq(pipeline.id, errand.pipeline), eq(pipeline.holder, holder)))
    const begun = await this.db
      .update(errand)
      .set({ state: 'under way', begunAt })
      .where(and(eq(errand.id, id), isNull(errand.endedAt), exists(held)))
      .returning({ id: errand.id })
    return begun.length > 0
  }

  async end(
    id: string,
    end: { state: 'done' | 'refused'; outcome: string | null; endedAt: string },
  ): Promise<void> {
    await this.db.update(errand).set(end).where(eq(errand.id, id))
  }

  async get(id: string): Promise<Errand | undefined> {
    const [found] = await this.db.select().from(errand).where(eq(errand.id, id))
    return found
  }

  /** Those of a pipeline and of its origins, the newest first, at most so many. */
  last(of: string, limit: number): Promise<Errand[]> {
    return this.db
      .select()
      .from(errand)
      .where(
        inArray(
          errand.pipeline,
          this.db
            .select({ id: pipeline.id })
            .from(pipeline)
            .where(or(eq(pipeline.id, of), eq(pipeline.of, of))),
        ),
      )
      .orderBy(sql`${errand.askedAt} DESC, ${errand.id} DESC`)
      .limit(limit)
  }
}
