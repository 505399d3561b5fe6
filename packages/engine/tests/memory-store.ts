/** A store in memory for one pipeline, which several engines share. Time is handed in. */
import { pendingOf, type EngineRecord, type PipelineRecord } from '@tide/core/definition/pipeline'
import type { Errand } from '@tide/core/definition/errand'
import type { ErrandRepository, LeaseRepository, PipelineRepository } from '../src/repositories.ts'

export const LEASE_MS = 8_000

export class MemoryStore {
  readonly record: PipelineRecord
  readonly asked: Errand[] = []
  readonly engines = new Map<string, EngineRecord & { seen: number }>()
  private leasedUntil = 0
  private readonly now: () => number

  constructor(definition: PipelineRecord['definition'], now: () => number) {
    this.now = now
    this.record = {
      id: 'p',
      of: null,
      origin: '',
      origins: [],
      definition,
      state: 'Draft',
      wanted: 'pause',
      reason: null,
      epoch: 0,
      freshFrom: 1,
      lanes: [],
      steps: [],
      startedAt: null,
      plan: 0,
      change: null,
      holder: null,
      home: null,
      affinity: null,
      detailedUntil: null,
    }
  }

  get pipelines(): PipelineRepository {
    const { record } = this
    return {
      list: async () => [structuredClone(record)],
      get: async () => structuredClone(record),
      start: async (_id, plan, startedAt, affinity) => {
        if (JSON.stringify(record.definition) !== JSON.stringify(plan.definition)) return false
        Object.assign(record, plan, {
          startedAt,
          wanted: 'run',
          state: 'Copying',
          reason: null,
          home: affinity?.home ?? null,
          affinity: affinity?.affinity ?? null,
          freshFrom: record.epoch + 1,
          change: null,
        })
        return true
      },
      own: () => Promise.reject(new Error('one source is enough here')),
      startOrigins: () => Promise.reject(new Error('one source is enough here')),
      startAgain: () => Promise.reject(new Error('one source is enough here')),
      change: async (_id, from, { definition, lanes, steps, change }) => {
        if (record.plan !== from) return false
        const pending = { lanes: pendingOf(record, lanes, change.lanes, ''), steps }
        Object.assign(record, { definition, lanes, steps: [], plan: from + 1, change: pending })
        return true
      },
      changed: async (_id, plan) => {
        if (record.plan === plan) record.change = null
      },
      bind: async (_id, { home, affinity }) => void Object.assign(record, { home, affinity }),
      tellDetails: async (_id, until) => void (record.detailedUntil = until),
      want: async (_id, wanted) => void (record.wanted = wanted),
      takeUp: async (_id, wanted) =>
        void Object.assign(record, {
          wanted,
          reason: null,
          ...(wanted === 'run' ? { state: 'Copying' } : {}),
        }),
      setState: async (_id, holder, state, reason) => {
        if (record.holder !== holder) return false
        Object.assign(record, { state, reason, ...(state === 'Finished' ? { wanted: 'stop' } : {}) })
        return true
      },
      takeEpoch: async (_id, holder) => (record.holder === holder ? ++record.epoch : undefined),
    }
  }

  get errands(): ErrandRepository {
    const { record, asked } = this
    return {
      ask: async errand => void asked.push({ ...errand, state: 'waiting', outcome: null, endedAt: null }),
      waiting: async () => asked.filter(({ endedAt }) => endedAt === null),
      begin: async (id, holder) => {
        if (record.holder !== holder) return false
        asked.find(errand => errand.id === id)!.state = 'under way'
        return true
      },
      end: async (id, end) =>
        void Object.assign(
          asked.find(errand => errand.id === id)!,
          end,
        ),
    }
  }

  get leases(): LeaseRepository {
    const { record, engines } = this
    const free = () => record.holder === null || this.leasedUntil < this.now()
    const beat: LeaseRepository['beat'] = async ({ id, name, home }) => {
      const [startedAt, seenAt] = ['', '']
      engines.set(id, { id, name, home, startedAt, seenAt, live: true, seen: this.now() })
      if (record.holder === id) this.leasedUntil = this.now() + LEASE_MS
    }
    return {
      begin: async me => {
        for (const [id, { home }] of engines) {
          if (home !== me.home) continue
          engines.delete(id)
          if (record.holder === id) record.holder = null
        }
        await beat(me)
      },
      beat,
      work: async () => [
        {
          ...structuredClone(record),
          errands: this.asked.filter(({ endedAt }) => endedAt === null).map(({ id }) => id),
          hasReason: record.reason !== null,
          free: free(),
        },
      ],
      take: async (_id, holder) => {
        if (!free()) return false
        record.holder = holder
        this.leasedUntil = this.now() + LEASE_MS
        return true
      },
      release: async (ids, holder) => {
        if (ids.length > 0 && record.holder === holder) record.holder = null
      },
      leave: async id => {
        engines.delete(id)
        if (record.holder === id) record.holder = null
      },
      engines: async () =>
        [...engines.values()].map(one => ({ ...one, live: this.now() - one.seen < LEASE_MS })),
      forgetGone: async () => {},
      tell: async () => {},
      told: async () => [],
    }
  }
}
