/** The columns of a lane: what is read, what is written, and what is to be said of it. */
import type { Deletes } from '../definition/lane-rule.ts'
import { compileExpression, isFault, type Expression } from '../expression/compile.ts'
import { matcherOf, pathOf } from '../naming/pattern.ts'
import type { Namer } from '../naming/namer.ts'
import type { Column } from '../records/column.ts'
import { printName, type Dataset, type DatasetName, type Field } from '../records/dataset.ts'
import { TYPE_NAMES, typeNamed } from '../records/type-name.ts'
import { printType, type LogicalType } from '../records/types.ts'
import { CUT_SUFFIX, type ColumnDeed, type ColumnRule } from '../shape/column-rule.ts'
import { mayExceed } from '../shape/limit.ts'
import { keepsKeysApart, retypingOf } from '../shape/retype.ts'
import { printMask, type Mask } from '../shape/mask.ts'
import type { WrittenColumn, WrittenValue } from './lane.ts'
import { grouped, someOf, type PlanNote } from './note.ts'
import type { OriginInput, PlanInput } from './input.ts'

export interface PlannedColumns {
  reads: Column[]
  /** Columns that are there and are not read. */
  leftOut: string[]
  writes: WrittenColumn[]
  /** Column names that the target will not take, each with the reason. */
  odd: string[]
  /** Columns of which something is different at the target. */
  changed: ChangedType[]
}

export interface ChangedType {
  table: DatasetName
  column: string
  becomes: string
  remedy: string
}

type LimitDeed = Extract<ColumnDeed, { limit: number }>
/** What becomes of a column, but for how much of it there may be: a limit never takes a mask away. */
type TakenDeed = Exclude<ColumnDeed, { add: string } | LimitDeed>

/** The column rules, and which of them have decided something. */
export class ColumnRules {
  readonly working = new Set<number>()
  private readonly rules: { index: number; deed: ColumnDeed; matches(path: string): boolean }[]

  constructor(rules: readonly ColumnRule[]) {
    this.rules = rules.map(({ like, does }, index) => ({ index, deed: does, matches: matcherOf(like) }))
  }

  /** What becomes of a column; undefined: it is taken as it is. */
  of({ namespace, name }: DatasetName, column: string): TakenDeed | undefined {
    const path = pathOf(namespace, name, column)
    const rule = this.rules.findLast(
      ({ deed, matches }) => !('add' in deed || 'limit' in deed) && matches(path),
    )
    if (rule) this.working.add(rule.index)
    return rule?.deed as TakenDeed | undefined
  }

  /** How much there may be of a column that is taken as it is; undefined: all of it. */
  limitOf(
    { namespace, name }: DatasetName,
    { name: column, type, nativeType }: Field,
  ): LimitDeed | undefined {
    const path = pathOf(namespace, name, column)
    const rule = this.rules.findLast(({ deed, matches }) => 'limit' in deed && matches(path))
    const deed = rule?.deed as LimitDeed | undefined
    if (!rule || !deed || !mayExceed(type, nativeType, deed.limit)) return undefined
    this.working.add(rule.index)
    return deed
  }

  /** Columns that come to a table. */
  added({ namespace, name }: DatasetName): Extract<ColumnDeed, { add: string }>[] {
    const path = pathOf(namespace, name)
    return this.rules.flatMap(({ index, deed, matches }) => {
      if (!('add' in deed) || !matches(path)) return []
      this.working.add(index)
      return [deed]
    })
  }
}

/**
 * Plans the columns of one table. `key`: those that are the key at the target. `scoped`: columns that the scope looks at, which
 * are read even where left out.
 */
export function planColumns(
  dataset: Dataset,
  key: readonly string[],
  namer: Namer,
  rules: ColumnRules,
  scoped: readonly string[],
  deletes: Deletes,
  input: PlanInput,
  origin: OriginInput,
  notes: PlanNote[],
): PlannedColumns {
  return new ColumnPlanning(dataset, key, namer, input, origin, notes).plan(rules, scoped, deletes)
}

