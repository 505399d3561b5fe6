/** What stands in the way of a pipeline that sends, as its systems are now. */
import type { SendDefinition } from '@tide/core/definition/send'
import { asFailure } from '@tide/core/failure'
import { planSend, type SendInput, type SendNote } from '@tide/core/send/plan'
import { sourceOfSend } from '@tide/engine/shapes/send/source'
import type { Services } from './services.ts'

const LOOK_MS = 20_000

type Looked = Omit<SendInput, 'definition'>

/** What both sides have; what cannot be asked is told as a note. */
export async function lookAtSides(
  { sessions, store }: Services,
  definition: SendDefinition,
  pipeline: string | undefined,
): Promise<{ looked: Looked; notes: SendNote[] }> {
  const { from, to, what } = definition
  const notes: SendNote[] = []
  const refused = (section: SendNote['section']) => (thrown: unknown) => {
    const { message, remedy } = asFailure(thrown)
    notes.push({ level: 'refused', section, message, remedy })
    return undefined
  }
  const isSaid = what && (!('sql' in what) || what.sql.trim() !== '')
  let logs = true
  const columns =
    from !== '' && isSaid
      ? await sessions
          .use(from, session => {
            logs = session.target !== undefined
            return sourceOfSend(definition, session, store.queries, AbortSignal.timeout(LOOK_MS))
          })
          .then(({ columns }) => columns, refused('what'))
      : undefined
  if (definition.log && !logs)
    notes.push({
      level: 'refused',
      section: 'may',
      message: 'No table can be made at the source to say what was sent.',
      remedy: 'Leave it out.',
    })
  const app =
    to === ''
      ? undefined
      : await sessions
          .use(to, async session =>
            session.app ? { name: session.app.name, objects: await session.app.objects() } : undefined,
          )
          .catch(refused('where'))
  const others = (await store.pipelines.list()).flatMap(({ id, definition: one }) =>
    id !== pipeline && one.shape === 'send' && one.to === to && one.object === definition.object ? [one] : [],
  )
  return { looked: { columns, objects: app?.objects, app: app?.name ?? 'The app', others }, notes }
}

export async function sendPlan(
  services: Services,
  definition: SendDefinition,
  pipeline: string,
): Promise<SendNote[]> {
  return sendNotes(definition, await lookAtSides(services, definition, pipeline))
}

/** Of what cannot be asked it is said why, and not that it is not known. */
export function sendNotes(
  definition: SendDefinition,
  { looked, notes }: Awaited<ReturnType<typeof lookAtSides>>,
): SendNote[] {
  const planned = planSend({ definition, ...looked })
  return [
    ...notes,
    ...planned.filter(
      note => !notes.some(({ section }) => section === note.section && note.level === 'undecided'),
    ),
  ]
}
