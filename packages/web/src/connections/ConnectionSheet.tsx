import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import { datasetId } from '@tide/core/records/dataset'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api } from '../api/client.ts'
import type { CheckItem, Grid } from '@tide/core/api/browse'
import { lookAgain, refreshConnections, useCatalogue, useConnections, useConnectors } from '../api/queries.ts'
import { count, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Button, ButtonLink, TextButton } from '../parts/Button.tsx'
import { Copyable } from '../parts/Copyable.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { FindField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { Name } from '../parts/Name.tsx'
import { ResultGrid } from '../parts/ResultGrid.tsx'
import { TableVersions } from './TableVersions.tsx'
import { isLake } from '@tide/core/definition/files'
import { Checks } from './Checks.tsx'
import { AppCalls } from './AppCalls.tsx'
import { SignInAt } from './SignIn.tsx'
import { JournalSection } from './JournalSection.tsx'

/** How to reach one system, whether it is well, what is in it. */
export function ConnectionSheet() {
  const { id = '' } = useParams()
  const connection = useConnections().data?.find(one => one.id === id)
  const connector = useConnectors().data?.find(one => one.kind === connection?.kind)
  const navigate = useNavigate()
  useWhere({ title: 'Connections', to: '/connections' }, { title: connection?.name ?? '' })
  const check = useMutation({
    mutationFn: () => api<CheckItem[]>('POST', `/connections/${id}/check`),
    onSettled: refreshConnections,
  })
  if (!connection || !connector) return null
  const remove = async () => {
    await api('DELETE', `/connections/${id}`)
    await refreshConnections()
    await navigate('/connections')
  }
  return (
    <article key={id} className="flex min-h-full flex-col px-6 py-4">
      <header className="flex items-start gap-3">
        <div className="min-w-0 flex-1">
          <h1 className="text-[20px]">{connection.name}</h1>
          <p className="text-ink-2">
            {connector.title}, <Copyable text={connection.address} />
          </p>
          <p className="text-[13px] text-ink-2">
            {connection.usedBy.length === 0 ? 'No pipeline uses it yet.' : 'Used by '}
            {connection.usedBy.map((user, i) => (
              <span key={user.id}>
                {i > 0 && ', '}
                <Link className="text-link underline" to={`/pipelines/${user.id}`}>
                  {user.name}
                </Link>
              </span>
            ))}
          </p>
        </div>
        <Confirm
          trigger={<Button look="text">Delete</Button>}
          title={`Delete the connection ${connection.name}?`}
          verb="Delete it"
          danger
          act={remove}
        >
          <p>Its settings and secrets go. Nothing in the system itself is touched.</p>
        </Confirm>
        <ButtonLink look="text" to={`/connections/${id}/change`}>
          Change
        </ButtonLink>
        {connector.roles.includes('source') && (
          <ButtonLink look="text" to={`/pipelines/new?from=${id}`}>
            Send from here
          </ButtonLink>
        )}
        <Button look="filled" disabled={check.isPending} onClick={() => check.mutate()}>
          {check.isPending ? 'Testing …' : 'Test'}
        </Button>
      </header>
      {connection.screen && (
        <a
          className="mt-1 text-[13px] text-link underline"
          href={connection.screen}
          target="_blank"
          rel="noreferrer"
        >
          Open its own screen
        </a>
      )}
      <div className="mt-3">
        <ErrorNotice error={check.error} />
        {check.data && <Checks items={check.data} />}
      </div>
      <SignInAt connection={connection} />
      {connector.band === 'apps' ? <AppCalls connection={id} /> : <JournalSection connection={id} />}
      <Browser connection={id} kind={connection.kind} />
    </article>
  )
}

