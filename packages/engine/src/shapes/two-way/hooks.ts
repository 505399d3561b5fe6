/** Has both apps say when something has changed, where they can; what they say is a nudge, and what has changed is asked for as ever. */
import { asFailure } from '@tide/core/failure'
import type { Side } from '@tide/core/merge/rule'
import { SIDES } from '@tide/core/two-way/lane'
import type { TwoWayRun } from '../shape.ts'
import type { Places } from './places.ts'

/** After a refusal it is tried again so much later. */
const AGAIN_MS = 600_000
const SECRET_PARTS = 4

export class Hooks {
  private readonly run: TwoWayRun
  /** It is as it should be, or is not tried again before. */
  private restsUntil = 0

  constructor(run: TwoWayRun) {
    this.run = run
  }

  /** Makes those that are missing, and ends those that are of other places. */
  async see(places: Places, signal: AbortSignal): Promise<void> {
    const { parts, record } = this.run
    const { now, newId } = parts.surroundings
    if (now() < this.restsUntil) return
    if (parts.webhooks.urlOf('') === undefined) return
    this.restsUntil = now() + AGAIN_MS
    const wanted = places.lanes.flatMap(lane =>
      SIDES.flatMap(side =>
        places.apps[side].webhooks
          ? [{ side, connection: this.connection(side), object: lane.objects[side].name }]
          : [],
      ),
    )
    const all = await parts.webhooks.of(record.id)
    const isWanted = (one: { connection: string; object: string }) =>
      wanted.some(({ connection, object }) => one.connection === connection && one.object === object)
    await this.endThese(
      all.filter(one => !isWanted(one)),
      places,
      signal,
    )
    const present = all.filter(isWanted)
    for (const { side, connection, object } of wanted) {
      const known = present.find(one => one.connection === connection && one.object === object)
      // Where we are reached may be another place by now.
      if (known && known.url === parts.webhooks.urlOf(known.id)) continue
      const id = Array.from({ length: SECRET_PARTS }, newId).join('')
      const secret = Array.from({ length: SECRET_PARTS }, newId).join('')
      const url = parts.webhooks.urlOf(id)!
      const app = places.apps[side]
      try {
        if (known) {
          await app.unsubscribe(known.subscription, signal)
          await parts.webhooks.forget([known.id])
        }
        const subscription = await app.subscribe(object, { url, secret, signal })
        await parts.webhooks.keep({
          id,
          pipeline: record.id,
          connection,
          object,
          subscription,
          url,
          signed: app.webhooks!,
          secret,
        })
      } catch (thrown) {
        if (signal.aborted) throw thrown
        const { message, remedy } = asFailure(thrown)
        await this.run.log('warning', `${app.name} does not say when ${object} change: ${message}`, {
          remedy,
        })
      }
    }
  }

  /** Whatever an app does not end is called in vain. */
  async end(places: Places, signal: AbortSignal): Promise<void> {
    const { parts, record } = this.run
    await this.endThese(await parts.webhooks.of(record.id), places, signal)
  }

  private async endThese(
    some: readonly { id: string; connection: string; subscription: string }[],
    places: Places,
    signal: AbortSignal,
  ): Promise<void> {
    for (const { id, connection, subscription } of some) {
      const side = SIDES.find(one => this.connection(one) === connection)
      if (side) await places.apps[side].unsubscribe(subscription, signal).catch(() => {})
      await this.run.parts.webhooks.forget([id])
    }
  }

  private connection(side: Side): string {
    const { from, to } = this.run.record.definition
    return side === 'a' ? from : to
  }
}
