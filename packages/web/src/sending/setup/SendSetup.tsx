import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { isChangeable } from '@tide/core/definition/definition'
import { MAYS, type SendDefinition } from '@tide/core/definition/send'
import { hinders } from '@tide/core/plan/note'
import type { SendNote } from '@tide/core/send/plan'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { refreshConnections } from '../../api/queries.ts'
import { plural } from '../../format.ts'
import { useWhere } from '../../frame/crumbs.ts'
import { TextButton } from '../../parts/Button.tsx'
import { SelectField } from '../../parts/Field.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { decisions } from '../../pipelines/setup/decisions.ts'
import { Pick } from '../../pipelines/setup/Pick.tsx'
import { Section } from '../../pipelines/setup/Section.tsx'
import { focusName, NameField } from '../../pipelines/setup/NameField.tsx'
import { SetupNote } from '../../pipelines/setup/SetupNote.tsx'
import { StartButton } from '../../pipelines/setup/StartButton.tsx'
import { useKept } from '../../pipelines/setup/useKept.ts'
import { ForeseenFigures, Meets, Reasons } from '../Foreseen.tsx'
import { SendRows } from '../SendRows.tsx'
import type { SendingStatus } from '../status.ts'
import { FieldsSection } from './FieldsSection.tsx'
import { Guard } from './Guard.tsx'
import { MeetsSection } from './MeetsSection.tsx'
import { SentLogChoice } from './SentLogChoice.tsx'
import { useLook } from './useLook.ts'
import { WhatSection } from './WhatSection.tsx'

export const EMPTY_SEND: SendDefinition = {
  version: 2,
  shape: 'send',
  name: '',
  from: '',
  to: '',
  key: [],
  object: '',
  meets: [],
  may: 'create and change',
  fields: [],
}

type SectionName = 'what' | 'where' | 'meets' | 'may' | 'fields'

interface SendSetupProps {
  begin: SendDefinition
  present: SendingStatus | undefined
  connections: ConnectionInfo[]
  connectors: ConnectorInfo[]
  /** For what is new: how to set up another shape. */
  shapes: ReactNode
}

const MAY_SAID: Record<SendDefinition['may'], string> = {
  create: 'Records that are not there yet are created; others are left alone.',
  change: 'Records that are there are changed; none is created.',
  'create and change': 'Records are created where there is none, and changed where there is one.',
  'make identical':
    'As “create and change”; what is no longer in the result is removed, of what this pipeline has sent.',
}

