/** What has landed, for the account and for those who want details. */
import { printName } from '@tide/core/records/dataset'
import type { Landing } from './land.ts'
import type { OpenPipeline } from './open.ts'

/** `began`: when its reading began, in milliseconds. */
export function noteLanding({ lanes, runs }: OpenPipeline, { counts }: Landing, began: number): void {
  const beganAt = new Date(began).toISOString()
  for (const [index, count] of counts) {
    const rows = count.inserted + count.updated + count.deleted
    runs.batch('follow', printName(lanes[index]!.plan.source), 'changes', { ...count, rows, beganAt })
  }
  runs.count('follow', { writes: 1 })
}

export function landingSaid(
  { lanes }: OpenPipeline,
  { changes, counts, to, fetched }: Landing,
  ms: number,
): { message: string; lanes: string[] } {
  const some = (sign: string, rows: number) => (rows === 0 ? [] : [`${sign}${rows.toLocaleString('en')}`])
  const of = [...counts].map(([index, { inserted, updated, deleted }]) => ({
    name: printName(lanes[index]!.plan.source),
    said: [...some('+', inserted), ...some('~', updated), ...some('−', deleted)].join(' '),
  }))
  const what = changes === 1 ? '1 change' : `${changes.toLocaleString('en')} changes`
  const rows = fetched ? ', some rows as they stand at the source' : ''
  return {
    message: `Landed ${what} up to ${to.at} in ${(ms / 1000).toFixed(3)} s${rows}: ${of.map(({ name, said }) => `${name} ${said}`).join(', ')}.`,
    lanes: of.map(({ name }) => name),
  }
}
