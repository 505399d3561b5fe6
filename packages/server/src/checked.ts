import type { CheckItem } from '@tide/core/api/browse'
import type { Config, Connector } from '@tide/connectors/contract/session'
import type { Store } from '@tide/store/store'

/** A system that was put right meanwhile is seen at the latest after so long, or when somebody looks again. */
const HOLDS_MS = 60_000

/** What the tests of saved connections have found, so that a plan is not a test of both systems at every letter typed. */
export class CheckedConnections {
  private readonly store: Store
  private readonly connector: (kind: string) => Connector
  private readonly held = new Map<string, { at: number; items: Promise<CheckItem[]> }>()

  constructor(store: Store, connector: (kind: string) => Connector) {
    this.store = store
    this.connector = connector
  }

  /** `fresh`: looks at the system now. Empty for a connection that is not there. */
  of(id: string, fresh: boolean): Promise<CheckItem[]> {
    const known = this.held.get(id)
    if (!fresh && known && Date.now() - known.at < HOLDS_MS) return known.items
    const items = this.check(id)
    this.held.set(id, { at: Date.now(), items })
    items.catch(() => this.held.delete(id))
    return items
  }

  /** Its settings have changed, or it is gone. */
  forget(id: string): void {
    this.held.delete(id)
  }

  private async check(id: string): Promise<CheckItem[]> {
    const connection = await this.store.connections.openable(id)
    if (!connection) return []
    const items: CheckItem[] = []
    const keep = (secrets: Config) => this.store.connections.keepSecrets(id, secrets)
    for await (const item of this.connector(connection.kind).check(connection.config, id, keep))
      items.push(item)
    return items
  }
}
