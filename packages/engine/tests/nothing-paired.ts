import type { EngineParts } from '../src/parts.ts'

/** Of an engine that runs no two-way pipelines. */
export function nothingPaired(): EngineParts['pairs'] {
  const no = () => Promise.reject(new Error('nothing is paired here'))
  return {
    lane: no,
    find: no,
    get: no,
    waiting: no,
    strangers: no,
    keys: no,
    intents: no,
    totals: no,
    trail: no,
    commit: no,
  }
}

export const nothingKept: EngineParts['restorePoints'] = {
  list: async () => [],
  keep: () => Promise.reject(new Error('nothing is kept here')),
  records: async function* () {
    throw new Error('nothing is kept here')
  },
}

export const nothingCalled: EngineParts['webhooks'] = {
  of: async () => [],
  keep: async () => {},
  forget: async () => {},
  urlOf: () => undefined,
}
