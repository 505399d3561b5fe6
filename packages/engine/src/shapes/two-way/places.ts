/** The two sides of a pipeline, with its lanes made ready. */
import type { PlaceSide } from '@tide/connectors/contract/app'
import type { Session } from '@tide/connectors/contract/session'
import type { LogSide } from '@tide/connectors/contract/source'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { Failure } from '@tide/core/failure'
import type { Side } from '@tide/core/merge/rule'
import { compileLane, type CompiledLane } from '@tide/core/two-way/lane'
import { TableSide, type Journaled } from './table-side.ts'

export interface Places {
  apps: Record<Side, PlaceSide>
  /** Those that others refer to come first. */
  lanes: CompiledLane[]
}

/** Throws a Failure when a side has not what the definition names. */
export async function placesOf(definition: TwoWayDefinition, apps: Record<Side, PlaceSide>): Promise<Places> {
  const objects = { a: await apps.a.objects(), b: await apps.b.objects() }
  const lanes = definition.lanes.map(lane => {
    const found = (side: Side) => {
      const object = objects[side].find(({ name }) => name === lane[side])
      const missing =
        object && lane.fields.find(join => !object.fields.some(({ name }) => name === join[side]))
      if (object && !missing) return object
      throw new Failure(
        'structural',
        object
          ? `${object.title} of ${apps[side].name} have no field “${missing![side]}” any more.`
          : `${apps[side].name} has no “${lane[side]}” any more.`,
        'Correct the setup, and continue.',
      )
    }
    return compileLane(lane, { a: found('a'), b: found('b') }, definition.lanes)
  })
  return { apps, lanes: inOrder(lanes) }
}

/**
 * What a connection offers to be kept in step; undefined: nothing. `name`: of the connection. `journal`: gives its changes, where they are to be
 * followed; else what is there now is all that is told.
 */
export function sideOf(
  { name, session, now }: { name: string; session: Session; now: () => number },
  journal?: (log: LogSide) => Journaled,
): PlaceSide | undefined {
  const { app, singleRows, log } = session
  if (app) return app
  if (!singleRows || !session.scan || !session.rows) return undefined
  return new TableSide(name, session, singleRows, now, log && journal?.(log))
}

export function noSide(name: string): Failure {
  return new Failure(
    'structural',
    `The records of ${name} cannot be written one by one.`,
    'Choose an app or an operational database.',
  )
}

function inOrder(lanes: readonly CompiledLane[]): CompiledLane[] {
  const ordered: CompiledLane[] = []
  const under = new Set<string>()
  const put = (lane: CompiledLane) => {
    if (ordered.includes(lane) || under.has(lane.name)) return
    under.add(lane.name)
    for (const through of lane.throughs)
      if (through && 'pairs' in through) put(lanes.find(({ name }) => name === through.pairs)!)
    ordered.push(lane)
  }
  for (const lane of lanes) put(lane)
  return ordered
}