const TEXT: LogicalType = { kind: 'utf8' }
const MOMENT: LogicalType = { kind: 'timestamp', zoned: true }

/** A SHA-256 in hexadecimal digits. */
const HASH_DIGITS = 64

type Typed = Pick<Field, 'type' | 'nativeType'> & {
  collation?: string | undefined
  /** The type is ours, not the source's. */
  ours?: boolean
}

class ColumnPlanning {
  private readonly planned: PlannedColumns = { reads: [], leftOut: [], writes: [], odd: [], changed: [] }
  private readonly taken = new Set<string>()
  private readonly table: DatasetName
  private readonly shown: string
  private readonly dataset: Dataset
  private readonly key: readonly string[]
  private readonly namer: Namer
  private readonly input: PlanInput
  private readonly sameKind: boolean
  private readonly notes: PlanNote[]

  constructor(
    dataset: Dataset,
    key: readonly string[],
    namer: Namer,
    input: PlanInput,
    { sameKind }: OriginInput,
    notes: PlanNote[],
  ) {
    this.dataset = dataset
    this.key = key
    this.table = { namespace: dataset.namespace, name: dataset.name }
    this.shown = printName(this.table)
    this.namer = namer
    this.input = input
    this.sameKind = sameKind
    this.notes = notes
  }

  plan(rules: ColumnRules, scoped: readonly string[], deletes: Deletes): PlannedColumns {
    const added = rules.added(this.table)
    const computed = new Map<string, Expression>()
    for (const { name } of this.dataset.fields) {
      const deed = rules.of(this.table, name)
      if (deed && 'compute' in deed) this.compile(name, deed.compute, computed)
    }
    for (const deed of added) if ('compute' in deed) this.compile(deed.add, deed.compute, computed)
    // What tells rows apart at the source is read, whatever becomes of it.
    const looked = new Set([
      ...this.dataset.key,
      ...scoped,
      ...[...computed.values()].flatMap(({ columns }) => columns),
    ])
    for (const field of this.dataset.fields) {
      if (field.notCaptured) {
        this.note(
          'warning',
          `${this.shown}.${field.name} is left out: ${field.notCaptured}.`,
          'Compute it at the target, for example in a view.',
        )
        continue
      }
      if (field.tellsProblem) {
        const { name, type, nativeType, nullable } = field
        this.planned.reads.push({ name, type, nativeType, nullable })
        continue
      }
      const deed = rules.of(this.table, field.name)
      if (deed && 'leave' in deed) this.leaveOut(field, looked)
      else if (deed && 'compute' in deed) this.compute(field, deed.compute, computed, looked)
      else if (deed && 'become' in deed) this.retype(field, deed.become)
      else if (deed) this.mask(field, deed)
      else {
        const limit = this.key.includes(field.name) ? undefined : rules.limitOf(this.table, field)
        if (limit) this.cut(field, limit)
        else this.take(field)
      }
    }
    for (const deed of added) {
      if ('compute' in deed) {
        const { type, nullable } = computed.get(deed.add) ?? { type: TEXT, nullable: true }
        this.add(deed.add, { from: 'computed', expression: deed.compute }, type, nullable)
      } else if ('metadata' in deed) {
        const type = deed.metadata.endsWith('at') ? MOMENT : TEXT
        this.add(deed.add, { from: 'metadata', what: deed.metadata }, type, true)
      } else this.add(deed.add, { from: 'constant', value: deed.constant }, TEXT, deed.constant === null)
    }
    if (typeof deletes === 'object')
      this.add(deletes.mark, { from: 'metadata', what: 'deleted at' }, MOMENT, true)
    return this.planned
  }

