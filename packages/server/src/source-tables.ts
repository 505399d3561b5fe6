import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { originsOf } from '@tide/core/definition/origins'
import { tablesOfAll } from '@tide/core/plan/origins'
import type { Dataset } from '@tide/core/records/dataset'
import type { Services } from './services.ts'

/** The tables of all origins, each once. */
export async function sourceTables(
  { sessions }: Pick<Services, 'sessions'>,
  definition: Pick<ReplicateDefinition, 'from'>,
  fresh: boolean,
): Promise<readonly Dataset[]> {
  const chosen = originsOf(definition).filter(({ connection }) => connection !== '')
  const catalogues = await Promise.all(chosen.map(({ connection }) => sessions.catalogue(connection, fresh)))
  return tablesOfAll(catalogues.map(({ datasets }) => datasets))
}
