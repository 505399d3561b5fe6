/** Values in the store that an earlier version has written, made into those of today. */
import { eq } from 'drizzle-orm'
import { upgradeDefinition, type Definition } from '@tide/core/definition/definition'
import { upgradeLanes, upgradeSteps } from '@tide/core/definition/started-plan'
import type { Database } from './database.ts'
import { liveStatus, pipeline } from './schema.ts'

/** Run once at start, before anybody reads. A value that no version of ours has written fails the start. */
export async function upgradeStored(db: Database): Promise<void> {
  const rows = await db
    .select({
      id: pipeline.id,
      definition: pipeline.definition,
      lanes: pipeline.lanes,
      steps: pipeline.steps,
    })
    .from(pipeline)
  for (const { id, ...stored } of rows) {
    const definition = upgradeDefinition(stored.definition).definition as Definition
    const now = { definition, lanes: upgradeLanes(stored.lanes), steps: upgradeSteps(stored.steps) }
    if (JSON.stringify(now) === JSON.stringify(stored)) continue
    await db.update(pipeline).set(now).where(eq(pipeline.id, id))
    // What other engines told of it in the form of before; they tell it anew within a second.
    await db.delete(liveStatus).where(eq(liveStatus.pipeline, id))
  }
}