/** The setup of a pipeline that sends, with what its first run would do beside it. */
export function SendSetup({ begin, present, connections, connectors, shapes }: SendSetupProps) {
  const navigate = useNavigate()
  const [definition, setDefinition] = useState(begin)
  const [named, setNamed] = useState(begin.name !== '')
  const [open, setOpen] = useState<SectionName | undefined>(
    begin.what ? (begin.to ? 'fields' : 'where') : 'what',
  )
  const runs = present !== undefined && !isChangeable(present.state)
  const { id, saved, error, flush } = useKept(definition, present?.id, begin, !runs)
  const { look, foreseen, ready } = useLook(definition, id)
  useWhere(
    { title: 'Pipelines', to: '/pipelines' },
    { title: present ? `Setup of ${definition.name}` : 'New pipeline' },
  )
  const to = connections.find(one => one.id === definition.to)
  const from = connections.find(one => one.id === definition.from)
  const takesTables = connectors.find(({ kind }) => kind === from?.kind)?.roles.includes('target')
  const isApp = ({ kind }: ConnectionInfo) => connectors.find(one => one.kind === kind)?.band === 'apps'
  const readable = ({ kind }: ConnectionInfo) => {
    const band = connectors.find(one => one.kind === kind)?.band
    return band === 'databases' || band === 'warehouses'
  }
  const objects = look.data?.objects ?? []
  const object = objects.find(({ name }) => name === definition.object)
  const columns = look.data?.columns ?? []
  const notes = look.data?.notes ?? []
  // What is answered late is added to what was said meanwhile, and takes nothing of that away.
  const change = (part: Partial<SendDefinition>) =>
    setDefinition(before => {
      const next = { ...before, ...part }
      const target = connections.find(one => one.id === next.to)
      return !named && target && next.object ? { ...next, name: `${next.object} of ${target.name}` } : next
    })
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
            ? 'It runs. Stop it, to change its setup; what was sent is remembered. '
            : 'Kept as you type. '}
          {saved}
        </p>
        {shapes}
        <ErrorNotice error={error} />
        <WhatSection
          {...section('what')}
          definition={definition}
          connections={connections.filter(readable)}
          columns={look.data?.columns}
          change={change}
        />
        <Section
          {...section('where')}
          name="where"
          title="Where"
          says={
            to
              ? `${object?.title ?? (definition.object || 'no object yet')} of ${to.name}, ${to.address}`
              : 'not chosen yet'
          }
        >
          <Pick
            label="App"
            connections={connections.filter(isApp)}
            chosen={definition.to}
            choose={chosen =>
              change({
                to: chosen,
                ...(chosen === definition.to ? {} : { object: '', meets: [], fields: [] }),
              })
            }
          />
          {objects.length > 0 && (
            <div className="mt-3 max-w-md">
              <SelectField
                label="Object"
                value={definition.object}
                onChange={event => change({ object: event.target.value, meets: [], fields: [] })}
                options={[
                  ...(object ? [] : [{ value: definition.object, title: 'choose one' }]),
                  ...objects.map(one => ({ value: one.name, title: one.title })),
                ]}
              />
            </div>
          )}
        </Section>
        <MeetsSection
          {...section('meets')}
          definition={definition}
          columns={columns}
          object={object}
          proposed={look.data?.proposed.meets ?? []}
          change={change}
        />
        <Section {...section('may')} name="may" title="Allowed" says={definition.may}>
          <fieldset>
            <legend className="sr-only">What may happen</legend>
            {MAYS.map(may => (
              <label key={may} className="flex items-baseline gap-2.5 border-b border-line py-1.5">
                <input
                  type="radio"
                  name="may"
                  checked={definition.may === may}
                  onChange={() => change({ may })}
                />
                <span className="w-40 font-semibold">{may}</span>
                <span className="text-[13px] text-ink-2">{MAY_SAID[may]}</span>
              </label>
            ))}
          </fieldset>
          <Guard definition={definition} change={change} />
          <SentLogChoice definition={definition} source={takesTables ? from : undefined} change={change} />
        </Section>
        <FieldsSection
          {...section('fields')}
          definition={definition}
          columns={columns}
          object={object}
          objects={objects}
          proposed={look.data?.proposed.fields ?? []}
          notes={notes}
          change={change}
        />
      </main>
      <aside
        className="flex w-[36%] min-w-[320px] flex-col border-l border-line-2 bg-paper-2"
        aria-label="Plan"
      >
        <div className="flex items-baseline gap-4 px-5 pt-4 pb-2">
          <h2 className="text-[16px]">{runs ? 'A run now' : 'The first run'}</h2>
          <span className="ml-auto text-[13px] text-ink-2" role="status">
            {look.isFetching || foreseen.isFetching ? 'comparing …' : decisions(look.data?.notes)}
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-4">
          <ErrorNotice error={look.error ?? foreseen.error} />
          <div className="space-y-1.5">
            {notes.map(note => (
              <Note key={`${note.section} ${note.message}`} note={note} goTo={setOpen} />
            ))}
          </div>
          {foreseen.data && !look.isPlaceholderData && (
            <>
              <ForeseenFigures foreseen={foreseen.data} />
              <p className="text-[13px] text-ink-2">
                {plural(foreseen.data.total, 'row')} in the result. <Meets meets={foreseen.data.meets} />{' '}
                Nothing was written.
              </p>
              <Reasons reasons={foreseen.data.reasons} />
              <SendRows rows={foreseen.data.rows.slice(0, 30)} label="What the first run would do" />
            </>
          )}
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
              verb="Start"
              confirm={undefined}
              start={start}
            />
          )}
          {!runs && ready && !notes.some(hinders) && (
            <p className="mt-1 text-center text-[12px] text-ink-2">
              It then waits: nothing is sent before you ask for a run, or a schedule does.
            </p>
          )}
        </div>
      </aside>
    </>
  )
}

function Note({ note, goTo }: { note: SendNote; goTo: (section: SectionName) => void }) {
  const { section } = note
  const show = () => (section === 'name' ? focusName() : goTo(section))
  return <SetupNote note={note} deeds={<TextButton onClick={show}>Show</TextButton>} />
}
