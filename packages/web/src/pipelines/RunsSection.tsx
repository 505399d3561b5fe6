import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { RunKind } from '@tide/core/definition/run'
import { RUN_KINDS } from '@tide/core/definition/run'
import { useState } from 'react'
import { useOutletContext, useParams } from 'react-router'
import { InlineSelect } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { RunFiles } from '../runs/RunFiles.tsx'
import { RunList } from '../runs/RunList.tsx'
import { KINDS } from '../runs/said.ts'
import { useRuns } from '../runs/useRuns.ts'
import { isTwoWay } from '../two-way/status.ts'
import { UndoRun } from '../two-way/UndoRun.tsx'
import { RestorePoints } from '../two-way/RestorePoints.tsx'
import { UndoSpan } from '../two-way/UndoSpan.tsx'

/** What a pipeline did, from beginning to end. */
export function RunsSection() {
  const { id } = useParams()
  const pipeline = useOutletContext<PipelineStatus>()
  const [kind, setKind] = useState<RunKind | ''>('')
  const asked = { pipeline: id!, ...(kind === '' ? {} : { kind }) }
  const runs = useRuns(asked)
  return (
    <div className="py-3">
      <div className="flex items-center gap-4">
        <InlineSelect
          label="Kind of run"
          options={[
            { value: '', title: 'all kinds' },
            ...RUN_KINDS.map(one => ({ value: one, title: KINDS[one] })),
          ]}
          value={kind}
          onChange={event => setKind(event.target.value as RunKind | '')}
        />
        <span className="flex-1" />
        {isTwoWay(pipeline) && <UndoSpan pipeline={pipeline} />}
        <RunFiles asked={asked} />
      </div>
      {isTwoWay(pipeline) && <RestorePoints pipeline={pipeline} />}
      <ErrorNotice error={runs.error} />
      {runs.data?.length === 0 && (
        <p className="py-4 text-ink-2">
          {kind === ''
            ? 'Nothing was done yet. Copies, following, verifications, repairs and rewinds are kept here.'
            : `There is no run of the kind ${KINDS[kind]}.`}
        </p>
      )}
      {runs.data && runs.data.length > 0 && (
        <RunList
          runs={runs.data}
          named={false}
          {...(isTwoWay(pipeline) ? { deeds: run => <UndoRun pipeline={pipeline} run={run} /> } : {})}
        />
      )}
    </div>
  )
}
