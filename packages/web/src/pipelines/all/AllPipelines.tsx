import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useState } from 'react'
import { Link } from 'react-router'
import { useLive } from '../../api/live.ts'
import { ago, count, moment, plural } from '../../format.ts'
import { useWhere } from '../../frame/crumbs.ts'
import { ButtonLink, TextButton } from '../../parts/Button.tsx'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { mainFigure, StateWord } from '../../parts/StateWord.tsx'
import { tablesSaid } from '../tablesSaid.ts'
import { DEEDS } from './deeds.ts'
import { Overview } from './Overview.tsx'
import { TogetherDialog } from './TogetherDialog.tsx'

/** All pipelines in one table, to see how they stand and to do something with many of them. */
export function AllPipelines() {
  useWhere({ title: 'Pipelines' })
  const { pipelines, now } = useLive()
  const [ticked, setTicked] = useState<ReadonlySet<string>>(new Set())
  if (!pipelines) return null
  if (pipelines.length === 0) return <NoPipeline />
  const chosen = pipelines.filter(({ id }) => ticked.has(id))
  const tick = (id: string) => {
    const next = new Set(ticked)
    if (!next.delete(id)) next.add(id)
    setTicked(next)
  }
  const all = chosen.length === pipelines.length
  const columns: Column<PipelineStatus>[] = [
    {
      title: 'Chosen',
      untitled: true,
      cell: ({ id, definition }) => (
        <input
          type="checkbox"
          aria-label={`Choose ${definition.name}`}
          checked={ticked.has(id)}
          onChange={() => tick(id)}
        />
      ),
    },
    {
      title: 'Pipeline',
      cell: ({ id, definition }) => (
        <Link
          className="font-semibold underline decoration-line-2 underline-offset-2"
          to={`/pipelines/${id}`}
        >
          {definition.name || 'Without a name'}
        </Link>
      ),
      by: ({ definition }) => definition.name,
    },
    { title: 'State', cell: one => <StateWord pipeline={one} />, by: ({ state }) => state },
    {
      title: 'From',
      cell: one => one.fromName,
      by: one => one.fromName,
      className: 'max-w-40 overflow-hidden text-ellipsis',
    },
    { title: 'Into', cell: one => one.toName, by: one => one.toName },
    {
      title: 'Tables',
      cell: one => tablesSaid(one).replace(/ tables?$/, ''),
      by: one => one.lanes.length,
      align: 'right',
    },
    { title: 'Lag', cell: one => mainFigure(one) || '–', by: one => one.lagSeconds ?? -1, align: 'right' },
    {
      title: 'Backlog',
      cell: one => (one.backlog === null ? '–' : count(one.backlog)),
      by: one => one.backlog ?? -1,
      align: 'right',
    },
    {
      title: 'Landed a minute',
      cell: one => count(one.landedPerMinute),
      by: one => one.landedPerMinute,
      align: 'right',
    },
    {
      title: 'Complete up to',
      cell: ({ completeUpTo }) =>
        completeUpTo ? <span title={moment(completeUpTo)}>{ago(completeUpTo, now)}</span> : '–',
      by: ({ completeUpTo }) => completeUpTo ?? '',
      align: 'right',
    },
  ]
  return (
    <Overview>
      <div
        className="my-3 flex flex-wrap items-center gap-1 text-[13px]"
        role="group"
        aria-label="With the chosen ones"
      >
        <TextButton
          className="mr-3"
          onClick={() => setTicked(all ? new Set() : new Set(pipelines.map(({ id }) => id)))}
        >
          {all ? 'Choose none' : 'Choose all'}
        </TextButton>
        <span className="mr-2 text-ink-2" role="status">
          {chosen.length === 0
            ? 'Tick pipelines to do something with them together'
            : `${plural(chosen.length, 'pipeline')} chosen`}
        </span>
        {chosen.length > 0 &&
          DEEDS.map(deed => (
            <TogetherDialog
              key={deed.verb}
              deed={deed}
              pipelines={chosen}
              done={() => setTicked(new Set())}
            />
          ))}
      </div>
      <DataTable label="All pipelines" columns={columns} rows={pipelines} rowKey={({ id }) => id} />
    </Overview>
  )
}

function NoPipeline() {
  return (
    <div className="max-w-xl p-8">
      <h1 className="text-[20px]">No pipelines yet</h1>
      <p className="my-3 text-ink-2">
        A pipeline copies the tables you tick from one system into another and then follows every change.
        Before it starts you see all that it would do.
      </p>
      <ButtonLink look="filled" to="/pipelines/new">
        New pipeline
      </ButtonLink>
    </div>
  )
}
