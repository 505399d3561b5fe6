/** Going on from another position: an earlier one, or a later one whose changes in between are left out. */
import { Failure } from '@tide/core/failure'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { detachedLanes, rewound, skipped } from './checkpoint.ts'
import { lanesTogether } from './follow.ts'
import { followedTables } from './lanes.ts'
import { writeCheckpoint, type OpenPipeline } from './open.ts'

/** What is applied again leaves the same rows, as changes are upserts. Says what was done. Repeating it is safe. */
export async function rewind(open: OpenPipeline, to: Position, reason: string | null): Promise<string> {
  const { id, source, checkpoint } = open
  const { now } = checkpoint
  if (now.lanes.some(({ paused }) => paused))
    throw new Failure('refused', 'Some lanes stand still.', 'Let them go on, or copy them again, first.')
  if (detachedLanes(now).length > 0 || now.lanes.some(({ copied }) => !copied)) {
    throw new Failure('refused', 'Some tables are still being copied.', 'Wait until they are copied.')
  }
  const tables = followedTables(lanesTogether(open))
  switch (comparePositions(to, now.position)) {
    case 'same':
      return `It stands at ${to.at}.`
    case 'unknown':
      throw new Failure(
        'refused',
        `${to.at} is a position of another source, or of another incarnation of this one.`,
        'Choose one of those that are listed.',
      )
    case 'before': {
      const covered = await source.reachBack(id, tables, to)
      const next = await source.nextAt(to)
      await writeCheckpoint(open, stream => rewound(stream, to, next, covered))
      return `Rewound from ${now.position.at} to ${to.at}.`
    }
    case 'after': {
      if (reason === null) {
        throw new Failure(
          'refused',
          `${to.at} lies ahead: changes up to there would be left out.`,
          'Say why they are.',
        )
      }
      const changes = await source.changesBetween(tables, now.position, to)
      await writeCheckpoint(open, stream => skipped(stream, to, changes))
      const left = changes.reduce((sum, n) => sum + n, 0).toLocaleString('en')
      return `Went forward from ${now.position.at} to ${to.at}; ${left} changes are left out: ${reason}`
    }
  }
}
