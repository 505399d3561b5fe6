/** The lanes: which source table goes into which target table, and which cannot. */
import { fitName } from '../naming/profile.ts'
import { printName, type Dataset, type DatasetName } from '../records/dataset.ts'
import { planColumns } from './columns.ts'
import { takenFrom, type Lane } from './lane.ts'
import type { PlanNote } from './note.ts'
import type { PlanInput } from './input.ts'

/** The lane of a table; `undefined` when there can be none, and the notes say why. */
export function planLane(
  dataset: Dataset,
  schema: string,
  input: PlanInput,
  notes: PlanNote[],
): Lane | undefined {
  const table: DatasetName = { namespace: dataset.namespace, name: dataset.name }
  const refuse = (message: string, remedy: string) =>
    notes.push({ level: 'refused', message, remedy, table, section: 'tables' })
  const shown = printName(table)
  const fitted = fitName(dataset.name, input.profile.naming)
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
  const { reads, writes, odd } = planColumns(dataset, input, notes)
  if (odd.length > 0) {
    refuse(`The target will not take column names of ${shown}: ${odd.join('; ')}.`, 'Leave the table out.')
  }
  if ('refused' in fitted || odd.length > 0 || untold || dataset.key.length === 0) return undefined
  return {
    source: table,
    target: { namespace: schema, name: fitted.name },
    reads,
    identity: dataset.key,
    writes,
    key: dataset.key.map(name => writes.find(column => takenFrom(column) === name)!.name),
    scope: null,
    rows: dataset.rows,
    rowsExact: dataset.rowsExact,
    bytes: dataset.bytes,
  }
}

export function sameTable({ sameName }: PlanInput['profile'], a: DatasetName, b: DatasetName): boolean {
  return sameName(a.namespace, b.namespace) && sameName(a.name, b.name)
}

/** Target tables that are somebody else's, or two lanes' at once. */
export function refuseTakenTables(lanes: readonly Lane[], input: PlanInput, notes: PlanNote[]): void {
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
