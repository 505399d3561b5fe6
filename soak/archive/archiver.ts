/** A process that archives a table again and again until it is killed. Its starter says where, and under which epoch. */
import type { Lane } from '@tide/core/plan/lane'
import { folder } from '../../packages/connectors/src/folder/connector.ts'
import { postgres } from '../../packages/connectors/src/postgres/connector.ts'
import { archivedLane } from '../../packages/engine/src/shapes/archive/lane.ts'
import { archiveLane } from '../../packages/engine/src/shapes/archive/slices.ts'
import { firstCheckpoint, SharedCheckpoint } from '../../packages/engine/src/shapes/replicate/checkpoint.ts'
import { tableStep } from '@tide/core/plan/steps'

const { source, path, epoch, plan } = JSON.parse(process.argv[2]!) as {
  source: Record<string, unknown>
  path: string
  epoch: number
  plan: Lane
}

const [from, to] = [await postgres.open(source), await folder.open({ path })]
const target = to.target!
let found = await target.takeCheckpoint('archive', epoch, 0)
if (!found) {
  const nowhere = { kind: 'none', incarnation: '', at: '' }
  found = firstCheckpoint('archive', epoch, nowhere, { lanes: [plan], plan: 0, does: 'archive' }, Date.now())
  await target.prepare([tableStep(plan, 'create table')], found)
}
const checkpoint = new SharedCheckpoint(found)
const lane = archivedLane(plan, 0, { origin: '', hash: text => text })
process.send?.('archives')
for (;;) {
  await archiveLane(
    {
      from,
      to,
      target,
      checkpoint,
      removal: from.removal!,
      unheard: true,
      rows: 700,
      now: () => new Date().toISOString(),
    },
    lane,
    new AbortController().signal,
    () => {},
  )
  // When it is through, the next run begins.
  await checkpoint.note(stream => ({
    ...stream,
    lanes: stream.lanes.map(({ archive, ...one }) => ({
      ...one,
      ...(archive ? { archive: { ...archive, after: null } } : {}),
    })),
  }))
}