function Browser({ connection, kind }: { connection: string; kind: string }) {
  const catalogue = useCatalogue(connection)
  const [chosen, setChosen] = useState<DatasetName>()
  const [find, setFind] = useState('')
  const datasets = catalogue.data?.datasets ?? []
  const shown = datasets.filter(({ namespace, name }) =>
    `${namespace}.${name}`.toLowerCase().includes(find.toLowerCase()),
  )
  const namespaces = [...new Set(shown.map(({ namespace }) => namespace))]
  const dataset = datasets.find(one => chosen && datasetId(one) === datasetId(chosen))
  return (
    <section
      className="mt-4 grid min-h-80 flex-1 grid-cols-[250px_minmax(0,1fr)] gap-5 border-t border-line-2 pt-3"
      aria-label="Catalogue"
    >
      <div className="flex min-h-0 flex-col">
        <div className="flex items-baseline justify-between">
          <h2 className="text-[14px]">
            {catalogue.isPending ? 'Reading the catalogue …' : plural(datasets.length, 'table')}
          </h2>
          <TextButton
            className="text-[13px]"
            onClick={() => void lookAgain([connection]).catch(() => catalogue.refetch())}
          >
            Look again
          </TextButton>
        </div>
        <FindField label="Find a table" value={find} onChange={event => setFind(event.target.value)} />
        <ErrorNotice error={catalogue.error} />
        <div className="min-h-0 flex-1 overflow-y-auto text-[13px]">
          {namespaces.map(namespace => (
            <div key={namespace}>
              <h3 className="mt-2 text-[12px] text-ink-2">{namespace}</h3>
              <ul>
                {shown
                  .filter(one => one.namespace === namespace)
                  .map(one => (
                    <li key={one.name}>
                      <button
                        type="button"
                        aria-pressed={one === dataset}
                        onClick={() => setChosen(one)}
                        className={`flex w-full justify-between gap-2 min-h-6 border-l-3 px-2 py-0.5 text-left ${one === dataset ? 'border-water-4 bg-paper-2' : 'border-transparent hover:bg-paper-2'}`}
                      >
                        <Name>{one.name}</Name>
                        <span
                          className="whitespace-nowrap text-ink-2"
                          title={one.rowsExact ? 'counted' : 'estimated by the server'}
                        >
                          {one.kind === 'view'
                            ? 'view'
                            : one.rows === 0 && !one.rowsExact
                              ? '' // nobody knows, before they are counted
                              : `${one.rowsExact ? '' : 'about '}${count(one.rows)}`}
                        </span>
                      </button>
                    </li>
                  ))}
              </ul>
            </div>
          ))}
          {catalogue.data && datasets.length === 0 && (
            <p className="py-3 text-ink-2">There are no tables yet.</p>
          )}
        </div>
      </div>
      {dataset ? (
        <Preview key={datasetId(dataset)} connection={connection} kind={kind} dataset={dataset} />
      ) : (
        <p className="text-ink-2">Choose a table to see its columns and first rows.</p>
      )}
    </section>
  )
}

export function usePreview(connection: string, table: DatasetName | undefined) {
  return useQuery({
    queryKey: ['preview', connection, table],
    queryFn: () => {
      const { namespace, name } = table!
      return api<Grid>(
        'GET',
        `/connections/${connection}/preview?${new URLSearchParams({ namespace, name })}`,
      )
    },
    enabled: connection !== '' && table !== undefined,
  })
}

function shownOf({ rows, total }: Grid): string {
  if (total === null)
    return `the first ${plural(rows.length, 'row')}; how many there are was not counted in time`
  return rows.length === total
    ? `all ${plural(total, 'row')}`
    : `first ${rows.length} of ${plural(total, 'row')}`
}

function Preview({ connection, kind, dataset }: { connection: string; kind: string; dataset: Dataset }) {
  const preview = usePreview(connection, dataset)
  const [versions, setVersions] = useState(false)
  return (
    <div className="flex min-h-0 min-w-0 flex-col">
      <div className="flex items-baseline gap-3">
        <h2>
          <Name>{dataset.name}</Name>
        </h2>
        <p className="flex-1 text-[13px] text-ink-2">
          {plural(dataset.fields.length, 'column')}
          {dataset.key.length > 0 && (
            <>
              , key <span className="font-mono text-[12px]">{dataset.key.join(', ')}</span>
            </>
          )}
          {preview.data && `, ${shownOf(preview.data)}`}
        </p>
        {isLake(kind) && (
          <TextButton className="text-[13px]" aria-pressed={versions} onClick={() => setVersions(!versions)}>
            {versions ? 'Rows as they are' : 'Versions'}
          </TextButton>
        )}
        <TextButton className="text-[13px]" onClick={() => void preview.refetch()}>
          {preview.isFetching ? 'Reading …' : 'Read again'}
        </TextButton>
      </div>
      <ErrorNotice error={preview.error} />
      {versions ? (
        <TableVersions connection={connection} dataset={dataset} />
      ) : (
        <div className="mt-2 min-h-0 flex-1 basis-72">
          {preview.data && <ResultGrid grid={preview.data} label={`Rows of ${dataset.name}`} />}
        </div>
      )}
    </div>
  )
}
