import { and, asc, desc, eq, inArray } from 'drizzle-orm'
import type { Side } from '@tide/core/merge/rule'
import type { KeptPart, KeptRecord, RestorePoint } from '@tide/core/two-way/restore'
import { promisify } from 'node:util'
import { gunzip, gzip } from 'node:zlib'
import type { Database } from './database.ts'
import { restorePart, restorePoint } from './schema.ts'

const packed = promisify(gzip)
const unpacked = promisify(gunzip)

/** Moments to which records of two-way pipelines can be written back. */
export class RestorePoints {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async list(pipeline: string): Promise<RestorePoint[]> {
    const rows = await this.db
      .select()
      .from(restorePoint)
      .where(eq(restorePoint.pipeline, pipeline))
      .orderBy(desc(restorePoint.at))
    return rows.map(({ pipeline: _, ...point }) => point)
  }

  async keep(
    pipeline: string,
    point: Pick<RestorePoint, 'id' | 'at' | 'why' | 'digests'>,
    parts: AsyncIterable<KeptPart>,
    most: number,
  ): Promise<void> {
    const records: RestorePoint['records'] = {}
    const bodies: (typeof restorePart.$inferInsert)[] = []
    // They come from the systems, which takes time; the store is not held up meanwhile.
    for await (const { lane, side, records: some } of parts) {
      records[lane] ??= { a: 0, b: 0 }
      records[lane][side] += some.length
      const body = (await packed(JSON.stringify(some))).toString('base64')
      bodies.push({ point: point.id, n: bodies.length, lane, side, body })
    }
    const bytes = bodies.reduce((sum, { body }) => sum + body.length, 0)
    await this.db.transaction(async tx => {
      await tx.insert(restorePoint).values({ ...point, pipeline, records, bytes })
      for (const body of bodies) await tx.insert(restorePart).values(body)
      const all = await tx
        .select({ id: restorePoint.id })
        .from(restorePoint)
        .where(eq(restorePoint.pipeline, pipeline))
        .orderBy(desc(restorePoint.at))
      const old = all.slice(most).map(({ id }) => id)
      if (old.length > 0) await tx.delete(restorePoint).where(inArray(restorePoint.id, old))
    })
  }

  async *records(
    pipeline: string,
    point: string,
    of?: { lane: string; side: Side },
  ): AsyncGenerator<KeptPart> {
    const parts = await this.db
      .select({ n: restorePart.n, lane: restorePart.lane, side: restorePart.side })
      .from(restorePart)
      .innerJoin(restorePoint, eq(restorePoint.id, restorePart.point))
      .where(and(eq(restorePoint.pipeline, pipeline), eq(restorePoint.id, point)))
      .orderBy(asc(restorePart.n))
    for (const { n, lane, side } of parts) {
      if (of && (of.lane !== lane || of.side !== side)) continue
      const [part] = await this.db
        .select({ body: restorePart.body })
        .from(restorePart)
        .where(and(eq(restorePart.point, point), eq(restorePart.n, n)))
      // Gone meanwhile: one of the oldest.
      if (!part) return
      const text = (await unpacked(Buffer.from(part.body, 'base64'))).toString()
      yield { lane, side, records: JSON.parse(text) as KeptRecord[] }
    }
  }
}
