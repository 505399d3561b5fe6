import type { TwoWayDefinition } from '../definition/two-way.ts'
import { other } from '../merge/rule.ts'
import { SIDES } from './lane.ts'
import { joinName } from './pair.ts'
import type { TwoWayNote } from './note.ts'

/** Fields that two lanes write, of this pipeline or of another. */
export function writtenTwice(
  definition: TwoWayDefinition,
  others: readonly TwoWayDefinition[],
): TwoWayNote[] {
  const writesOf = (one: TwoWayDefinition) =>
    one.lanes.flatMap((lane, i) =>
      SIDES.flatMap(side =>
        lane.fields
          .filter(({ direction }) => direction !== `${side} to ${other(side)}`)
          .map(join => ({
            lane: i,
            join: joinName(join),
            what: JSON.stringify([side === 'a' ? one.from : one.to, lane[side], join[side]]),
            said: `${lane[side]}.${join[side]}`,
            by: one,
          })),
      ),
    )
  const own = writesOf(definition)
  const notes: TwoWayNote[] = []
  for (const [i, write] of own.entries()) {
    const twin = own.slice(0, i).find(({ what }) => what === write.what)
    if (twin)
      notes.push({
        level: 'refused',
        section: 'fields',
        lane: write.lane,
        join: write.join,
        message: `${write.said} is written by two field pairs.`,
        remedy: 'Let one of them write it, or make the other one-way.',
      })
    const foreign = others.flatMap(writesOf).find(({ what }) => what === write.what)
    if (foreign)
      notes.push({
        level: 'warning',
        section: 'fields',
        lane: write.lane,
        join: write.join,
        message: `${write.said} is written by “${foreign.by.name}”, too.`,
        remedy: 'Where both write the same record, an edit may go round. Let one of them write it.',
      })
  }
  return notes
}
