import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { ofOrigin, originsOf, type OneSource } from '@tide/core/definition/origins'
import { runsOf, type Affinity, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { targetSystems } from './plan.ts'
import type { Services } from './services.ts'

/** By origin, what ties it to one data folder. */
export async function tiesOf(
  services: Services,
  id: string,
  definition: ReplicateDefinition,
): Promise<(Affinity | null)[]> {
  const ties: (Affinity | null)[] = []
  for (const origin of originsOf(definition))
    ties.push(await affinityOf(services, id, ofOrigin(definition, origin)))
  return ties
}

/**
 * What ties a pipeline to one data folder: a journal, or a target that one process alone can hold. Where another
 * pipeline has the same one open already, it is that pipeline's folder; else it is this process's own.
 */
async function affinityOf(services: Services, id: string, definition: OneSource): Promise<Affinity | null> {
  const { sessions, store, home } = services
  const { from, to, does } = definition
  const source = (await store.connections.get(from))?.name ?? ''
  const journal = await sessions.use(from, async ({ log }) =>
    log && does !== 'archive' ? `the journal of ${source}` : undefined,
  )
  const held = await sessions.use(to, async ({ heldAlone }) => heldAlone)
  if (!journal && !held) return null
  const system = await targetSystems(services)
  const others = (await store.pipelines.list()).flatMap(runsOf).filter(
    // One that stopped for a reason still has its place in the journal; one that is finished has none.
    ({ id: other, of, home, state, reason }) =>
      other !== id && of !== id && home !== null && state !== 'Finished' && reason?.kind !== 'person',
  )
  const sharesJournal = (other: PipelineRecord) => journal && other.definition.from === from
  const sharesTarget = (other: PipelineRecord) => held && system(other.definition.to) === system(to)
  const homes = new Set(
    others.filter(other => sharesJournal(other) || sharesTarget(other)).map(other => other.home!),
  )
  if (homes.size > 1) {
    throw new Failure(
      'refused',
      `${journal} is kept by one engine, and ${held} is held by another.`,
      'Choose another target, or stop the pipelines of one of them and start them where the other runs.',
    )
  }
  const [there = home] = homes
  return { home: there, affinity: [journal, held].filter(Boolean).join(' and ') }
}
