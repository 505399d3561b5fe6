import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { isChangeable, type Definition } from '@tide/core/definition/definition'
import { hinders } from '@tide/core/plan/note'
import type { PlanNote } from '@tide/core/plan/note'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api } from '../api/client.ts'
import { putPipeline, useLive, usePipeline } from '../api/live.ts'
import { lookAgain, refreshConnections, useCatalogue, useConnections, useConnectors } from '../api/queries.ts'
import { bytes, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { TextField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { PlanMargin } from './PlanMargin.tsx'
import { TableTree } from './TableTree.tsx'
import { usePlan } from './usePlan.ts'

const EMPTY: Definition = {
  version: 2,
  shape: 'replicate',
  name: '',
  from: '',
  to: '',
  targetSchema: '',
  tables: [],
}
const SAVE_AFTER_MS = 400

/** Loads what there is to begin with, then shows the setup. */
export function SetupPage() {
  const { id } = useParams()
  const [search] = useSearchParams()
  const pipeline = usePipeline(id)
  const known = useLive(live => live.pipelines !== undefined)
  const connections = useConnections().data
  const connectors = useConnectors().data
  if (!known || !connections || !connectors) return null
  if (id && !pipeline) return <p className="p-8 text-ink-2">This pipeline is not there any more.</p>
  const begin = pipeline?.definition ?? { ...EMPTY, from: search.get('from') ?? '' }
  return <Setup begin={begin} present={pipeline} connections={connections} connectors={connectors} />
}

type SectionName = 'from' | 'to' | 'tables'

interface SetupProps {
  begin: Definition
  present: PipelineStatus | undefined
  connections: ConnectionInfo[]
  connectors: ConnectorInfo[]
}

function Setup({ begin, present, connections, connectors }: SetupProps) {
  const navigate = useNavigate()
  const [definition, setDefinition] = useState(begin)
  const [named, setNamed] = useState(begin.name !== '')
  const [open, setOpen] = useState<SectionName | undefined>(
    begin.from === '' ? 'from' : begin.to === '' ? 'to' : 'tables',
  )
  const adding = present !== undefined && !isChangeable(present.state)
  const { id, saved, error: saveError, flush } = useKept(definition, present?.id, begin, !adding)
  const plan = usePlan(definition, id)
  const catalogue = useCatalogue(definition.from)
  const from = connections.find(connection => connection.id === definition.from)
  const to = connections.find(connection => connection.id === definition.to)
  useWhere(
    { title: 'Pipelines', to: '/pipelines' },
    { title: present ? `Setup of ${definition.name}` : 'New pipeline' },
  )

  const change = (part: Partial<Definition>) => {
    const next = { ...definition, ...part }
    const [nextFrom, nextTo] = [next.from, next.to].map(
      one => connections.find(connection => connection.id === one)?.name,
    )
    if (!named && nextFrom && nextTo) next.name = `${nextFrom} to ${nextTo}`
    setDefinition(next)
  }
  const inRole = (role: 'source' | 'target') =>
    connections.filter(({ kind }) =>
      connectors.find(connector => connector.kind === kind)?.roles.includes(role),
    )
  const start = async () => {
    const saved = await flush()
    const { tables } = definition
    const [deed, body] = adding ? ['extend', { tables }] : ['start', { plan: plan.data?.digest }]
    const started = api<PipelineStatus>('POST', `/pipelines/${saved}/${deed}`, body)
    // What is refused may be so because the systems are not what the plan was made of.
    putPipeline(await started.catch(error => plan.refetch().then(() => Promise.reject(error))))
    await refreshConnections()
    await navigate(`/pipelines/${saved}`)
  }
  const chosen = definition.tables.length
  const ids = new Set(definition.tables.map(datasetId))
  const size = (catalogue.data?.datasets ?? []).filter(dataset => ids.has(datasetId(dataset)))
  const section = (name: SectionName) => ({
    name,
    open: open === name,
    ...(adding && name !== 'tables' ? {} : { turn: () => setOpen(open === name ? undefined : name) }),
  })
  return (
    <>
      <main className="min-w-0 flex-1 overflow-auto px-7 py-4">
        <h1 className="sr-only">{definition.name || 'A new pipeline'}</h1>
        <input
          aria-label="Name of the pipeline"
          placeholder="Name of the pipeline"
          className="w-full border-b border-transparent bg-transparent text-[20px] font-semibold hover:border-line-2"
          readOnly={adding}
          value={definition.name}
          onChange={event => {
            setNamed(true)
            change({ name: event.target.value })
          }}
        />
        <p className="mb-3 text-[13px] text-ink-2">
          {adding
            ? 'It runs, and goes on while tables are added. To change anything else, stop it first.'
            : present && present.state !== 'Draft'
              ? 'Starting again replaces what was copied before. '
              : 'Draft, kept as you type. '}
          {saved}
        </p>
        <ErrorNotice error={saveError} />
        <Section
          {...section('from')}
          title="From"
          says={from ? `${from.name}, ${from.address}` : 'not chosen yet'}
        >
          <Pick
            label="Source"
            connections={inRole('source')}
            chosen={definition.from}
            choose={chosen => {
              change({ from: chosen, ...(chosen === definition.from ? {} : { tables: [] }) })
              setOpen(definition.to === '' ? 'to' : 'tables')
            }}
          />
        </Section>
        <Section
          {...section('to')}
          title="To"
          says={
            to
              ? `${to.name}${definition.targetSchema ? `, schema ${definition.targetSchema}` : ', no schema named'}`
              : 'not chosen yet'
          }
        >
          <Pick
            label="Target"
            connections={inRole('target')}
            chosen={definition.to}
            choose={chosen => change({ to: chosen })}
          />
          <div className="mt-3 max-w-72">
            <TextField
              label="Schema at the target"
              mono
              value={definition.targetSchema}
              onChange={event => change({ targetSchema: event.target.value })}
              hint="Takes all the tables; it is made if it is not there."
            />
          </div>
        </Section>
        <Section
          {...section('tables')}
          title="Tables"
          says={
            chosen === 0
              ? 'none ticked yet'
              : `${plural(chosen, 'table')}, ${plural(
                  size.reduce((sum, one) => sum + one.rows, 0),
                  'row',
                )}, ${bytes(size.reduce((sum, one) => sum + one.bytes, 0))}`
          }
        >
          <ErrorNotice error={catalogue.error} />
          {definition.from === '' && <p className="text-ink-2">Choose a source first.</p>}
          {definition.from !== '' && catalogue.isPending && (
            <p className="text-ink-2">Reading the catalogue …</p>
          )}
          {catalogue.data && (
            <TableTree
              datasets={catalogue.data.datasets}
              chosen={definition.tables}
              fixed={adding ? begin.tables : []}
              change={tables => change({ tables })}
              lookAgain={() => void lookAgain(definition.from).catch(() => catalogue.refetch())}
            />
          )}
        </Section>
        <Section
          name="start"
          title="Start"
          says={
            adding
              ? 'copy what is there in the added tables, then follow them with the others'
              : 'copy what is there, then follow every change'
          }
        />
      </main>
      <aside
        className="flex w-[33%] min-w-[320px] flex-col border-l border-line-2 bg-paper-2"
        aria-label="Plan"
      >
        <div className="flex items-baseline justify-between px-5 pt-4 pb-2">
          <h2 className="text-[16px]">Plan</h2>
          <span className="text-[13px] text-ink-2" role="status">
            {plan.isFetching ? 'recomputing …' : decisions(plan.data?.notes)}
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-4">
          <PlanMargin
            plan={plan.data}
            error={plan.error}
            fromName={from?.name ?? 'the source'}
            toName={to?.name ?? 'the target'}
            leaveOut={(table: DatasetName) =>
              change({ tables: definition.tables.filter(one => datasetId(one) !== datasetId(table)) })
            }
            goTo={name =>
              name === 'name'
                ? document.querySelector<HTMLInputElement>('main input')?.focus()
                : setOpen(name)
            }
          />
        </div>
        <div className="border-t border-line-2 px-5 py-3">
          <StartButton
            plan={plan.data?.notes}
            ready={plan.data !== undefined && !plan.isPlaceholderData && !plan.error}
            tables={plan.data?.lanes.length ?? 0}
            replaced={
              plan.data?.steps.flatMap(step =>
                step.step === 'replace table' ? [`${step.table.namespace}.${step.table.name}`] : [],
              ) ?? []
            }
            verb={adding ? 'Add' : 'Start copying'}
            start={start}
          />
        </div>
      </aside>
    </>
  )
}

function decisions(notes: readonly PlanNote[] | undefined): string {
  const left = notes?.filter(hinders).length ?? 0
  return left === 0 ? 'nothing left to decide' : `${plural(left, 'thing')} to settle`
}

interface StartButtonProps {
  plan: readonly PlanNote[] | undefined
  ready: boolean
  tables: number
  replaced: string[]
  verb: string
  start: () => Promise<void>
}

function StartButton({ plan, ready, tables, replaced, verb: does, start }: StartButtonProps) {
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const blocked = !ready || (plan?.some(hinders) ?? true)
  const verb = tables === 0 ? does : `${does} ${plural(tables, 'table')}`
  if (replaced.length > 0 && !blocked) {
    return (
      <Confirm
        trigger={
          <Button look="filled" className="w-full justify-center">
            {verb}
          </Button>
        }
        title={`Replace ${plural(replaced.length, 'table')}?`}
        verb="Replace and copy"
        danger
        act={start}
      >
        <p>Their present rows are deleted, then copied anew: {replaced.join(', ')}.</p>
      </Confirm>
    )
  }
  const go = async () => {
    setBusy(true)
    setError(undefined)
    await start().catch(setError)
    setBusy(false)
  }
  return (
    <>
      <div className={error === undefined ? '' : 'mb-2'}>
        <ErrorNotice error={error} />
      </div>
      <Button
        look="filled"
        className="w-full justify-center"
        disabled={blocked || busy}
        onClick={() => void go()}
      >
        {busy ? 'Starting …' : verb}
      </Button>
      {blocked && ready && <p className="mt-1 text-center text-[12px] text-ink-2">{decisions(plan)} first</p>}
    </>
  )
}

interface SectionProps {
  name: string
  title: string
  says: string
  open?: boolean
  turn?: () => void
  children?: ReactNode
}

function Section({ name, title, says, open = false, turn, children }: SectionProps) {
  return (
    <section className="border-t border-line-2 py-2.5" aria-labelledby={`section-${name}`}>
      <div className="grid grid-cols-[90px_minmax(0,1fr)_auto] items-baseline gap-3">
        <h2 id={`section-${name}`} className="text-[14px]">
          {title}
        </h2>
        <p className="overflow-hidden text-ellipsis whitespace-nowrap text-ink-2">{says}</p>
        {turn && (
          <TextButton aria-expanded={open} aria-label={`${open ? 'Fold' : 'Change'} ${title}`} onClick={turn}>
            {open ? 'Fold' : 'Change'}
          </TextButton>
        )}
      </div>
      {open && <div className="pt-3 pl-[102px]">{children}</div>}
    </section>
  )
}

function Pick({
  label,
  connections,
  chosen,
  choose,
}: {
  label: string
  connections: ConnectionInfo[]
  chosen: string
  choose: (id: string) => void
}) {
  return (
    <div role="radiogroup" aria-label={label}>
      {connections.map(({ id, name, address }) => (
        <label key={id} className="flex items-baseline gap-2.5 border-b border-line py-1.5">
          <input
            type="radio"
            name={label}
            checked={id === chosen}
            onChange={() => choose(id)}
            onClick={() => id === chosen && choose(id)}
          />
          <span className="font-semibold">{name}</span>
          <span className="overflow-hidden font-mono text-[12px] text-ellipsis whitespace-nowrap text-ink-2">
            {address}
          </span>
        </label>
      ))}
      {connections.length === 0 && (
        <p className="text-ink-2">No connection can be a {label.toLowerCase()} yet.</p>
      )}
      <Link className="mt-2 inline-block text-[13px] font-semibold text-link" to="/connections/new">
        Add a connection
      </Link>
    </div>
  )
}

/** Keeps the definition on the server as it is typed (`kept`): makes the draft at the first edit, then writes every change. */
function useKept(definition: Definition, present: string | undefined, begin: Definition, kept: boolean) {
  const [id, setId] = useState(present)
  const [saved, setSaved] = useState('')
  const [error, setError] = useState<unknown>()
  const written = useRef(JSON.stringify(begin))
  const writing = useRef<Promise<string | undefined>>(Promise.resolve(present))
  const latest = useRef(definition)
  useEffect(() => {
    latest.current = definition
  }, [definition])
  const write = (): Promise<string | undefined> => {
    writing.current = writing.current.then(async known => {
      const text = JSON.stringify(latest.current)
      if (text === written.current && known) return known
      const status = await api<PipelineStatus>(
        known ? 'PUT' : 'POST',
        known ? `/pipelines/${known}` : '/pipelines',
        latest.current,
      )
      written.current = text
      putPipeline(status)
      setId(status.id)
      setSaved('Saved.')
      setError(undefined)
      // The address follows without leaving the page.
      if (!known) window.history.replaceState(window.history.state, '', `/pipelines/${status.id}/change`)
      return status.id
    })
    const attempt = writing.current
    writing.current = attempt.catch(() => id)
    return attempt
  }
  const text = JSON.stringify(definition)
  useEffect(() => {
    if (!kept || text === written.current) return
    setSaved('')
    const timer = setTimeout(() => void write().catch(setError), SAVE_AFTER_MS)
    return () => clearTimeout(timer)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- writes the newest definition, whenever it has changed
  }, [text, kept])
  return {
    id,
    saved,
    error,
    /** Writes what is not written yet; gives the pipeline's id. */
    flush: async (): Promise<string> => (kept ? (await write())! : present!),
  }
}
