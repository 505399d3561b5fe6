import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { isChangeable } from '@tide/core/definition/definition'
import { laneName, type TwoWayDefinition, type TwoWayLane } from '@tide/core/definition/two-way'
import type { TwoWayNote } from '@tide/core/two-way/note'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { refreshConnections } from '../../api/queries.ts'
import { useWhere } from '../../frame/crumbs.ts'
import { Choice } from '../../parts/Choice.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { decisions } from '../../pipelines/setup/decisions.ts'
import { focusName, NameField } from '../../pipelines/setup/NameField.tsx'
import { StartButton } from '../../pipelines/setup/StartButton.tsx'
import { useKept } from '../../pipelines/setup/useKept.ts'
import type { TwoWayPipeline } from '../status.ts'
import { FieldsSection } from './FieldsSection.tsx'
import { GoneSection } from './GoneSection.tsx'
import { PlacesSection } from './PlacesSection.tsx'
import { TwoWayPlan } from './TwoWayPlan.tsx'
import { ThereSection } from './ThereSection.tsx'
import { useForeseen } from './useForeseen.ts'
import { WhoSection } from './WhoSection.tsx'

export type SectionName = 'places' | 'who' | 'fields' | 'there' | 'gone'

interface TwoWaySetupProps {
  begin: TwoWayDefinition
  present: TwoWayPipeline | undefined
  connections: ConnectionInfo[]
  connectors: ConnectorInfo[]
  /** For what is new: how to set up another shape. */
  shapes: ReactNode
}

