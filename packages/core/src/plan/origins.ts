/** Lanes of several origins that share tables at the target: one structure for all, and a column that tells them apart. */
import type { Namer } from '../naming/namer.ts'
import { printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { printType, type LogicalType } from '../records/types.ts'
import { widest } from '../records/widest.ts'
import type { PlanInput } from './input.ts'
import { laneId, madeOf, type Lane, type WrittenColumn } from './lane.ts'
import { grouped, someOf, type PlanNote } from './note.ts'

export const DEFAULT_ORIGIN_COLUMN = 'origin'

const TEXT: LogicalType = { kind: 'utf8' }

/** Tags that two origins have, and origins that are chosen twice. */
export function refuseTags(tags: readonly string[], notes: PlanNote[]): void {
  for (const [tag, ...others] of grouped(tags, one => one)) {
    if (others.length === 0) continue
    notes.push({
      level: 'refused',
      message: `${others.length + 1} origins have the tag ${tag}.`,
      remedy: 'Give each a tag of its own: rows are told apart by it.',
      section: 'from',
    })
  }
}

/** The notes on each origin's own: what is said of several is said once, with their tags unless it is said of all. */
export function noteOrigins(
  origins: readonly { tag: string; notes: readonly PlanNote[] }[],
  notes: PlanNote[],
): void {
  const said = origins.flatMap(({ tag, notes }) => notes.map(note => ({ tag, note })))
  for (const group of grouped(said, ({ note }) => JSON.stringify(note))) {
    const tags = [...new Set(group.map(({ tag }) => tag))]
    const { note } = group[0]!
    const where = tags.length === origins.length ? '' : `${someOf(tags)}: `
    notes.push({ ...note, message: `${where}${note.message}` })
  }
}

/** The lanes with the origin column, and with what only some origins have. Lanes that do not go together are left out. */
export function joinOrigins(
  lanes: readonly Lane[],
  input: PlanInput,
  namer: Namer,
  notes: PlanNote[],
): Lane[] {
  const joining = new Joining(input, namer, notes)
  const joined = grouped(lanes, ({ source }) => laneId({ source })).flatMap(group => joining.table(group))
  joining.noteAll()
  // Each origin's lanes keep their order.
  const byId = new Map(joined.map(lane => [laneId(lane), lane]))
  return lanes.flatMap(lane => byId.get(laneId(lane)) ?? [])
}

class Joining {
  /** Columns and tables that only some origins have. */
  private readonly partly: { table: DatasetName; what: string; where: string; column: boolean }[] = []
  private readonly input: PlanInput
  private readonly namer: Namer
  private readonly notes: PlanNote[]

  constructor(input: PlanInput, namer: Namer, notes: PlanNote[]) {
    this.input = input
    this.namer = namer
    this.notes = notes
  }

  /** The lanes of one table, each of another origin. */
  table(lanes: readonly Lane[]): Lane[] {
    const { source, key } = lanes[0]!
    const other = lanes.find(lane => lane.key.join('\n') !== key.join('\n'))
    if (other) {
      this.refuse(
        source,
        `The key of ${printName(source)} is ${key.join(', ')} at ${lanes[0]!.origin} and ${other.key.join(', ')} at ${other.origin}.`,
        'Give it one key everywhere, or leave the table out.',
      )
      return []
    }
    if (lanes.length < this.input.origins.length) this.notePartly(source, printName(source), lanes, false)
    const column = this.originColumn(source, lanes)
    const names = [...new Set(lanes.flatMap(({ writes }) => writes.map(({ name }) => name)))]
    const columns = names.map(name => this.column(name, lanes))
    if (!column || columns.includes(undefined)) return []
    return lanes.map(lane => ({
      ...lane,
      writes: [column, ...columns.map(one => one!(lane))],
      key: [column.name, ...key],
    }))
  }

  noteAll(): void {
    for (const [tables, remedy] of [
      [this.partly.filter(({ column }) => !column), 'The rows of the others are simply not there.'],
      [this.partly.filter(({ column }) => column), 'Rows of the other origins have null there.'],
    ] as const) {
      for (const group of grouped(tables, ({ where }) => where)) {
        const message = `${someOf(group.map(({ what }) => what))} ${group.length === 1 ? 'is' : 'are'} only at ${group[0]!.where}.`
        this.notes.push({
          level: 'warning',
          message,
          remedy,
          tables: group.map(({ table }) => table),
          section: 'from',
        })
      }
    }
  }

  private originColumn(source: DatasetName, lanes: readonly Lane[]): WrittenColumn | undefined {
    const { profile, originColumn = DEFAULT_ORIGIN_COLUMN } = this.input
    const { name, refused } = this.namer.given(originColumn)
    const nameKey = profile.nameKey(name)
    const twin = lanes.some(({ writes }) => writes.some(one => profile.nameKey(one.name) === nameKey))
    if (refused || twin) {
      this.refuse(
        source,
        refused
          ? `The target will not take the name ${name} of the origin column: ${refused}.`
          : `${printName(source)} has a column ${name} already, so that it cannot be the origin column's name.`,
        'Name the origin column otherwise.',
      )
      return undefined
    }
    const keyParts = lanes[0]!.key.length + 1
    const { native } = profile.typeOf({ type: TEXT, nativeType: '', sameKind: false, keyParts })
    return { name, type: TEXT, nativeType: native, nullable: false, value: { from: 'origin' } }
  }

  /** One column for all: how each lane writes it. */
  private column(name: string, lanes: readonly Lane[]): ((lane: Lane) => WrittenColumn) | undefined {
    const found = lanes.flatMap(lane => {
      const column = lane.writes.find(one => one.name === name)
      return column ? [{ lane, column }] : []
    })
    const { source, key } = lanes[0]!
    const first = found[0]!.column
    const everywhere = found.length === lanes.length
    if (!everywhere) {
      const shown = `${printName(source)}.${madeOf(first) ?? name}`
      this.notePartly(
        source,
        shown,
        found.map(({ lane }) => lane),
        true,
      )
    }
    const same = found.every(({ column }) => column.nativeType === first.nativeType)
    const type = found.reduce<LogicalType | undefined>(
      (wide, { column }) => wide && widest(wide, column.type),
      first.type,
    )
    const other = found.find(({ column }) => column.nativeType !== first.nativeType)
    if (!type) {
      const odd = found.find(({ column }) => !widest(first.type, column.type)) ?? found[1]!
      this.refuse(
        source,
        `${printName(source)}.${madeOf(first) ?? name} is ${printType(first.type)} at ${found[0]!.lane.origin} and ${printType(odd.column.type)} at ${odd.lane.origin}, and no type takes both as they are.`,
        'Make them one type at the sources, or leave the column out.',
        'columns',
      )
      return undefined
    }
    const keyParts = key.includes(name) ? key.length + 1 : 0
    const nativeType =
      same || !other
        ? first.nativeType
        : this.input.profile.typeOf({ type, nativeType: '', sameKind: false, keyParts }).native
    const nullable = !everywhere || found.some(({ column }) => column.nullable)
    return lane => {
      const own = lane.writes.find(one => one.name === name)
      return { ...(own ?? { name, value: { from: 'constant', value: null } }), type, nativeType, nullable }
    }
  }

  private notePartly(table: DatasetName, what: string, lanes: readonly Lane[], column: boolean): void {
    this.partly.push({ table, what, where: someOf(lanes.map(({ origin = '' }) => origin)), column })
  }

  private refuse(
    table: DatasetName,
    message: string,
    remedy: string,
    section: PlanNote['section'] = 'from',
  ): void {
    this.notes.push({ level: 'refused', message, remedy, tables: [table], section })
  }
}

/** The tables of all origins, each once: as the first has it that has it, with the rows of all. */
export function tablesOfAll(sources: readonly (readonly Dataset[])[]): readonly Dataset[] {
  return sources.length === 1
    ? sources[0]!
    : grouped(sources.flat(), source => laneId({ source })).map(group => ({
        ...group[0]!,
        rows: group.reduce((sum, { rows }) => sum + rows, 0),
        rowsExact: group.every(({ rowsExact }) => rowsExact),
        bytes: group.reduce((sum, { bytes }) => sum + bytes, 0),
      }))
}
