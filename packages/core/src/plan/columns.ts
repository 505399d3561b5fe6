/** The columns of a lane: what is read, what is written, and what is to be said of it. */
import { fitName } from '../naming/profile.ts'
import type { Column } from '../records/column.ts'
import { printName, type Dataset } from '../records/dataset.ts'
import { printType } from '../records/types.ts'
import type { WrittenColumn } from './lane.ts'
import type { PlanNote } from './note.ts'
import type { PlanInput } from './input.ts'

export interface PlannedColumns {
  reads: Column[]
  writes: WrittenColumn[]
  /** Column names that the target will not take, each with the reason. */
  odd: string[]
}

/** Every column that is captured is read and taken. */
export function planColumns(
  { namespace, name, fields, key }: Dataset,
  { profile, sameKind }: Pick<PlanInput, 'profile' | 'sameKind'>,
  notes: PlanNote[],
): PlannedColumns {
  const table = { namespace, name }
  const shown = printName(table)
  const note = (level: PlanNote['level'], message: string, remedy: string) =>
    notes.push({ level, message, remedy, table, section: 'tables' })
  const planned: PlannedColumns = { reads: [], writes: [], odd: [] }
  const { reads, writes, odd } = planned
  for (const { name, type, nativeType, nullable, collation, notCaptured } of fields) {
    if (notCaptured) {
      note(
        'warning',
        `${shown}.${name} is left out: ${notCaptured}.`,
        'Compute it at the target, for example in a view.',
      )
      continue
    }
    const fitted = fitName(name, profile.naming)
    if ('refused' in fitted) odd.push(`${name} (${fitted.refused})`)
    const keyParts = key.includes(name) ? key.length : 0
    const mapped = profile.typeOf({ type, nativeType, collation, sameKind, keyParts })
    if (mapped.refused) {
      note(
        'refused',
        `${shown}.${name}: ${mapped.refused}.`,
        'Leave the table out, or give it another key at the source that its log tells rows by.',
      )
    }
    if (writes.some(other => profile.sameName(other.name, fitted.name)))
      note('refused', `${shown} has two columns that both become ${fitted.name}.`, 'Leave it out.')
    reads.push({ name, type, nativeType, nullable })
    writes.push({
      name: fitted.name,
      type,
      nativeType: mapped.native,
      nullable,
      value: { from: 'column', column: name },
      ...(mapped.note ? { note: mapped.note } : {}),
    })
    if (!mapped.note) continue
    note(
      'warning',
      `${shown}.${name}: ${nativeType} becomes ${mapped.native}, ${mapped.note}.`,
      mapped.remedy ?? `It is a ${printType(type)}; queries at the target must cast it.`,
    )
  }
  return planned
}
