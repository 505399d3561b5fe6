import type { DatasetName } from '../records/dataset.ts'
import { CHOSEN_PATTERN, NAME_PATTERN, NAME_SAYS } from './id.ts'

/** What a pipeline is to do, as its owner wrote it. Stored with every version. */
export interface Definition {
  version: 1
  name: string
  /** Connection ids. */
  from: string
  to: string
  /** The schema at the target that takes all the tables. */
  targetSchema: string
  tables: DatasetName[]
}

/** States of a pipeline, in the words people see. */
export type PipelineState = 'Draft' | 'Ready' | 'Copying' | 'Following' | 'Paused' | 'Stopped' | 'Finished'

/** The setup can be changed as a whole; in the other states the pipeline runs, and can at most be added to. */
export const CHANGEABLE = ['Draft', 'Ready', 'Stopped'] as const satisfies PipelineState[]

export function isChangeable(state: PipelineState): boolean {
  return CHANGEABLE.some(one => one === state)
}

export const definitionSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['version', 'name', 'from', 'to', 'targetSchema', 'tables'],
  properties: {
    version: { const: 1 },
    name: { type: 'string', title: 'Name', maxLength: 120, pattern: NAME_PATTERN, patternSays: NAME_SAYS },
    from: { type: 'string', title: 'Source', pattern: CHOSEN_PATTERN },
    to: { type: 'string', title: 'Target', pattern: CHOSEN_PATTERN },
    targetSchema: {
      type: 'string',
      title: 'Schema at the target',
      maxLength: 200,
      pattern: NAME_PATTERN,
      patternSays: NAME_SAYS,
    },
    tables: {
      type: 'array',
      maxItems: 10_000,
      items: {
        type: 'object',
        additionalProperties: false,
        required: ['namespace', 'name'],
        properties: {
          namespace: { type: 'string', maxLength: 300 },
          name: { type: 'string', maxLength: 300 },
        },
      },
    },
  },
} as const
