/** Engines over systems in memory, in a time that stands still but for sleeping. */
import type { Session } from '@tide/connectors/contract/session'
import type { RunRecord } from '@tide/core/definition/run'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import type { Lane } from '@tide/core/plan/lane'
import { Engine } from '../src/engine.ts'
import { JournalKeepers } from '../src/journal/keepers.ts'
import type { EngineParts } from '../src/parts.ts'
import { MemoryHeld } from './memory-held.ts'
import { MemoryVerifications } from './memory-verifications.ts'
import { MemoryStore } from './memory-store.ts'
import { nothingCalled, nothingKept, nothingPaired } from './nothing-paired.ts'

const column = (name: string) => ({
  name,
  type: { kind: 'utf8' } as const,
  nativeType: 'text',
  nullable: false,
})

/** A table of two columns; the first is the key. */
export function laneOf(namespace: string, name: string): Lane {
  const table = { namespace, name }
  const reads = [column('id'), column('v')]
  const writes = reads.map(one => ({ ...one, value: { from: 'column' as const, column: one.name } }))
  const size = { rows: 10, rowsExact: true, bytes: 0 }
  return { source: table, target: table, reads, identity: ['id'], writes, key: ['id'], scope: null, ...size }
}

export function world(open: { from(): Session; to(): Session }, folder = '/nowhere') {
  let time = 1_000_000
  let ids = 0
  const held = new MemoryHeld()
  const verifications = new MemoryVerifications()
  const runs = new Map<string, RunRecord>()
  const saves: Omit<SavedPosition, 'id'>[] = []
  const definition = {
    version: 2,
    shape: 'replicate',
    name: 'P',
    from: 'from',
    to: 'to',
    targetSchema: 's',
    tables: [],
  } as const
  const store = new MemoryStore({ ...definition, tables: [] }, () => time)
  const connections: EngineParts['connections'] = {
    open: async id => (id === 'from' ? open.from() : open.to()),
    describe: async () => undefined,
  }
  /** What an engine works with; while it is frozen, nothing it waits for comes to an end. */
  const partsOf = (home: string, frozen = new Frost()): EngineParts => {
    const surroundings: EngineParts['surroundings'] = {
      now: () => time,
      random: () => 0.5,
      newId: () => `id ${++ids}`,
      sleep: async milliseconds => {
        // Little at once, so that what was heard of a source in between is not of long ago.
        time += Math.min(milliseconds, 250)
        await new Promise(resolve => setImmediate(resolve))
        await frozen.thawed
      },
    }
    return {
      name: home,
      home,
      connections,
      surroundings,
      maskKey: new Uint8Array(32),
      journals: new JournalKeepers(folder, connections, store.pipelines, surroundings),
      pipelines: store.pipelines,
      leases: store.leases,
      errands: store.errands,
      held,
      verifications,
      queries: { get: async () => undefined },
      pairs: nothingPaired(),
      webhooks: nothingCalled,
      restorePoints: nothingKept,
      sent: {
        open: () => Promise.reject(new Error('nothing is sent here')),
        remove: async () => {},
      },
      positions: { keep: async saved => void saves.push(saved) },
      history: {
        log: async () => {},
        trimLog: async () => {},
        addFigures: async () => {},
        figures: async () => [],
        trimFigures: async () => {},
        addLaneFigures: async () => {},
      },
      runs: {
        put: async run => void runs.set(run.id, run),
        cutOff: async () => {},
        trim: async () => {},
      },
    }
  }
  return {
    record: store.record,
    errands: store.asked,
    saves,
    runs,
    held,
    verifications,
    /** So many milliseconds go by. */
    later: (milliseconds: number) => void (time += milliseconds),
    partsOf,
    engine: (parts = partsOf('home')) => new Engine(parts),
  }
}

export class Frost {
  thawed: Promise<void> = Promise.resolve()
  thaw = () => {}
  freeze(): void {
    this.thawed = new Promise(resolve => (this.thaw = resolve))
  }
}

/** Waits, without any time of the engines', until it is so. */
export async function settled(what: () => boolean, withinMs = 10_000): Promise<void> {
  for (const end = performance.now() + withinMs; performance.now() < end;) {
    if (what()) return
    await new Promise(resolve => setImmediate(resolve))
  }
  throw new Error('it did not come to rest')
}
