import { Type, type Static } from 'typebox'
import { Failure } from '../failure.ts'
import { namingRuleSchema } from '../naming/rule.ts'
import { conditionSchema } from '../scope/condition.ts'
import { columnRuleSchema } from '../shape/column-rule.ts'
import { bundleSchema } from './bundle.ts'
import { filesSchema } from './files.ts'
import { heldBoundsSchema } from './held-bounds.ts'
import { CHOSEN_PATTERN, shownText } from './id.ts'
import { deletesSchema, laneRuleSchema, thereSchema } from './lane-rule.ts'
import { sendSchema, type SendDefinition } from './send.ts'
import { twoWaySchema, type TwoWayDefinition } from './two-way.ts'

const tableList = Type.Array(
  Type.Object(
    { namespace: Type.String({ maxLength: 300 }), name: Type.String({ maxLength: 300 }) },
    { additionalProperties: false },
  ),
  { maxItems: 10_000 },
)

/** Copies tables into a target and follows their changes. */
const replicateSchema = Type.Object(
  {
    version: Type.Literal(2),
    shape: Type.Literal('replicate'),
    name: shownText('Name', 120),
    /** Connection ids; several sources of one shape are the pipeline's origins. */
    from: Type.Union(
      [
        Type.String({ title: 'Source', pattern: CHOSEN_PATTERN }),
        Type.Array(
          Type.Object(
            {
              connection: Type.String({ title: 'Source', pattern: CHOSEN_PATTERN }),
              /** What the origin column says of its rows. */
              tag: shownText('The tag of an origin', 60, 1),
            },
            { additionalProperties: false },
          ),
          { title: 'Origins', minItems: 2, maxItems: 100 },
        ),
      ],
      { title: 'Source' },
    ),
    /** The column at the target that tells origins apart; `origin` where none is named. */
    originColumn: Type.Optional(shownText('The origin column', 300, 1)),
    to: Type.String({ title: 'Target', pattern: CHOSEN_PATTERN }),
    /**
     * `copy`: what is there, once; `follow`: only what changes from the start on; `structure`: the tables are made, and no
     * more; `archive`: rows in scope move, and are deleted at the source. By default it copies, then follows.
     */
    does: Type.Optional(Type.Enum(['copy', 'follow', 'structure', 'archive'])),
    /** What becomes of archived rows at other targets of the same source; they stay by default. */
    elsewhere: Type.Optional(Type.Enum(['stay', 'go'])),
    /**
     * Where following begins when nothing is copied: a time (ISO 8601), or a position as the source prints it; absent: with
     * the start.
     */
    followFrom: Type.Optional(shownText('Where following begins', 2000, 1)),
    /** The schema at the target that takes all the tables; empty: each goes into one named after its own. */
    targetSchema: shownText('Schema at the target', 200),
    /** Tables that take part whatever the patterns say. */
    tables: tableList,
    /** Tables that do not, whatever the patterns say. */
    without: Type.Optional(tableList),
    /** Tables that take part together, unless they are taken out. */
    bundles: Type.Optional(Type.Array(bundleSchema, { title: 'Bundles', maxItems: 1000 })),
    /** Which of the others take part: the last that matches schema.table decides. */
    patterns: Type.Optional(
      Type.Array(
        Type.Object(
          {
            take: Type.Enum(['in', 'out']),
            like: shownText('The pattern', 1000, 1),
          },
          { additionalProperties: false },
        ),
        { title: 'Patterns', maxItems: 1000 },
      ),
    ),
    /** What becomes of tables that appear at the source later and are taken in by a pattern; reported by default. */
    later: Type.Optional(Type.Enum(['take in', 'report'])),
    /** From source names to target names, in this order. */
    names: Type.Optional(Type.Array(namingRuleSchema, { title: 'Naming rules', maxItems: 1000 })),
    /** What becomes of columns on their way; of several rules for one column the last decides. */
    columns: Type.Optional(Type.Array(columnRuleSchema, { title: 'Column rules', maxItems: 1000 })),
    /** Which rows of the tables that match schema.table take part: all that every matching condition holds for. */
    scopes: Type.Optional(
      Type.Array(
        Type.Object(
          {
            like: shownText('The pattern', 1000, 1),
            where: conditionSchema,
          },
          { additionalProperties: false },
        ),
        { title: 'Scopes', maxItems: 1000 },
      ),
    ),
    /** What becomes at the target of rows that the source deletes; they go by default. */
    deletes: Type.Optional(deletesSchema),
    /** Every change of their rows is kept in tables beside the lanes' own. */
    history: Type.Optional(Type.Boolean()),
    /** Tables at the target say how the pipeline stands; their names begin so. */
    status: Type.Optional(
      Type.String({
        title: 'Status tables',
        pattern: '^[a-z][a-z0-9_]{0,29}$',
        patternSays: 'begins with a letter, and has small letters, digits and _ alone, at most 30',
      }),
    ),
    /** Where the target is a folder or a bucket: what files there are. */
    files: Type.Optional(filesSchema),
    /** What becomes of tables that are at the target already. */
    there: Type.Optional(thereSchema),
    /** How fast, at whose cost; what is not said is as the systems take it best. */
    speed: Type.Optional(
      Type.Object(
        {
          /** Parts of tables that are copied at once, at most. */
          readers: Type.Optional(Type.Integer({ title: 'Parts at once', minimum: 1, maximum: 64 })),
          /** So many changes land together, at least, where they come within the wait. */
          changes: Type.Optional(Type.Integer({ title: 'Changes together', minimum: 1, maximum: 1_000_000 })),
          /** For so many seconds a change waits for others, at most. */
          waits: Type.Optional(Type.Number({ title: 'Wait in seconds', minimum: 0, maximum: 3600 })),
        },
        { additionalProperties: false },
      ),
    ),
    /** What becomes of rows that the target will not take: they are held back, within these bounds for each lane; beyond them it stands still. */
    held: Type.Optional(heldBoundsSchema),
    /** Before more than this share of a table's rows is deleted, somebody is asked (100: nobody is); half of them by default. */
    guard: Type.Optional(
      Type.Object(
        { percent: Type.Integer({ title: 'Share of rows', minimum: 1, maximum: 100 }) },
        { additionalProperties: false },
      ),
    ),
    /** What is otherwise for some of the lanes. */
    lanes: Type.Optional(Type.Array(laneRuleSchema, { title: 'Lane rules', maxItems: 1000 })),
  },
  { additionalProperties: false },
)

