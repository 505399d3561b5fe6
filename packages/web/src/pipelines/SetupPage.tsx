import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { withChosen } from '@tide/core/definition/choose'
import { originsOf } from '@tide/core/definition/origins'
import type { PlanAnswer } from '@tide/core/api/plans'
import { planMarkdown } from '@tide/core/plan/markdown'
import type { PlanNote } from '@tide/core/plan/note'
import { isChangeable, type Definition, type ReplicateDefinition } from '@tide/core/definition/definition'
import { datasetId } from '@tide/core/records/dataset'
import { useState, type ReactNode } from 'react'
import { useNavigate, useParams, useSearchParams } from 'react-router'
import { api } from '../api/client.ts'
import { save } from '../api/save.ts'
import { putPipeline, useLive, usePipeline } from '../api/live.ts'
import { refreshConnections, useConnections, useConnectors, useVersions } from '../api/queries.ts'
import { useWhere } from '../frame/crumbs.ts'
import { plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { Choice } from '../parts/Choice.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { EMPTY_SEND, SendSetup } from '../sending/setup/SendSetup.tsx'
import type { SendingStatus } from '../sending/status.ts'
import { EMPTY_TWO_WAY } from '../two-way/setup/empty.ts'
import { TwoWaySetup } from '../two-way/setup/TwoWaySetup.tsx'
import type { TwoWayPipeline } from '../two-way/status.ts'
import { PlanMargin } from './PlanMargin.tsx'
import { ColumnsSection } from './setup/ColumnsSection.tsx'
import { decisions } from './setup/decisions.ts'
import { FromSection } from './setup/FromSection.tsx'
import { FileSection } from './setup/FileSection.tsx'
import { NamesSection } from './setup/NamesSection.tsx'
import { RowsSection } from './setup/RowsSection.tsx'
import { NameField } from './setup/NameField.tsx'
import { StartButton, type StartButtonProps } from './setup/StartButton.tsx'
import { StartSection } from './setup/StartSection.tsx'
import { TablesSection } from './setup/TablesSection.tsx'
import { ToSection } from './setup/ToSection.tsx'
import { useChosen } from './setup/useChosen.ts'
import { useKept } from './setup/useKept.ts'
import { usePlan } from './usePlan.ts'

const EMPTY: ReplicateDefinition = {
  version: 2,
  shape: 'replicate',
  name: '',
  from: '',
  to: '',
  targetSchema: '',
  tables: [],
}

/** The first is set up where nothing is said. */
const SHAPES = [
  { shape: 'replicate', says: 'keep tables in sync', empty: EMPTY },
  { shape: 'send', says: 'send records into an app', empty: EMPTY_SEND },
  { shape: 'two-way', says: 'keep two places in step', empty: EMPTY_TWO_WAY },
] as const

/** Loads what there is to begin with, then shows the setup. */
export function SetupPage() {
  const { id } = useParams()
  const [search] = useSearchParams()
  const pipeline = usePipeline(id)
  const known = useLive(live => live.pipelines !== undefined)
  const connections = useConnections().data
  const connectors = useConnectors().data
  const number = search.get('version')
  const versions = useVersions(number === null ? '' : (id ?? ''), '').data
  if (number !== null && !versions) return null
  if (!known || !connections || !connectors) return null
  if (id && !pipeline) return <p className="p-8 text-ink-2">This pipeline is not there any more.</p>
  const back = versions?.find(version => version.number === Number(number))?.definition
  if (number !== null && !back)
    return <p className="p-8 text-ink-2">There is no version {number} of this pipeline.</p>
  const shape = SHAPES.find(({ shape }) => shape === search.get('shape')) ?? SHAPES[0]
  const [from, to] = ['from', 'to'].map(side => {
    const id = search.get(side)
    return connections.find(one => one.id === id)
  })
  const named = from && to && shape.shape === 'replicate' ? { name: `${from.name} to ${to.name}` } : {}
  const sidesGiven = { from: from?.id ?? '', to: to?.id ?? '' }
  const begin = back ?? pipeline?.definition ?? { ...shape.empty, ...sidesGiven, ...named }
  const shapes = pipeline ? null : <Shapes chosen={begin.shape} />
  const sides = { connections, connectors, shapes }
  if (begin.shape === 'send')
    return <SendSetup key="send" begin={begin} present={pipeline as SendingStatus | undefined} {...sides} />
  if (begin.shape === 'two-way')
    return (
      <TwoWaySetup key="two-way" begin={begin} present={pipeline as TwoWayPipeline | undefined} {...sides} />
    )
  return (
    <Setup key="replicate" begin={begin} present={pipeline as ReplicationStatus | undefined} {...sides} />
  )
}

/** Before anything is said, what kind of pipeline it is to be. */
function Shapes({ chosen }: { chosen: Definition['shape'] }) {
  const [search, setSearch] = useSearchParams()
  const sides = ['from', 'to'].flatMap((side): [string, string][] => {
    const id = search.get(side)
    return id === null ? [] : [[side, id]]
  })
  return (
    <div className="mb-2 flex items-baseline gap-4">
      <span className="text-[13px] text-ink-2">It is to</span>
      <Choice
        label="What the pipeline is to do"
        options={SHAPES.map(({ says }) => says)}
        chosen={SHAPES.findIndex(({ shape }) => shape === chosen)}
        choose={i =>
          setSearch(
            { ...Object.fromEntries(sides), ...(i > 0 ? { shape: SHAPES[i]!.shape } : {}) },
            { replace: true },
          )
        }
      />
    </div>
  )
}

type SectionName = Exclude<PlanNote['section'], 'name'> | 'file'

interface SetupProps {
  begin: ReplicateDefinition
  present: ReplicationStatus | undefined
  connections: ConnectionInfo[]
  connectors: ConnectorInfo[]
  shapes: ReactNode
}

function Setup({ begin, present, connections, connectors, shapes }: SetupProps) {
  const navigate = useNavigate()
  const [definition, setDefinition] = useState(begin)
  const [named, setNamed] = useState(begin.name !== '')
  const [open, setOpen] = useState<SectionName | undefined>(
    originsOf(begin).some(({ connection }) => connection === '') ? 'from' : begin.to === '' ? 'to' : 'tables',
  )
  const runs = present !== undefined && !isChangeable(present.state)
  const chosen = useChosen(definition)
  const {
    id,
    saved,
    error: saveError,
    flush,
  } = useKept(definition, present?.id, present?.definition ?? begin, !runs)
  const plan = usePlan(definition, id, typeof present?.startedAt === 'string')
  const sources = originsOf(definition).map(
    ({ connection }) => connections.find(({ id }) => id === connection)?.name,
  )
  const to = connections.find(connection => connection.id === definition.to)
  useWhere(
    { title: 'Pipelines', to: '/pipelines' },
    { title: present ? `Setup of ${definition.name}` : 'New pipeline' },
  )

  // What is answered late is added to what was said meanwhile, and takes nothing of that away.
  const change = (part: Partial<ReplicateDefinition>) =>
    setDefinition(before => {
      const next = { ...before, ...part }
      const nameOf = (id: string) => connections.find(connection => connection.id === id)?.name
      const nextFrom = originsOf(next).map(({ connection }) => nameOf(connection))
      const nextTo = nameOf(next.to)
      return !named && nextTo && !nextFrom.includes(undefined)
        ? { ...next, name: `${nextFrom.join(', ')} to ${nextTo}` }
        : next
    })
  const inRole = (role: 'source' | 'target') =>
    connections.filter(({ kind }) =>
      connectors.find(connector => connector.kind === kind)?.roles.includes(role),
    )
  const start = async () => {
    const saved = await flush()
    const [deed, body] = runs
      ? ['change', { definition, plan: plan.data?.digest }]
      : ['start', { plan: plan.data?.digest }]
    const started = api<ReplicationStatus>('POST', `/pipelines/${saved}/${deed}`, body)
    // What is refused may be so because the systems are not what the plan was made of.
    putPipeline(await started.catch(error => plan.refetch().then(() => Promise.reject(error))))
    await refreshConnections()
    await navigate(`/pipelines/${saved}`)
  }
  const section = (name: SectionName) => ({
    open: open === name,
    // The one source of a pipeline that runs stays.
    ...(runs && name === 'from' && typeof begin.from === 'string'
      ? {}
      : { turn: () => setOpen(open === name ? undefined : name) }),
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
            ? 'It runs, and goes on meanwhile. Nothing is changed until you apply it. '
            : present && present.state !== 'Draft'
              ? 'Starting again replaces what was copied before. '
              : 'Draft, kept as you type. '}
          {saved}
        </p>
        {shapes}
        <ErrorNotice error={saveError} />
        <FromSection
          {...section('from')}
          definition={definition}
          connections={inRole('source')}
          kept={runs ? originsOf(present.definition) : []}
          change={change}
          done={() => setOpen(definition.to === '' ? 'to' : 'tables')}
        />
        <ToSection
          {...section('to')}
          definition={definition}
          to={to}
          connections={inRole('target')}
          example={chosen[0]}
          runs={runs}
          change={change}
        />
        <TablesSection {...section('tables')} definition={definition} chosen={chosen} change={change} />
        <NamesSection {...section('names')} definition={definition} change={change} />
        <ColumnsSection {...section('columns')} definition={definition} tables={chosen} change={change} />
        <RowsSection {...section('rows')} definition={definition} datasets={chosen} change={change} />
        <FileSection
          {...section('file')}
          definition={definition}
          connections={connections}
          change={read => {
            setNamed(true)
            setDefinition(read)
          }}
        />
        <StartSection {...section('start')} definition={definition} runs={runs} change={change} />
      </main>
      <aside
        className="flex w-[33%] min-w-[320px] flex-col border-l border-line-2 bg-paper-2"
        aria-label="Plan"
      >
        <div className="flex items-baseline gap-4 px-5 pt-4 pb-2">
          <h2 className="text-[16px]">Plan</h2>
          {plan.data && plan.data.lanes.length > 0 && <ExportPlan name={definition.name} plan={plan.data} />}
          <span className="ml-auto text-[13px] text-ink-2" role="status">
            {plan.isFetching ? 'recomputing …' : decisions(plan.data?.notes)}
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-auto px-5 pb-4">
          <PlanMargin
            plan={plan.data}
            does={definition.does}
            error={plan.error}
            lookAgain={plan.lookAgain}
            fromName={sources.length === 1 ? (sources[0] ?? 'the source') : `${sources.length} origins`}
            toName={to?.name ?? 'the target'}
            leaveOut={tables => change(withChosen(definition, tables, false))}
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
            failed={Boolean(plan.error)}
            {...(runs
              ? applying(plan.data, to?.name ?? '')
              : starting(plan.data, to?.name ?? '', definition.does))}
            start={start}
          />
        </div>
      </aside>
    </>
  )
}

type Asking = Pick<StartButtonProps, 'verb' | 'confirm'>

const VERBS = {
  both: 'Start copying',
  copy: 'Copy',
  follow: 'Start following',
  structure: 'Make',
  archive: 'Archive and delete rows of',
}

function starting(
  plan: PlanAnswer | undefined,
  toName: string,
  does: ReplicateDefinition['does'] | 'both' = 'both',
): Asking {
  const tables = new Set(plan?.lanes.map(({ source }) => datasetId(source))).size
  const verb = tables === 0 ? VERBS[does] : `${VERBS[does]} ${plural(tables, 'table')}`
  return { verb, confirm: losing(plan, toName, `${verb}?`, VERBS[does]) }
}

function applying(plan: PlanAnswer | undefined, toName: string): Asking {
  return {
    verb: 'Apply the changes',
    confirm: losing(plan, toName, 'Apply the changes?', 'Apply them'),
  }
}

/** What is asked before rows go; where others put them there, the target's name must be typed. */
function losing(
  plan: PlanAnswer | undefined,
  toName: string,
  title: string,
  verb: string,
): StartButtonProps['confirm'] {
  const losses = plan?.notes.filter(({ level }) => level === 'loss') ?? []
  if (losses.length === 0) return undefined
  const body = (
    <ul className="max-h-60 list-disc space-y-1 overflow-auto pl-4">
      {losses.map(({ message, remedy }) => (
        <li key={message}>
          {message} <span className="text-ink-2">{remedy}</span>
        </li>
      ))}
    </ul>
  )
  return { title, verb, body, typed: losses.some(({ others }) => others) ? toName : undefined }
}

function ExportPlan({ name, plan }: { name: string; plan: PlanAnswer }) {
  const file = name || 'plan'
  return (
    <span className="text-[13px] text-ink-2">
      save as{' '}
      <TextButton onClick={() => save(`${file}.plan.md`, planMarkdown(name, plan))}>Markdown</TextButton> or{' '}
      <TextButton onClick={() => save(`${file}.plan.json`, JSON.stringify(plan, null, 2))}>JSON</TextButton>
    </span>
  )
}
