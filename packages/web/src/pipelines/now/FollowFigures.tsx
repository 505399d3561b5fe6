import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { clock, count, duration, moment, plural } from '../../format.ts'
import { Copyable } from '../../parts/Copyable.tsx'
import { Figure } from '../../parts/Figure.tsx'

export function FollowFigures({ pipeline }: { pipeline: ReplicationStatus }) {
  const {
    lagSeconds,
    backlog,
    committedPerMinute,
    landedPerMinute,
    completeUpTo,
    position,
    consistent,
    state,
  } = pipeline
  const detached = pipeline.lanes.filter(lane => lane.detached || lane.paused).length
  const differs = pipeline.lanes.reduce((sum, lane) => sum + lane.differs, 0)
  const leftOut = pipeline.lanes.reduce((sum, lane) => sum + lane.leftOut, 0)
  return (
    <dl className="flex flex-wrap gap-y-2 py-3">
      <Figure
        label={
          detached > 0
            ? `Complete up to, but for ${plural(detached, 'lane')}`
            : pipeline.definition.does === 'follow'
              ? 'Holds changes up to'
              : differs > 0
                ? `Complete up to, but for ${plural(differs, 'row')}`
                : leftOut > 0
                  ? `Complete up to, but for ${plural(leftOut, 'change')} left out`
                  : consistent || !completeUpTo
                    ? 'Complete up to'
                    : 'Catching up with the copy'
        }
        value={completeUpTo ? clock(completeUpTo) : '–'}
        title={completeUpTo ? `${moment(completeUpTo)}, by the source’s clock` : undefined}
      />
      <Figure label="Lag" value={lagSeconds === null ? 'unknown' : duration(lagSeconds)} />
      <Figure
        label="Backlog"
        value={backlog === null ? 'unknown' : count(backlog)}
        unit={backlog === null ? undefined : 'changes'}
      />
      <Figure
        label="Committed"
        value={state === 'Stopped' ? '–' : count(committedPerMinute)}
        unit="per min"
      />
      <Figure label="Landed" value={state === 'Stopped' ? '–' : count(landedPerMinute)} unit="per min" />
      {pipeline.origins.length === 0 && (
        <Figure
          label="Applied up to"
          value={position ? <Copyable text={position} className="text-[13px]" /> : '–'}
        />
      )}
    </dl>
  )
}
