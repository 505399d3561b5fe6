import { Type, type Static } from 'typebox'
import { Failure } from '../failure.ts'
import { CHOSEN_PATTERN, NAME_PATTERN, NAME_SAYS } from './id.ts'

/** Copies tables into a target and follows their changes. */
const replicateSchema = Type.Object(
  {
    version: Type.Literal(2),
    shape: Type.Literal('replicate'),
    name: Type.String({ title: 'Name', maxLength: 120, pattern: NAME_PATTERN, patternSays: NAME_SAYS }),
    /** Connection ids. */
    from: Type.String({ title: 'Source', pattern: CHOSEN_PATTERN }),
    to: Type.String({ title: 'Target', pattern: CHOSEN_PATTERN }),
    /** The schema at the target that takes all the tables. */
    targetSchema: Type.String({
      title: 'Schema at the target',
      maxLength: 200,
      pattern: NAME_PATTERN,
      patternSays: NAME_SAYS,
    }),
    tables: Type.Array(
      Type.Object(
        { namespace: Type.String({ maxLength: 300 }), name: Type.String({ maxLength: 300 }) },
        { additionalProperties: false },
      ),
      { maxItems: 10_000 },
    ),
  },
  { additionalProperties: false },
)

/** By what a pipeline does: the shape that its definition names. */
export const definitionSchemas = { replicate: replicateSchema }

/** What a pipeline is to do, as its owner wrote it. Stored with every version. */
export type Definition = Static<(typeof definitionSchemas)[keyof typeof definitionSchemas]>

/**
 * A definition of whatever version as one of today; it may still not be valid against the schema of its shape. Throws a
 * Failure for what is no definition at all.
 */
export function upgradeDefinition(stored: unknown): { shape: Definition['shape']; definition: unknown } {
  const { version, ...rest } = Object(stored) as Record<string, unknown>
  // The first version knew one shape, and did not name it.
  const definition = version === 1 ? { version: 2, shape: 'replicate', ...rest } : stored
  const { shape } = Object(definition) as { shape?: unknown }
  if (typeof shape === 'string' && Object.hasOwn(definitionSchemas, shape))
    return { shape: shape as Definition['shape'], definition }
  const known = Object.keys(definitionSchemas).join(', ')
  throw new Failure(
    'refused',
    typeof shape === 'string'
      ? `There is no shape “${shape.slice(0, 60)}”.`
      : 'The definition names no shape.',
    `Name one that this version knows: ${known}.`,
  )
}

/** States of a pipeline, in the words people see. */
export type PipelineState = 'Draft' | 'Ready' | 'Copying' | 'Following' | 'Paused' | 'Stopped' | 'Finished'

/** The setup can be changed as a whole; in the other states the pipeline runs, and can at most be added to. */
export const CHANGEABLE = ['Draft', 'Ready', 'Stopped'] as const satisfies PipelineState[]

export function isChangeable(state: PipelineState): boolean {
  return CHANGEABLE.some(one => one === state)
}