  /** What is wrong with an expression is refused in the notes. */
  private compile(name: string, text: string, into: Map<string, Expression>): void {
    const fields = this.dataset.fields.filter(({ notCaptured }) => !notCaptured)
    const compiled = compileExpression(text, fields, one => one)
    if (!isFault(compiled)) {
      into.set(name, compiled)
      return
    }
    const { message, remedy, from } = compiled
    this.note(
      'refused',
      `${this.shown}.${name}, at character ${from + 1} of its expression: ${message}`,
      remedy,
      'columns',
    )
  }

  /** In the place of a column, under its name. */
  private compute(
    { name, type, nativeType, nullable }: Field,
    expression: string,
    computed: ReadonlyMap<string, Expression>,
    looked: ReadonlySet<string>,
  ): void {
    if (this.key.includes(name)) {
      this.note(
        'refused',
        `${this.shown}.${name} is part of the key, and cannot be computed.`,
        'Take it as it is, and add a column that is computed.',
        'columns',
      )
    }
    if (looked.has(name)) this.planned.reads.push({ name, type, nativeType, nullable })
    else this.planned.leftOut.push(name)
    const made = computed.get(name) ?? { type: TEXT, nullable: true }
    this.write(
      name,
      { from: 'computed', expression },
      { type: made.type, nativeType: '', ours: true },
      made.nullable,
    )
  }

  private leaveOut({ name, type, nativeType, nullable }: Field, looked: ReadonlySet<string>): void {
    if (this.key.includes(name)) {
      this.note(
        'refused',
        `${this.shown}.${name} is part of the key, and cannot be left out.`,
        'Mask it by a keyed hash, or leave the table out.',
        'columns',
      )
    }
    // What a scope or an expression looks at is read, and goes no further.
    if (looked.has(name)) this.planned.reads.push({ name, type, nativeType, nullable })
    else this.planned.leftOut.push(name)
  }

  private mask({ name, type, nativeType, nullable }: Field, how: Mask): void {
    const inKey = this.key.includes(name)
    if (inKey && how.mask !== 'hash') {
      this.note(
        'refused',
        `${this.shown}.${name} is part of the key: masked as ${printMask(how)}, rows could not be told apart.`,
        'Mask it by a keyed hash, which keeps different keys different.',
        'columns',
      )
    } else if (inKey) {
      this.note(
        'warning',
        `${this.shown}.${name} is part of the key, and masked: whoever looks at the target cannot tell which row of the source it was.`,
        'The hash is the same wherever this installation masks the value, so that joins still work.',
        'columns',
      )
    }
    this.planned.reads.push({ name, type, nativeType, nullable })
    const value: WrittenValue = { from: 'masked', column: name, how }
    if (how.mask === 'nothing') this.write(name, value, { type, nativeType }, true)
    else {
      const nativeType = how.mask === 'hash' ? `char(${HASH_DIGITS})` : 'text'
      this.write(name, value, { type: TEXT, nativeType, ours: true }, how.mask !== 'constant' && nullable)
    }
  }

  private retype({ name, type, nativeType, nullable }: Field, wanted: string): void {
    const becomes = typeNamed(wanted)
    const shown = `${this.shown}.${name}`
    const remedy = `Name one of ${TYPE_NAMES.join(', ')}, or a decimal such as decimal(12,2).`
    if (!becomes) this.note('refused', `${shown}: there is no type “${wanted}”.`, remedy, 'columns')
    else if (!retypingOf(type, becomes))
      this.note(
        'refused',
        `${shown}: no ${printType(type)} can be a ${printType(becomes)}.`,
        'Choose another type, or compute the column.',
        'columns',
      )
    else if (this.key.includes(name) && !keepsKeysApart(type, becomes))
      this.note(
        'refused',
        `${shown} is part of the key: as ${printType(becomes)}, different keys could become one.`,
        'Take it as it is, and add a column that is computed.',
        'columns',
      )
    this.planned.reads.push({ name, type, nativeType, nullable })
    this.write(
      name,
      { from: 'retyped', column: name },
      { type: becomes ?? type, nativeType: '', ours: true },
      nullable,
    )
  }

