import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { ofOrigin, originsOf, type OneSource } from '@tide/core/definition/origins'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
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
  const { sessions } = services
  const { from, to, does } = definition
  const follows = does !== 'archive' && (await isFollowed(services, from))
  const held = await sessions.use(to, async ({ heldAlone }) => heldAlone)
  return tieOf(services, id, follows ? [from] : [], held ? { held, to } : undefined)
}

/** The same of one that keeps two places in step, by the journals of sides that are databases. */
export async function twoWayTie(
  services: Services,
  id: string,
  { from, to }: TwoWayDefinition,
): Promise<Affinity | null> {
  const followed: string[] = []
  for (const side of [from, to]) if (await isFollowed(services, side)) followed.push(side)
  return tieOf(services, id, followed, undefined)
}

function isFollowed({ sessions }: Services, connection: string): Promise<boolean> {
  return sessions.use(connection, async ({ log }) => log !== undefined)
}

async function tieOf(
  services: Services,
  id: string,
  followed: readonly string[],
  target: { held: string; to: string } | undefined,
): Promise<Affinity | null> {
  const { store, home } = services
  if (followed.length === 0 && !target) return null
  const names: string[] = []
  for (const one of followed) names.push((await store.connections.get(one))?.name ?? '')
  const journal = names.length === 0 ? undefined : `the journal of ${names.join(' and ')}`
  const system = await targetSystems(services)
  const others = (await store.pipelines.list()).flatMap(runsOf).filter(
    // One that stopped for a reason still has its place in the journal; one that is finished has none.
    ({ id: other, of, home, state, reason }) =>
      other !== id && of !== id && home !== null && state !== 'Finished' && reason?.kind !== 'person',
  )
  const sharesJournal = ({ definition }: PipelineRecord) =>
    followed.some(one => definition.from === one || (definition.shape === 'two-way' && definition.to === one))
  const sharesTarget = (other: PipelineRecord) => target && system(other.definition.to) === system(target.to)
  const homes = new Set(
    others.filter(other => sharesJournal(other) || sharesTarget(other)).map(other => other.home!),
  )
  if (homes.size > 1) {
    throw new Failure(
      'refused',
      target
        ? `${journal} is kept by one engine, and ${target.held} is held by another.`
        : `${journal} are kept by two engines.`,
      'Choose another side, or stop the pipelines of one of them and start them where the other runs.',
    )
  }
  const [there = home] = homes
  return { home: there, affinity: [journal, target?.held].filter(Boolean).join(' and ') }
}
