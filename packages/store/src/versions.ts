import { desc, eq } from 'drizzle-orm'
import type { DefinitionVersion } from '@tide/core/api/files'
import { sameDefinition } from '@tide/core/definition/file'
import type { Definition } from '@tide/core/definition/definition'
import type { Database } from './database.ts'
import { version } from './schema.ts'

/** What pipelines have run by. */
export class Versions {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  /** The newest first. */
  last(pipeline: string, count: number): Promise<DefinitionVersion[]> {
    return this.db
      .select({ number: version.number, at: version.at, definition: version.definition })
      .from(version)
      .where(eq(version.pipeline, pipeline))
      .orderBy(desc(version.number))
      .limit(count)
  }
}

/** In the transaction that starts or changes the pipeline; what runs again is no new version. */
export async function keepVersion(
  db: Pick<Database, 'select' | 'insert'>,
  pipeline: string,
  definition: Definition,
  at: string,
): Promise<void> {
  const [newest] = await db
    .select()
    .from(version)
    .where(eq(version.pipeline, pipeline))
    .orderBy(desc(version.number))
    .limit(1)
  if (newest && newest.definition.name === definition.name && sameDefinition(newest.definition, definition))
    return
  await db.insert(version).values({ pipeline, number: (newest?.number ?? 0) + 1, at, definition })
}
