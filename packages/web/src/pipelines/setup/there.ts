import type { LaneRule, There } from '@tide/core/definition/lane-rule'
import { deletesSaid } from './DeletesFields.tsx'

/** What people can say of tables that are at the target already. */
export const ROWS_THERE = [
  { value: 'empty', title: 'are deleted' },
  { value: 'add', title: 'stay, and are updated by key' },
  { value: 'are the copy', title: 'are the copy already' },
]

export const STRUCTURES = [
  { value: 'as it is', title: 'must be as it is needed' },
  { value: 'add what is missing', title: 'gets the columns that are missing' },
  { value: 'make anew', title: 'is made anew' },
]

/** In a sentence: “Rows stay, and are updated by key; the structure must be as it is needed.” */
export function thereSaid({ rows, structure = 'as it is' }: There): string {
  const said = rows === undefined ? 'must be decided on' : titleOf(ROWS_THERE, rows)
  return `Rows ${said}; the structure ${titleOf(STRUCTURES, structure)}.`
}

/** A lane rule in words. */
export function laneRuleSaid(does: LaneRule['does']): string {
  if ('deletes' in does) return `rows that the source deletes ${deletesSaid(does.deletes)}`
  if ('key' in does) return `the key at the target is ${does.key.join(', ')}`
  if ('history' in does) return does.history ? 'every change is kept' : 'changes are not kept'
  if ('rows' in does) return `rows that are there ${titleOf(ROWS_THERE, does.rows)}`
  return `the structure that is there ${titleOf(STRUCTURES, does.structure)}`
}

function titleOf(all: readonly { value: string; title: string }[], value: string): string {
  return all.find(one => one.value === value)!.title
}