  private cut(
    { name, type, nativeType, nullable, collation }: Field,
    { limit, suffix = CUT_SUFFIX }: LimitDeed,
  ): void {
    this.planned.reads.push({ name, type, nativeType, nullable })
    const value: WrittenValue = { from: 'cut', column: name, bytes: limit }
    // Half of a document is none.
    if (type.kind === 'json') this.write(name, value, { type: TEXT, nativeType: '', ours: true }, nullable)
    else this.write(name, value, { type, nativeType, collation }, nullable)
    const written = this.planned.writes.at(-1)!.name
    this.add(
      `${written}${suffix}`,
      { from: 'was cut', column: name, bytes: limit },
      { kind: 'bool' },
      nullable,
    )
  }

  private take({ name, type, nativeType, nullable, collation }: Field): void {
    this.planned.reads.push({ name, type, nativeType, nullable })
    this.write(name, { from: 'column', column: name }, { type, nativeType, collation }, nullable)
  }

  /** `name`: at the source. */
  private write(
    name: string,
    value: WrittenValue,
    { type, nativeType, collation, ours }: Typed,
    nullable: boolean,
  ): void {
    const { planned, table, shown, sameKind } = this
    const { profile, origins } = this.input
    const named = this.namer.column(table, name)
    if (named.refused)
      planned.odd.push(`${named.by.length > 0 ? `${named.name}, from ` : ''}${name} (${named.refused})`)
    const { key } = this
    const keyParts = key.includes(name) ? key.length + (origins.length > 1 ? 1 : 0) : 0
    const mapped = profile.typeOf({
      type,
      nativeType,
      collation,
      sameKind: sameKind && !ours,
      keyParts,
    })
    if (mapped.refused) {
      this.note(
        'refused',
        `${shown}.${name}: ${mapped.refused}.`,
        'Leave the table out, or give it another key at the source that its log tells rows by.',
      )
    }
    this.refuseTwice(named.name)
    const note = mapped.note ? { note: mapped.note } : {}
    planned.writes.push({ name: named.name, type, nativeType: mapped.native, nullable, value, ...note })
    if (!mapped.note) return
    planned.changed.push({
      table,
      column: `${shown}.${name}`,
      becomes: `${nativeType} becomes ${mapped.native}, ${mapped.note}.`,
      remedy: mapped.remedy ?? `It is a ${printType(type)}; queries at the target must cast it.`,
    })
  }

  private add(name: string, value: WrittenValue, type: LogicalType, nullable: boolean): void {
    const named = this.namer.given(name)
    if (named.refused) this.planned.odd.push(`${name} (${named.refused})`)
    this.refuseTwice(named.name)
    const { native } = this.input.profile.typeOf({ type, nativeType: '', sameKind: false, keyParts: 0 })
    this.planned.writes.push({ name: named.name, type, nativeType: native, nullable, value })
  }

  private refuseTwice(name: string): void {
    const nameKey = this.input.profile.nameKey(name)
    if (this.taken.has(nameKey)) {
      this.note(
        'refused',
        `${this.shown} has two columns that both become ${name}.`,
        'Name one of them otherwise by a rule, or leave the table out.',
        'names',
      )
    }
    this.taken.add(nameKey)
  }

  private note(
    level: PlanNote['level'],
    message: string,
    remedy: string,
    section: PlanNote['section'] = 'tables',
  ): void {
    this.notes.push({ level, message, remedy, tables: [this.table], section })
  }
}

/** What is different about columns, said once for all that it is said of. */
export function noteChangedTypes(changed: readonly ChangedType[], notes: PlanNote[]): void {
  for (const group of grouped(changed, ({ becomes, remedy }) => `${becomes} ${remedy}`)) {
    const { becomes, remedy } = group[0]!
    const tables = grouped(group, ({ table }) => printName(table)).map(([one]) => one!.table)
    const message = `${someOf(group.map(({ column }) => column))}: ${becomes}`
    notes.push({ level: 'warning', message, remedy, tables, section: 'tables' })
  }
}
