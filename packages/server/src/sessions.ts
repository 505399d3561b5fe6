import type { Catalogue } from '@tide/core/api/browse'
import type { Session } from '@tide/connectors/contract/session'
import type { ConnectionOpener } from '@tide/engine/repositories'

const IDLE_MS = 30_000
const CATALOGUE_HOLDS_MS = 5_000

interface Held {
  session: Promise<Session>
  users: number
  timer: NodeJS.Timeout | undefined
  closed?: Promise<void>
  catalogue: { at: number; answer: Promise<Catalogue> } | undefined
}

/** Sessions for people who browse and plan: kept open a while after the last use. */
export class SessionCache {
  private readonly opener: ConnectionOpener
  private readonly forgetName: (id: string) => void
  private readonly held = new Map<string, Held>()

  constructor(opener: ConnectionOpener, forgetName: (id: string) => void) {
    this.opener = opener
    this.forgetName = forgetName
  }

  use<T>(id: string, body: (session: Session) => Promise<T>): Promise<T> {
    return this.useHeld(id, async ({ session }) => body(await session))
  }

  private async useHeld<T>(id: string, body: (held: Held) => Promise<T>): Promise<T> {
    const held = this.take(id)
    try {
      return await body(held)
    } finally {
      held.users--
      if (held.users === 0) {
        if (this.held.get(id) !== held) await this.end(held)
        else held.timer = setTimeout(() => void this.drop(id, held), IDLE_MS)
      }
    }
  }

  /** The catalogue, some seconds old at most; `fresh` reads it anew. */
  catalogue(id: string, fresh: boolean): Promise<Catalogue> {
    return this.useHeld(id, async held => {
      const session = await held.session
      if (fresh || !held.catalogue || Date.now() - held.catalogue.at > CATALOGUE_HOLDS_MS) {
        const answer = session.catalogue()
        held.catalogue = { at: Date.now(), answer }
        answer.catch(() => (held.catalogue = undefined))
      }
      return held.catalogue.answer
    })
  }

  /** After the settings have changed. What is under way with the old ones goes on to its end. */
  async renew(id: string): Promise<void> {
    this.forgetName(id)
    const held = this.held.get(id)
    if (held) await this.drop(id, held)
  }

  /** Closes all, also those in use. */
  async close(): Promise<void> {
    const all = [...this.held.values()]
    this.held.clear()
    await Promise.all(all.map(held => this.end(held)))
  }

  private take(id: string): Held {
    let held = this.held.get(id)
    if (!held) {
      const opened: Held = { session: this.opener.open(id), users: 0, timer: undefined, catalogue: undefined }
      this.held.set(id, (held = opened))
      opened.session.catch(() => this.held.get(id) === opened && this.held.delete(id))
    }
    clearTimeout(held.timer)
    held.users++
    return held
  }

  /** Nobody gets it any more; its last user closes it. */
  private async drop(id: string, held: Held): Promise<void> {
    if (this.held.get(id) === held) this.held.delete(id)
    if (held.users === 0) await this.end(held)
  }

  private async end(held: Held): Promise<void> {
    clearTimeout(held.timer)
    // It is of no more use, whatever it says to that.
    held.closed ??= held.session.then(session => session.close()).catch(() => {})
    await held.closed
  }
}
