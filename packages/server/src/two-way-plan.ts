/** What stands in the way of a two-way pipeline, as its systems are now. */
import type { AppObject } from '@tide/core/app/object'
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
}

/** What both sides have; what cannot be asked is told as a note. */
export async function lookAtPlaces(
  { sessions, store }: Services,
  definition: TwoWayDefinition,
  pipeline: string | undefined,
): Promise<{ looked: Looked; notes: TwoWayNote[] }> {
  const notes: TwoWayNote[] = []
  const look = async (connection: string, side: Side): Promise<LookedSide> => {
    const unknown = {
      called: side === 'a' ? 'Side A' : 'Side B',
      objects: undefined,
      knowsRepeats: undefined,
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
        return { called: found.name, objects: await found.objects(), knowsRepeats: found.knowsRepeats }
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
    notes,
  }
}

export async function twoWayPlan(
  services: Services,
  definition: TwoWayDefinition,
  pipeline: string,
): Promise<TwoWayNote[]> {
  const { looked, notes } = await lookAtPlaces(services, definition, pipeline)
  return [...notes, ...planTwoWay({ definition, ...looked })]
}
