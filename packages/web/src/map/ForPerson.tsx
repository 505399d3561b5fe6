import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { ReactNode } from 'react'
import { Link } from 'react-router'
import { plural } from '../format.ts'
import { ButtonLink } from '../parts/Button.tsx'
import { waitsForEngine } from '../parts/StateWord.tsx'
import { tablesSaid } from '../pipelines/tablesSaid.ts'

/** What needs a person, one after the other, each with the way there. */
export function ForPerson({
  connections,
  pipelines,
}: {
  connections: ConnectionInfo[]
  pipelines: PipelineStatus[]
}) {
  const items: { id: string; title: ReactNode; text: string; to: string }[] = []
  for (const pipeline of pipelines) {
    const { id, definition, state, reason, retry, engine } = pipeline
    const to = `/pipelines/${id}`
    if (state === 'Stopped' && reason && reason.kind !== 'person') {
      items.push({
        id,
        to,
        title: <span className="text-buoy">{definition.name} stopped</span>,
        text: `${reason.message} ${reason.remedy}`,
      })
    } else if (waitsForEngine(pipeline)) {
      items.push({
        id,
        to,
        title: <span className="text-buoy">{definition.name} waits</span>,
        text: `The engine ${engine!.name} is gone and has ${engine!.affinity}.`,
      })
    } else if (retry) {
      items.push({
        id,
        to,
        title: <span className="text-buoy">{definition.name} tries again</span>,
        text: retry.message,
      })
    } else if (pipeline.send?.asks) {
      items.push({
        id,
        to,
        title: <span className="text-buoy">{definition.name} asks before it sends</span>,
        text: pipeline.send.asks.message,
      })
    } else if (pipeline.send?.held) {
      items.push({
        id,
        to: `${to}/refused`,
        title: `${plural(pipeline.send.held, 'record is', 'records are')} held`,
        text: `Refused by ${pipeline.toName}: ${definition.name}.`,
      })
    } else if (pipeline.twoWay?.held) {
      items.push({
        id,
        to: `${to}/undecided`,
        title: `${plural(pipeline.twoWay.held, 'pair waits', 'pairs wait')} for a decision`,
        text: `${definition.name}: ${pipeline.fromName} and ${pipeline.toName} say it differently.`,
      })
    } else if (state === 'Draft') {
      items.push({
        id,
        to: `${to}/change`,
        title: `${definition.name || 'A draft'} is not started`,
        text: `${tablesSaid(pipeline)} chosen.`,
      })
    } else if (state === 'Paused') {
      items.push({
        id,
        to,
        title: <span className="text-ochre">{definition.name} is paused</span>,
        text: 'The source keeps its changes until it continues.',
      })
    }
  }
  for (const { id, name, lastCheck } of connections) {
    if (lastCheck && lastCheck.failed > 0)
      items.push({
        id,
        to: `/connections/${id}`,
        title: <span className="text-buoy">{name} failed its test</span>,
        text: 'The connection says what is missing.',
      })
  }
  return (
    <aside
      className="w-[236px] shrink-0 overflow-auto border-l border-line-2 px-4 py-3"
      aria-label="For a person"
    >
      <h2 className="border-b border-line-2 pb-1.5 text-[15px]">For a person</h2>
      {items.length === 0 && (
        <p className="py-2.5 text-[13px] text-ink-2">
          {pipelines.length === 0 ? 'Nothing runs yet.' : 'Nothing. What runs, runs by itself.'}
        </p>
      )}
      <ul>
        {items.map(({ id, title, text, to }) => (
          <li key={id} className="border-b border-line py-2.5 text-[13px]">
            <h3>{title}</h3>
            <p className="text-ink-2">
              {text}{' '}
              <Link className="text-link underline" to={to}>
                Open
              </Link>
            </p>
          </li>
        ))}
      </ul>
      {connections.length > 0 && (
        <div className="mt-4">
          <ButtonLink look={pipelines.length === 0 ? 'filled' : 'outlined'} to="/pipelines/new">
            New pipeline
          </ButtonLink>
        </div>
      )}
    </aside>
  )
}
