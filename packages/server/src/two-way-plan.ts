/** What stands in the way of a two-way pipeline, as its systems are now. */
import type { Session } from '@tide/connectors/contract/session'
import type { TwoWayLook } from '@tide/core/api/two-way'
import type { AppObject } from '@tide/core/app/object'
import { datasetOfPlace } from '@tide/core/app/table-object'
import type { DatasetName } from '@tide/core/records/dataset'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { asFailure, Failure } from '@tide/core/failure'
import type { Side } from '@tide/core/merge/rule'
import type { TwoWayNote } from '@tide/core/two-way/note'
import { noSide, sideOf } from '@tide/engine/shapes/two-way/places'
import { planTwoWay, type TwoWayInput } from '@tide/core/two-way/plan'
import type { Services } from './services.ts'

type Looked = Omit<TwoWayInput, 'definition'>

interface LookedSide {
  called: string
  objects: readonly AppObject[] | undefined
  knowsRepeats: boolean | undefined
  capture: TwoWayLook['captures']['a']
  makes: NonNullable<TwoWayLook['makes']['a']> | undefined
}

/** What both sides have; what cannot be asked is told as a note. */
export async function lookAtPlaces(
  { sessions, store }: Services,
  definition: TwoWayDefinition,
  pipeline: string | undefined,
): Promise<{ looked: Looked; notes: TwoWayNote[] } & Pick<TwoWayLook, 'captures' | 'makes'>> {
  const notes: TwoWayNote[] = []
  const look = async (connection: string, side: Side): Promise<LookedSide> => {
    const unknown = {
      called: side === 'a' ? 'Side A' : 'Side B',
      objects: undefined,
      knowsRepeats: undefined,
      capture: undefined,
      makes: undefined,
    }
    if (connection === '') return unknown
    try {
      const name = (await store.connections.get(connection))?.name ?? unknown.called
      return await sessions.use(connection, async session => {
        const found = sideOf({ name, session, now: Date.now })
        if (!found) throw noSide(name)
        if (!session.app && definition.from === definition.to)
          throw new Failure(
            'refused',
            `Both sides are ${name}, whose journal tells of one side alone.`,
            'Reach one of them by a connection of its own.',
          )
        const objects = await found.objects()
        return {
          called: found.name,
          objects,
          knowsRepeats: found.knowsRepeats,
          capture: await captureOf(session, connection, tablesOf(definition, side, objects)),
          makes: found.makes && { schema: found.makes.inSchemas ? schemaOf(objects) : null },
        }
      })
    } catch (thrown) {
      const { message, remedy } = asFailure(thrown)
      notes.push({ level: 'refused', section: 'places', message, remedy })
      return unknown
    }
  }
  const [a, b] = await Promise.all([look(definition.from, 'a'), look(definition.to, 'b')])
  const others = (await store.pipelines.list()).flatMap(({ id, state, definition: one }) =>
    id !== pipeline && one.shape !== 'replicate' && state !== 'Draft' ? [one] : [],
  )
  return {
    looked: {
      objects: { a: a.objects, b: b.objects },
      called: { a: a.called, b: b.called },
      knowRepeats: {
        ...(a.knowsRepeats === undefined ? {} : { a: a.knowsRepeats }),
        ...(b.knowsRepeats === undefined ? {} : { b: b.knowsRepeats }),
      },
      others,
    },
    makes: { ...(a.makes ? { a: a.makes } : {}), ...(b.makes ? { b: b.makes } : {}) },
    captures: { ...(a.capture ? { a: a.capture } : {}), ...(b.capture ? { b: b.capture } : {}) },
    notes,
  }
}

/** What is done at a database, so that its changes can be read. */
async function captureOf(
  { app, log }: Session,
  connection: string,
  tables: readonly DatasetName[],
): Promise<LookedSide['capture']> {
  if (app || !log || tables.length === 0) return undefined
  return { note: log.captureNote, statements: await log.captureStatements(connection, tables) }
}

/** In which most tables are. */
function schemaOf(objects: readonly AppObject[]): string {
  const counts = new Map<string, number>()
  for (const { name } of objects) {
    const schema = datasetOfPlace(name)?.namespace
    if (schema !== undefined) counts.set(schema, (counts.get(schema) ?? 0) + 1)
  }
  return [...counts].sort(([, one], [, other]) => other - one)[0]?.[0] ?? 'public'
}

function tablesOf({ lanes }: TwoWayDefinition, side: Side, objects: readonly AppObject[]): DatasetName[] {
  const chosen = new Set(lanes.map(lane => lane[side]))
  return objects.flatMap(({ name, can }) =>
    can.list && chosen.has(name) ? (datasetOfPlace(name) ?? []) : [],
  )
}

export async function twoWayPlan(
  services: Services,
  definition: TwoWayDefinition,
  pipeline: string,
): Promise<TwoWayNote[]> {
  const { looked, notes } = await lookAtPlaces(services, definition, pipeline)
  return [...notes, ...planTwoWay({ definition, ...looked })]
}
