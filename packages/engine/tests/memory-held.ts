/** Held records in memory, kept as the store keeps them. */
import type { HeldRecord } from '@tide/core/definition/held'
import { keyText } from '@tide/core/records/value'
import type { HeldRepository } from '../src/repositories.ts'

export class MemoryHeld implements HeldRepository {
  readonly records: (HeldRecord & { differs: boolean })[] = []

  keep: HeldRepository['keep'] = async records => {
    for (const one of records) {
      const same = ({ table, identity, position, number }: HeldRecord) =>
        table === one.table &&
        keyText(identity) === keyText(one.identity) &&
        position === one.position &&
        number === one.number
      if (this.records.some(same)) continue
      const id = this.records.length + 1
      this.records.push({ ...one, id, state: 'open', closedAt: null, note: null, differs: true })
    }
  }

  differing: HeldRepository['differing'] = async () => this.records.filter(({ differs }) => differs)

  get: HeldRepository['get'] = async (_pipeline, ids) => this.records.filter(({ id }) => ids.includes(id))

  settle: HeldRepository['settle'] = async (_pipeline, table, keys, { state, at, note }) => {
    const texts = keys === 'all' ? undefined : new Set(keys.map(keyText))
    for (const one of this.records) {
      if (!one.differs || one.table !== table || texts?.has(keyText(one.identity)) === false) continue
      if (one.state === 'open') Object.assign(one, { state, closedAt: at, note: note ?? null })
      one.differs = state === 'dropped'
    }
  }

  trim: HeldRepository['trim'] = async () => {}

  get open(): HeldRecord[] {
    return this.records.filter(({ state }) => state === 'open')
  }
}
