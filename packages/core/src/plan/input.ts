/** What a plan is computed from. */
import type { ReplicateDefinition } from '../definition/definition.ts'
import type { Deletes, LaneRule, There } from '../definition/lane-rule.ts'
import type { NamingProfile } from '../naming/profile.ts'
import type { NamingRule } from '../naming/rule.ts'
import type { ColumnRule } from '../shape/column-rule.ts'
import type { Dataset, DatasetName } from '../records/dataset.ts'
import type { HoldsOf } from '../shape/rehearsal.ts'
import type { MappedType, ToMap } from '../shape/mapped.ts'
import type { Lane } from './lane.ts'

/** What the plan must know about the target beside its catalogue. */
export interface TargetProfile {
  naming: NamingProfile
  typeOf(column: ToMap): MappedType
  /** A schema that cannot have this name, and why. */
  noSchema?: { name: string; because: string }
  /** Equal for names that the target takes for the same. */
  nameKey(name: string): string
  /** Why a column there does not take a value that its type is for; absent: it takes all. */
  holdsOf?: HoldsOf
  /**
   * What a table that is there must have to be written to: a unique index over the key; that as its primary key, and no other
   * unique index, for rows would go by that one, too; or nothing.
   */
  needsKey: 'unique' | 'primary alone' | 'none'
  /** Columns that a lane does not write keep their values when it writes the others of a row. */
  keepsOthers: boolean
  /** Rows land in files. */
  lake?: true
}

/** A target table that another pipeline writes to. */
export interface Claim {
  pipeline: string
  table: DatasetName
}

/** A source, as its catalogue has it. */
export interface OriginInput {
  /** Empty where it is the only one. */
  tag: string
  /** Source and target are of one kind, so that the source's own types are the target's. */
  sameKind: boolean
  source: readonly Dataset[]
}

export interface PlanInput {
  origins: readonly OriginInput[]
  /** What tells the origins apart at the target, where there are several. */
  originColumn?: string
  does?: ReplicateDefinition['does']
  followFrom?: ReplicateDefinition['followFrom']
  elsewhere?: ReplicateDefinition['elsewhere']
  tables: DatasetName[]
  without?: DatasetName[]
  patterns?: NonNullable<ReplicateDefinition['patterns']>
  bundles?: NonNullable<ReplicateDefinition['bundles']>
  /** Takes all the tables; empty: each goes into a schema named after its own. */
  targetSchema: string
  names: readonly NamingRule[]
  columns?: readonly ColumnRule[]
  scopes?: NonNullable<ReplicateDefinition['scopes']>
  deletes?: Deletes
  history?: boolean
  status?: ReplicateDefinition['status']
  files?: ReplicateDefinition['files']
  there?: There
  lanes?: readonly LaneRule[]
  target: readonly Dataset[]
  /** Schemas there are at the target. */
  targetSchemas: readonly string[]
  profile: TargetProfile
  claims: readonly Claim[]
  /** Tables this very pipeline has made before; they are replaced. */
  own: readonly DatasetName[]
  /** The lanes of the pipeline while it runs: as much of them as can goes on. */
  running?: readonly Lane[]
}
