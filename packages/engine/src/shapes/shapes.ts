import { Archive } from './archive/archive.ts'
import { Replicate } from './replicate/replicate.ts'
import { Send } from './send/send.ts'
import { TwoWay } from './two-way/two-way.ts'
import type { ReplicationRun, Run, SendingRun, ShapeRun, TwoWayRun } from './shape.ts'

export function shapeOf(run: Run): ShapeRun {
  if (isSending(run)) return new Send(run)
  if (isTwoWay(run)) return new TwoWay(run)
  if (!isReplicating(run)) throw new Error(`nothing runs a pipeline of the shape of ${run.record.id}`)
  // What moves rows away shares the plan of what copies them, and nothing of how it runs.
  return run.record.definition.does === 'archive' ? new Archive(run) : new Replicate(run)
}

function isSending(run: Run): run is SendingRun {
  return run.record.definition.shape === 'send'
}

function isTwoWay(run: Run): run is TwoWayRun {
  return run.record.definition.shape === 'two-way'
}

function isReplicating(run: Run): run is ReplicationRun {
  return run.record.definition.shape === 'replicate'
}
