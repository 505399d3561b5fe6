import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { isChangeFiles } from '@tide/core/definition/files'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { laneTitle } from '../laneTitle.ts'

export function RecopyLane({ pipeline, lane }: { pipeline: ReplicationStatus; lane: LaneStatus }) {
  const index = pipeline.lanes.indexOf(lane)
  return (
    <Confirm
      trigger={
        <TextButton className="text-[12px]" aria-label={`Recopy ${laneTitle(lane)}`}>
          Recopy
        </TextButton>
      }
      title={`Recopy ${laneTitle(lane)}?`}
      verb={isChangeFiles(pipeline.definition) ? 'Copy it again' : 'Empty and copy it'}
      danger
      act={async () =>
        putPipeline(
          await api<ReplicationStatus>('POST', `/pipelines/${pipeline.id}/recopy`, { lanes: [index] }),
        )
      }
    >
      <p>
        {isChangeFiles(pipeline.definition) ? (
          <>
            The next file of {lane.target.name} says that all begins anew, and its rows are copied behind
            that; the files that are there stay.{' '}
          </>
        ) : (
          <>
            {lane.rowsThere === null ? 'The rows' : plural(lane.rowsThere, 'row')} in {lane.target.name} of{' '}
            {pipeline.toName} are deleted and copied again.{' '}
          </>
        )}
        {pipeline.lanes.length > 1 && 'The other lanes go on meanwhile.'}
      </p>
    </Confirm>
  )
}
