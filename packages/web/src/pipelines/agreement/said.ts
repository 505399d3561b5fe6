import { agrees, differing, type LaneVerified } from '@tide/core/definition/verification'
import { count, plural } from '../../format.ts'

/** What a verification has found of a lane, in words. */
export function foundSaid(verified: LaneVerified, repaired: number): string {
  const { state, level, atSource, atTarget, equal, held, inMotion, unsettled, problem, waits } = verified
  switch (state) {
    case 'waiting':
      return 'waits for its turn'
    case 'reading':
      return waits ? `waits for ${waits}` : `${count(Math.max(atSource ?? 0, atTarget ?? 0))} rows read`
    case 'settling':
      return waits ? `waits for ${waits}` : 'looks again at what was in question'
    case 'failed':
      return `${problem!.message} ${problem!.remedy}`
    case 'ended':
      return 'ended before it was over'
    case 'done': {
      if (level === 'counts') return countsSaid(atSource, atTarget)
      const found = differing(verified)
      return [
        agrees(verified) === true ? `all ${plural(equal, 'row')} equal` : `${plural(equal, 'row')} equal`,
        ...(found > 0 ? [plural(found, 'differs', 'differ')] : []),
        ...(repaired > 0 ? [`${count(repaired)} repaired since`] : []),
        ...(held > 0 ? [`${count(held)} held`] : []),
        ...(inMotion > 0 ? [`${count(inMotion)} in motion`] : []),
        ...(unsettled > 0 ? [`${count(unsettled)} not looked at, since so many differ`] : []),
      ].join(', ')
    }
  }
}

function countsSaid(atSource: number | null, atTarget: number | null): string {
  if (atSource === null) return 'it never stood still long enough to be counted'
  if (atSource === atTarget) return `${plural(atSource, 'row')} on both sides`
  return `${count(atSource)} at the source, ${count(atTarget ?? 0)} at the target`
}
