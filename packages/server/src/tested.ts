import type { ConnectionRecord } from '@tide/store/connections'
import { createHash } from 'node:crypto'

export type LastCheck = NonNullable<ConnectionRecord['lastCheck']>

const REMEMBERED = 50

/** Tests of settings before they are saved: who saves the same settings afterwards need not test them again. */
export class TestedSettings {
  private readonly tests = new Map<string, LastCheck>()

  remember(kind: string, config: Record<string, unknown>, check: LastCheck): void {
    this.tests.set(digest(kind, config), check)
    if (this.tests.size > REMEMBERED) this.tests.delete(this.tests.keys().next().value!)
  }

  of(kind: string, config: Record<string, unknown>): LastCheck | null {
    return this.tests.get(digest(kind, config)) ?? null
  }
}

/** Settings hold secrets; what is remembered of them does not. */
function digest(kind: string, config: Record<string, unknown>): string {
  const settings = Object.entries(config).sort(([a], [b]) => (a < b ? -1 : 1))
  return createHash('sha256')
    .update(JSON.stringify([kind, settings]))
    .digest('hex')
}