/** By what a pipeline does: the shape that its definition names. */
export const definitionSchemas = { replicate: replicateSchema, send: sendSchema, 'two-way': twoWaySchema }

export type ReplicateDefinition = Static<typeof replicateSchema>

/** What a pipeline is to do, as its owner wrote it. Stored with every version. */
export type Definition = ReplicateDefinition | SendDefinition | TwoWayDefinition

/** What a replication does; undefined of other shapes, and where nothing is said. */
export function doesOf(definition: Definition): ReplicateDefinition['does'] {
  return definition.shape === 'replicate' ? definition.does : undefined
}

/** The definition of a replication; what is asked of it makes no sense for others. Throws a Failure. */
export function asReplication(definition: Definition): ReplicateDefinition {
  if (definition.shape === 'replicate') return definition
  throw new Failure(
    'refused',
    `“${definition.name}” copies no tables.`,
    'Ask that of a pipeline that replicates.',
  )
}

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

/**
 * States of a pipeline, in the words people see. One that sends is *Waiting* between its runs, and *Sending* in them.
 */
export type PipelineState =
  'Draft' | 'Ready' | 'Copying' | 'Following' | 'Sending' | 'Waiting' | 'Paused' | 'Stopped' | 'Finished'

/** The setup can be changed as a whole; in the other states the pipeline runs, and can at most be added to. */
export const CHANGEABLE = ['Draft', 'Ready', 'Stopped', 'Finished'] as const satisfies PipelineState[]

export function isChangeable(state: PipelineState): boolean {
  return CHANGEABLE.some(one => one === state)
}
