/** A process that sends what differs again and again until it is killed. Its starter says from where, and into which app. */
import { DescribedApp } from '../../packages/connectors/src/http/app.ts'
import { settings } from '../../packages/connectors/src/http/settings.ts'
import { postgres } from '../../packages/connectors/src/postgres/connector.ts'
import { FileSentStates } from '../../packages/connectors/src/sent/sent-states.ts'
import { differenceNow, sidesOf } from '../../packages/engine/src/shapes/send/foresee.ts'
import { sendAll, settleCalls } from '../../packages/engine/src/shapes/send/sending.ts'
import { sourceOfSend } from '../../packages/engine/src/shapes/send/source.ts'
import { Failure } from '@tide/core/failure'
import { randomUUID } from 'node:crypto'
import { soakedApp, SENDS } from './world.ts'

const { source, server, folder, repeats, once } = JSON.parse(process.argv[2]!) as {
  source: Record<string, unknown>
  server: string
  folder: string
  /** The app knows calls that it was told of before. */
  repeats: boolean
  /** Until a run has gone through. */
  once: boolean
}

const { idempotency, ...rest } = soakedApp
const app = new DescribedApp(
  repeats ? { ...rest, idempotency: idempotency! } : rest,
  settings({ server, token: 'soak' }),
)
const state = await new FileSentStates(folder).open('soak', 'here')
const from = await postgres.open(source)
const signal = new AbortController().signal
const now = () => new Date().toISOString()
process.send?.('sends')
for (;;) {
  try {
    const sides = await sidesOf(
      SENDS,
      await sourceOfSend(SENDS, from, { get: async () => undefined }, signal),
      app,
    )
    const parts = {
      app,
      object: sides.object,
      meets: SENDS.meets,
      state,
      now,
      newId: () => randomUUID(),
      signal,
      told: () => {},
    }
    await settleCalls(parts)
    // What the app refused for a moment is asked again.
    await state.letGo('all')
    const { compared } = await differenceNow(sides, { state, now, tell: () => {}, signal })
    await compared.decide(SENDS)
    await sendAll(parts, compared, randomUUID(), () => false)
    await compared.close()
    await state.keepRun(
      randomUUID(),
      SENDS.fields.map(({ field }) => field),
    )
    if (once) break
  } catch (thrown) {
    if (!(thrown instanceof Failure)) throw thrown
    process.send?.(thrown.message)
    await new Promise(resolve => setTimeout(resolve, 20))
  }
}
await state.close()
await from.close()
process.exit(0)