/** The setup of a pipeline that keeps two places in step, with what its first pass would do beside it. */
export function TwoWaySetup({ begin, present, connections, connectors, shapes }: TwoWaySetupProps) {
  const navigate = useNavigate()
  const [definition, setDefinition] = useState(begin)
  const [named, setNamed] = useState(begin.name !== '')
  const [chosen, setChosen] = useState(0)
  const [open, setOpen] = useState<SectionName | undefined>(begin.lanes.length > 0 ? 'fields' : 'places')
  const runs = present !== undefined && !isChangeable(present.state)
  const { id, saved, error, flush } = useKept(definition, present?.id, begin, !runs)
  const { look, foreseen, ready } = useForeseen(definition, id)
  useWhere(
    { title: 'Pipelines', to: '/pipelines' },
    { title: present ? `Setup of ${definition.name}` : 'New pipeline' },
  )
  const nameOf = (connection: string) => connections.find(one => one.id === connection)?.name
  const called = { a: nameOf(definition.from) ?? 'side A', b: nameOf(definition.to) ?? 'side B' }
  const place = Math.min(chosen, Math.max(0, definition.lanes.length - 1))
  const lane = definition.lanes[place]
  const objectsOf = (side: 'a' | 'b') => look.data?.objects[side] ?? []
  const objects = {
    a: objectsOf('a').find(({ name }) => name === lane?.a),
    b: objectsOf('b').find(({ name }) => name === lane?.b),
  }
  const notes = look.data?.notes ?? []
  // What is answered late is added to what was said meanwhile, and takes nothing of that away.
  const change = (part: Partial<TwoWayDefinition>) =>
    setDefinition(before => {
      const next = { ...before, ...part }
      const [a, b] = [nameOf(next.from), nameOf(next.to)]
      const of = next.lanes[0]
      return !named && a && b && of?.a ? { ...next, name: `${of.a} of ${a} and ${b}` } : next
    })
  const changeLane = (part: Partial<TwoWayLane>) =>
    setDefinition(before => ({
      ...before,
      lanes: before.lanes.map((one, i) => (i === place ? { ...one, ...part } : one)),
    }))
  const start = async () => {
    const kept = await flush()
    putPipeline(await api<PipelineStatus>('POST', `/pipelines/${kept}/start`))
    await refreshConnections()
    await navigate(`/pipelines/${kept}`)
  }
  const section = (name: SectionName) => ({
    open: open === name,
    turn: () => setOpen(open === name ? undefined : name),
  })
  const goTo = ({ section: name, lane: of }: Pick<TwoWayNote, 'section' | 'lane'>) => {
    if (of !== undefined) setChosen(of)
    if (name === 'name') focusName()
    else setOpen(name)
  }
  const now = foreseen.data?.lanes.find(one => lane && one.lane === laneName(lane))
  const hasPlaces = ({ kind }: ConnectionInfo) =>
    ['apps', 'databases'].includes(connectors.find(one => one.kind === kind)?.band ?? '')
  return (
    <>
      <main className="min-w-0 flex-1 overflow-auto px-7 py-4">
        <h1 className="sr-only">{definition.name || 'A new pipeline'}</h1>
        <NameField
          name={definition.name}
          change={name => {
            setNamed(true)
            change({ name })
          }}
        />
        <p className="mb-3 text-[13px] text-ink-2">
          {runs
            ? 'It runs. Stop it, to change its setup; what is paired is remembered. '
            : 'Kept as you type. '}
          {saved}
        </p>
        {shapes}
        <ErrorNotice error={error} />
        <PlacesSection
          {...section('places')}
          definition={definition}
          chosen={place}
          choose={setChosen}
          connections={connections.filter(hasPlaces)}
          fixed={typeof present?.startedAt === 'string'}
          called={called}
          objects={{ a: objectsOf('a'), b: objectsOf('b') }}
          makes={look.data?.makes ?? {}}
          starters={look.data?.starters ?? []}
          begin={lanes => {
            change({ lanes })
            setChosen(0)
            setOpen('fields')
          }}
          change={change}
        />
        {lane && objects.a && objects.b && (
          <>
            {definition.lanes.length > 1 && (
              <div className="flex items-baseline gap-4 border-t border-line-2 py-2.5">
                <span className="w-[78px] text-[14px] font-semibold">Lane</span>
                <Choice
                  label="Lane that the sections are of"
                  options={definition.lanes.map(laneName)}
                  chosen={place}
                  choose={setChosen}
                />
              </div>
            )}
            <WhoSection
              {...section('who')}
              lane={lane}
              objects={{ a: objects.a, b: objects.b }}
              called={called}
              foreseen={now}
              change={changeLane}
            />
            <FieldsSection
              {...section('fields')}
              lane={lane}
              objects={{ a: objects.a, b: objects.b }}
              called={called}
              notes={notes.filter(note => note.lane === place)}
              proposed={look.data?.proposed[place] ?? []}
              foreseen={now}
              connections={{ a: definition.from, b: definition.to }}
              makes={look.data?.makes ?? {}}
              change={changeLane}
            />
            <ThereSection
              {...section('there')}
              lane={lane}
              objects={{ a: objects.a, b: objects.b }}
              called={called}
              foreseen={now}
              change={changeLane}
            />
            <GoneSection
              {...section('gone')}
              lane={lane}
              definition={definition}
              objects={{ a: objects.a, b: objects.b }}
              called={called}
              change={changeLane}
              changeAll={change}
            />
          </>
        )}
      </main>
      <aside
        className="flex w-[33%] min-w-[320px] flex-col border-l border-line-2 bg-paper-2"
        aria-label="Plan"
      >
        <div className="flex items-baseline gap-4 px-5 pt-4 pb-2">
          <h2 className="text-[16px]">{runs ? 'A whole pass now' : 'The first pass'}</h2>
          <span className="ml-auto text-[13px] text-ink-2" role="status">
            {look.isFetching || foreseen.isFetching ? 'comparing …' : decisions(look.data?.notes)}
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-4">
          <ErrorNotice error={look.error ?? foreseen.error} />
          <TwoWayPlan
            notes={notes}
            foreseen={foreseen.data}
            captures={look.data?.captures ?? {}}
            called={called}
            definition={definition}
            goTo={goTo}
          />
        </div>
        <div className="border-t border-line-2 px-5 py-3">
          {runs ? (
            <p className="text-[13px] text-ink-2">
              “{definition.name}” is {present.state.toLowerCase()}.
            </p>
          ) : (
            <StartButton
              plan={look.data?.notes}
              ready={ready}
              failed={Boolean(look.error)}
              verb={
                foreseen.data ? `Start with these ${foreseen.data.records.now.toLocaleString('en')}` : 'Start'
              }
              confirm={undefined}
              start={start}
            />
          )}
        </div>
      </aside>
    </>
  )
}
