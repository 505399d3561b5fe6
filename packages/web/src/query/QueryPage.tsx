import type { QueryParameter } from '@tide/core/definition/query-parameters'
import { printName, type Dataset } from '@tide/core/records/dataset'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api } from '../api/client.ts'
import type { Grid, QuestionTurn } from '@tide/core/api/browse'
import { useCatalogue, useConnections, useConnectors } from '../api/queries.ts'
import { usePreview } from '../connections/ConnectionSheet.tsx'
import { count, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Ledger } from '../frame/Ledger.tsx'
import { SelectField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { Name } from '../parts/Name.tsx'
import { ResultGrid } from '../parts/ResultGrid.tsx'
import { SqlBox } from '../parts/SqlBox.tsx'
import { Parameters, parametersOf } from './Parameters.tsx'
import { useQuoting } from './quoting.ts'
import { SavedQueries } from './SavedQueries.tsx'
import { useSearchParams } from 'react-router'

/** Rows of either side by choosing a table, and SQL for the warehouse. */
export function QueryPage() {
  useWhere({ title: 'Query' })
  const connections = useConnections().data ?? []
  const connectors = useConnectors().data ?? []
  const [search, setSearch] = useSearchParams()
  const bandOf = (kind: string) => connectors.find(connector => connector.kind === kind)?.band
  const roles = (kind: string) => connectors.find(connector => connector.kind === kind)?.roles ?? []
  const connection =
    connections.find(({ id }) => id === search.get('connection')) ??
    connections.find(({ kind }) => bandOf(kind) === 'warehouses') ??
    connections.find(({ kind }) => roles(kind).includes('target')) ??
    connections[0]
  const catalogue = useCatalogue(connection?.id ?? '')
  const datasets = catalogue.data?.datasets ?? []
  const table = datasets.find(one => printName(one) === search.get('table'))
  const takesSql =
    connection !== undefined &&
    roles(connection.kind).includes('target') &&
    bandOf(connection.kind) !== 'apps'
  const to = (dataset: Dataset) =>
    `/query?${new URLSearchParams({ connection: connection!.id, table: printName(dataset) })}`
  return (
    <>
      <Ledger
        title="Tables"
        action={null}
        findLabel="Find a table"
        empty={catalogue.isPending ? 'Reading the catalogue …' : 'There are no tables yet.'}
        rows={datasets.map(dataset => ({
          id: printName(dataset),
          to: to(dataset),
          active: dataset === table,
          text: printName(dataset),
          content: (
            <span className="flex justify-between gap-2 text-[13px]">
              <Name>{printName(dataset)}</Name>
              <span className="text-ink-2">{dataset.kind === 'view' ? 'view' : count(dataset.rows)}</span>
            </span>
          ),
        }))}
      />
      <main className="flex min-w-0 flex-1 flex-col gap-3 overflow-auto px-6 py-4">
        <h1 className="sr-only">Query</h1>
        <div className="max-w-72">
          <SelectField
            label="Connection"
            value={connection?.id ?? ''}
            onChange={event => setSearch({ connection: event.target.value })}
            options={connections.map(({ id, name }) => ({ value: id, title: name }))}
          />
        </div>
        <ErrorNotice error={catalogue.error} />
        {connections.length === 0 && (
          <p className="text-ink-2">Add a connection first; then its tables can be looked at here.</p>
        )}
        {connection && takesSql && (
          <Sql
            key={`${connection.id} ${table ? printName(table) : ''}`}
            connection={connection.id}
            table={table}
          />
        )}
        {connection && !takesSql && <Rows connection={connection.id} table={table} />}
      </main>
    </>
  )
}

function Rows({ connection, table }: { connection: string; table: Dataset | undefined }) {
  const preview = usePreview(connection, table)
  if (!table)
    return (
      <p className="text-ink-2">
        Choose a table to see its rows. SQL runs on warehouses; here rows are looked at table by table.
      </p>
    )
  return (
    <>
      <ErrorNotice error={preview.error} />
      {preview.data && <Result grid={preview.data} label={`Rows of ${table.name}`} />}
    </>
  )
}

const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`

function Sql({ connection, table }: { connection: string; table: Dataset | undefined }) {
  const [sql, setSql] = useState(
    table ? `SELECT *\n  FROM ${quoted(table.namespace)}.${quoted(table.name)}\n LIMIT 100` : '',
  )
  const [said, setSaid] = useState<QueryParameter[]>([])
  const parameters = parametersOf(sql, said, useQuoting(connection))
  const [ran, setRan] = useState(false)
  const [asking, setAsking] = useState<Asking>()
  const query = useMutation({
    mutationFn: ({ ticket, stop }: Asking) =>
      api<Grid>('POST', '/query', { connection, sql, parameters, ticket }, stop.signal),
    onSettled: () => setAsking(undefined),
  })
  const turn = useTurn(asking)
  const waits = asking !== undefined && turn?.running === false
  const run = () => {
    if (query.isPending || sql.trim() === '') return
    const next = { ticket: crypto.randomUUID().replaceAll('-', ''), stop: new AbortController() }
    setRan(true)
    setAsking(next)
    query.mutate(next)
  }
  // Whoever leaves the page waits no longer.
  useEffect(() => () => asking?.stop.abort(), [asking])
  // A chosen table shows its rows at once.
  const first = usePreview(connection, ran ? undefined : table)
  const grid = ran ? query.data : first.data
  return (
    <>
      <SavedQueries
        connection={connection}
        sql={sql}
        parameters={parameters}
        take={query => {
          setSql(query.sql)
          setSaid(query.parameters)
        }}
      />
      <SqlBox
        id="sql"
        sql={sql}
        change={setSql}
        run={run}
        stop={asking && (() => asking.stop.abort())}
        verb={waits ? 'Waiting …' : query.isPending ? 'Running …' : 'Run'}
        busy={query.isPending}
      >
        {waits
          ? `Waits in line: ${turn.ahead === 0 ? 'it is the next' : `${plural(turn.ahead, 'query', 'queries')} before it`}.`
          : 'Ctrl+Enter. Reading only; at most 1,000 rows, 8 MB and 20 s.'}
      </SqlBox>
      <Parameters parameters={parameters} change={setSaid} />
      <ErrorNotice error={ran ? (isAbort(query.error) ? null : query.error) : first.error} />
      {ran && isAbort(query.error) && <p className="text-ink-2">The query was stopped.</p>}
      {grid && <Result grid={grid} label="Result" />}
      {!grid && !table && !query.error && !query.isPending && (
        <p className="text-ink-2">Choose a table at the left, or write a query.</p>
      )}
    </>
  )
}

interface Asking {
  ticket: string
  stop: AbortController
}

/** Where the query stands while it is on its way. */
function useTurn(asking: Asking | undefined): QuestionTurn | undefined {
  const turn = useQuery({
    queryKey: ['turn', asking?.ticket],
    queryFn: () => api<QuestionTurn>('GET', `/query/${asking!.ticket}`),
    enabled: asking !== undefined,
    refetchInterval: 1000,
    retry: false,
  })
  return turn.data
}

const isAbort = (error: unknown) => error instanceof DOMException && error.name === 'AbortError'

/** `1,000 rows`, of how many where that is known. */
function howMany({ rows, total, cut }: Grid): string {
  if (cut === null && total === null) return plural(rows.length, 'row')
  return total === null ? `${count(rows.length)} rows or more` : plural(total, 'row')
}

function Result({ grid, label }: { grid: Grid; label: string }) {
  const cut = grid.total !== null && grid.total > grid.rows.length
  return (
    <>
      <p className="text-[13px]" role="status">
        <b>{howMany(grid)}</b>
        {cut && `, the first ${count(grid.rows.length)} shown`}
        {grid.cut === 'bytes' &&
          ': more than 8 MB are not shown; choose fewer columns, or the beginnings of values'}{' '}
        <span className="text-ink-2">in {Math.round(grid.milliseconds)} ms</span>
      </p>
      <div className="min-h-64 flex-1">
        <ResultGrid grid={grid} label={label} />
      </div>
    </>
  )
}
