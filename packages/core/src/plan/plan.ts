/** From a definition and two catalogues to everything a start would do. A plain value: tested, shown, then carried out. */
import { fitName, type NamingProfile } from '../naming/profile.ts'
import { datasetId, printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { printType, type LogicalType } from '../records/types.ts'
import type { MappedType, ToMap } from '../shape/mapped.ts'

export interface LaneColumn {
  source: string
  target: string
  type: LogicalType
  nativeType: string
  targetType: string
  nullable: boolean
  note?: string
}

/** One source table to one target table. */
export interface Lane {
  source: DatasetName
  target: DatasetName
  columns: LaneColumn[]
  /** Source column names, in key order. */
  key: string[]
  rows: number
  rowsExact: boolean
  bytes: number
}

/** A step that prepares the target. */
export type PrepareStep =
  | { step: 'create schema'; schema: string }
  /** `replace table` drops the pipeline's own table with its rows and makes it anew. */
  | { step: 'create table' | 'replace table'; table: DatasetName; columns: LaneColumn[]; key: string[] }

/** A thing to know before the start. What is refused or undecided stands in the way of it; losses and warnings do not. */
export interface PlanNote {
  /** `loss`: rows that are there now go. */
  level: 'refused' | 'undecided' | 'loss' | 'warning'
  message: string
  remedy: string
  /** The table it is about; the setup can take it out or scroll to it. */
  table?: DatasetName
  /** Which section of the setup answers it. */
  section: 'from' | 'to' | 'tables' | 'name'
}

export interface Plan {
  lanes: Lane[]
  steps: PrepareStep[]
  notes: PlanNote[]
  rows: number
  bytes: number
}

/** What the plan must know about the target beside its catalogue. */
export interface TargetProfile {
  naming: NamingProfile
  typeOf(column: ToMap): MappedType
  /** Equal for names that the target takes for the same. */
  sameName(a: string, b: string): boolean
}

/** A target table that another pipeline writes to. */
export interface Claim {
  pipeline: string
  table: DatasetName
}

export interface PlanInput {
  tables: readonly DatasetName[]
  targetSchema: string
  /** Source and target are of one kind, so that the source's own types are the target's. */
  sameKind: boolean
  source: readonly Dataset[]
  target: readonly Dataset[]
  /** Schemas there are at the target. */
  targetSchemas: readonly string[]
  profile: TargetProfile
  claims: readonly Claim[]
  /** Tables this very pipeline has made before; they are replaced. */
  own: readonly DatasetName[]
}

/** Most harm first. */
const HARM: PlanNote['level'][] = ['refused', 'undecided', 'loss', 'warning']

/** Whether a plan with this note cannot be started. */
export function hinders(note: PlanNote): boolean {
  return note.level === 'refused' || note.level === 'undecided'
}

/** Computes the plan. Never throws: what cannot be done is a refusal in `notes`, in order of harm. */
export function makePlan(input: PlanInput): Plan {
  const notes: PlanNote[] = []
  const schema = fitTargetSchema(input, notes)
  const byId = new Map(input.source.map(dataset => [datasetId(dataset), dataset]))
  const lanes: Lane[] = []
  for (const name of input.tables) {
    const dataset = byId.get(datasetId(name))
    if (!dataset) {
      notes.push({
        level: 'refused',
        message: `${printName(name)} is not there any more.`,
        remedy: 'Leave it out, or create it at the source and look again.',
        table: name,
        section: 'tables',
      })
      continue
    }
    const lane = planLane(dataset, schema, input, notes)
    if (lane) lanes.push(lane)
  }
  if (input.tables.length === 0) {
    notes.push({
      level: 'undecided',
      message: 'No table is chosen.',
      remedy: 'Tick at least one.',
      section: 'tables',
    })
  }
  refuseTakenTables(lanes, input, notes)
  const steps: PrepareStep[] = []
  if (schema && !input.targetSchemas.some(there => input.profile.sameName(there, schema))) {
    steps.push({ step: 'create schema', schema })
  }
  for (const lane of lanes) {
    const key = lane.key.map(name => lane.columns.find(column => column.source === name)!.target)
    const replaced = input.target.find(there => sameTable(input.profile, there, lane.target))
    steps.push({
      step: replaced ? 'replace table' : 'create table',
      table: lane.target,
      columns: lane.columns,
      key,
    })
    if (!replaced || !input.own.some(own => sameTable(input.profile, own, lane.target))) continue
    notes.push({
      level: 'loss',
      message: `${printName(lane.target)} and its ${replaced.rows} rows are replaced.`,
      remedy: 'This pipeline made it; it is made and copied anew.',
      table: lane.source,
      section: 'to',
    })
  }
  notes.sort((a, b) => HARM.indexOf(a.level) - HARM.indexOf(b.level))
  return {
    lanes,
    steps,
    notes,
    rows: lanes.reduce((sum, lane) => sum + lane.rows, 0),
    bytes: lanes.reduce((sum, lane) => sum + lane.bytes, 0),
  }
}

function fitTargetSchema(input: PlanInput, notes: PlanNote[]): string {
  const fitted = fitName(input.targetSchema, input.profile.naming)
  if ('refused' in fitted) {
    notes.push({
      level: input.targetSchema === '' ? 'undecided' : 'refused',
      message:
        input.targetSchema === ''
          ? 'No target schema is named.'
          : `The target will not take the schema name ${input.targetSchema}: ${fitted.refused}.`,
      remedy: 'Name another schema.',
      section: 'to',
    })
  }
  return fitted.name
}

function planLane(
  dataset: Dataset,
  schema: string,
  { profile, sameKind }: PlanInput,
  notes: PlanNote[],
): Lane | undefined {
  const table: DatasetName = { namespace: dataset.namespace, name: dataset.name }
  const refuse = (message: string, remedy: string) =>
    notes.push({ level: 'refused', message, remedy, table, section: 'tables' })
  const shown = printName(table)
  const fitted = fitName(dataset.name, profile.naming)
  if ('refused' in fitted) {
    refuse(`The target will not take the name of ${shown}: ${fitted.refused}.`, 'Leave it out.')
  }
  if (dataset.key.length === 0) {
    const why = dataset.keyNote ?? 'Changes to its rows cannot be told apart.'
    refuse(`${shown} has no key. ${why}`, 'Leave it out, or give it a primary key at the source.')
  }
  if (dataset.notFollowed) {
    refuse(
      `${shown} cannot be followed: ${dataset.notFollowed}.`,
      'Leave it out, or change that at the source.',
    )
  }
  if (dataset.unseen) {
    notes.push({
      level: 'warning',
      message: `${shown}: ${dataset.unseen}.`,
      remedy: 'Recopy the lane after it.',
      table,
      section: 'tables',
    })
  }
  const untold = dataset.fields.find(({ name, notCaptured }) => notCaptured && dataset.key.includes(name))
  if (untold) {
    refuse(
      `${shown}.${untold.name} is part of the key, and left out: ${untold.notCaptured}.`,
      'Leave the table out, or give it another key at the source.',
    )
  }
  const columns: LaneColumn[] = []
  const odd: string[] = []
  for (const field of dataset.fields) {
    if (field.notCaptured) {
      notes.push({
        level: 'warning',
        message: `${shown}.${field.name} is left out: ${field.notCaptured}.`,
        remedy: 'Compute it at the target, for example in a view.',
        table,
        section: 'tables',
      })
      continue
    }
    const column = fitName(field.name, profile.naming)
    if ('refused' in column) odd.push(`${field.name} (${column.refused})`)
    const { type, nativeType, collation } = field
    const keyParts = dataset.key.includes(field.name) ? dataset.key.length : 0
    const mapped = profile.typeOf({ type, nativeType, collation, sameKind, keyParts })
    if (mapped.refused) {
      refuse(
        `${shown}.${field.name}: ${mapped.refused}.`,
        'Leave the table out, or give it another key at the source that its log tells rows by.',
      )
    }
    if (columns.some(other => profile.sameName(other.target, column.name))) {
      refuse(`${shown} has two columns that both become ${column.name}.`, 'Leave it out.')
    }
    columns.push({
      source: field.name,
      target: column.name,
      type: field.type,
      nativeType: field.nativeType,
      targetType: mapped.native,
      nullable: field.nullable,
      ...(mapped.note ? { note: mapped.note } : {}),
    })
    if (mapped.note) {
      notes.push({
        level: 'warning',
        message: `${shown}.${field.name}: ${field.nativeType} becomes ${mapped.native}, ${mapped.note}.`,
        remedy: mapped.remedy ?? `It is a ${printType(field.type)}; queries at the target must cast it.`,
        table,
        section: 'tables',
      })
    }
  }
  if (odd.length > 0) {
    refuse(`The target will not take column names of ${shown}: ${odd.join('; ')}.`, 'Leave the table out.')
  }
  if ('refused' in fitted || odd.length > 0 || untold || dataset.key.length === 0) return undefined
  return {
    source: table,
    target: { namespace: schema, name: fitted.name },
    columns,
    key: dataset.key,
    rows: dataset.rows,
    rowsExact: dataset.rowsExact,
    bytes: dataset.bytes,
  }
}

function sameTable(profile: TargetProfile, a: DatasetName, b: DatasetName): boolean {
  return profile.sameName(a.namespace, b.namespace) && profile.sameName(a.name, b.name)
}

function refuseTakenTables(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): void {
  const same = (a: DatasetName, b: DatasetName) => sameTable(input.profile, a, b)
  lanes.forEach((lane, index) => {
    const refuse = (message: string, remedy: string) =>
      notes.push({ level: 'refused', message, remedy, table: lane.source, section: 'to' })
    const twin = lanes.slice(0, index).find(other => same(other.target, lane.target))
    if (twin) {
      refuse(
        `${printName(twin.source)} and ${printName(lane.source)} would both go into ${printName(lane.target)}.`,
        'Leave one of them out.',
      )
    }
    const claim = input.claims.find(other => same(other.table, lane.target))
    if (claim) {
      refuse(
        `${printName(lane.target)} belongs to the pipeline “${claim.pipeline}”.`,
        'Choose another target schema, or delete that pipeline first.',
      )
      return
    }
    const present = input.target.find(dataset => same(dataset, lane.target))
    if (present && !input.own.some(own => same(own, lane.target))) {
      refuse(
        `${printName(lane.target)} exists already, with ${present.rows} rows that no pipeline of ours put there.`,
        'Choose another target schema; nothing that exists is overwritten.',
      )
    }
  })
}
