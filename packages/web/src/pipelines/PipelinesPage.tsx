import type { PipelineStatus } from '@tide/core/api/pipelines'
import { Outlet, useNavigate } from 'react-router'
import { useLive } from '../api/live.ts'
import { count, plural } from '../format.ts'
import { Ledger } from '../frame/Ledger.tsx'
import { TextButton } from '../parts/Button.tsx'
import { DepthStrip } from '../parts/DepthStrip.tsx'
import { mainFigure, StateWord } from '../parts/StateWord.tsx'
import { tablesSaid } from './tablesSaid.ts'

export function PipelinesPage() {
  const pipelines = useLive(live => live.pipelines) ?? []
  const navigate = useNavigate()
  const rows = pipelines.map(pipeline => ({
    id: pipeline.id,
    to: `/pipelines/${pipeline.id}`,
    text: [
      pipeline.definition.name,
      pipeline.fromName,
      pipeline.toName,
      ...(pipeline.lanes.length > 0
        ? pipeline.lanes.map(({ source }) => source)
        : 'tables' in pipeline.definition
          ? pipeline.definition.tables
          : []
      ).map(({ namespace, name }) => `${namespace}.${name}`),
    ].join(' '),
    content: <Row pipeline={pipeline} />,
  }))
  return (
    <>
      <Ledger
        title="Pipelines"
        action={<TextButton onClick={() => navigate('/pipelines/new')}>New pipeline</TextButton>}
        rows={rows}
        findLabel="Find by name, table or connection"
        empty="A pipeline keeps tables of one system in sync with another."
      />
      <main className="min-w-0 flex-1 overflow-auto">
        <Outlet />
      </main>
    </>
  )
}

/** Of one that works in apps: how much of what stands there. */
function sentSaid({ definition, send, twoWay }: PipelineStatus): string | undefined {
  if (typeof twoWay?.pairs === 'number') return plural(twoWay.pairs, 'pair')
  if (definition.shape !== 'send' || typeof send?.sent !== 'number') return undefined
  return `${count(send.sent)} ${definition.object}`
}

function Row({ pipeline }: { pipeline: PipelineStatus }) {
  const { definition, strip, state } = pipeline
  const note =
    (state === 'Draft' ? undefined : pipeline.reason?.message) ?? sentSaid(pipeline) ?? tablesSaid(pipeline)
  return (
    <>
      <span className="flex justify-between gap-2 font-semibold">
        <span className="overflow-hidden text-ellipsis whitespace-nowrap">
          {definition.name || 'Without a name'}
        </span>
        <span className="whitespace-nowrap">{mainFigure(pipeline)}</span>
      </span>
      <span className="mb-1 flex justify-between gap-3 text-[13px] text-ink-2">
        <StateWord pipeline={pipeline} />
        <span className="overflow-hidden text-ellipsis whitespace-nowrap">{note}</span>
      </span>
      {definition.shape === 'replicate' && <DepthStrip lags={strip} label="Lag in the last hour" />}
    </>
  )
}
