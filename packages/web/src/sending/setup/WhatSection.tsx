import type { Grid } from '@tide/core/api/browse'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { SavedQueryInfo } from '@tide/core/api/queries'
import type { SendDefinition } from '@tide/core/definition/send'
import type { SentColumn } from '@tide/core/send/mapped'
import type { QueryParameter } from '@tide/core/definition/query-parameters'
import { datasetId, datasetOf, printName } from '@tide/core/records/dataset'
import { printType } from '@tide/core/records/types'
import { useMutation, useQuery } from '@tanstack/react-query'
import { lazy, Suspense, useCallback, useState } from 'react'
import { api } from '../../api/client.ts'
import { queryClient, useCatalogue } from '../../api/queries.ts'
import { plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { Choice } from '../../parts/Choice.tsx'
import { InlineField, SelectField } from '../../parts/Field.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { ResultGrid } from '../../parts/ResultGrid.tsx'
import { Parameters, parametersOf } from '../../query/Parameters.tsx'
import { useQuoting } from '../../query/quoting.ts'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'

const SqlEditor = lazy(() => import('../../parts/SqlEditor.tsx'))

interface WhatProps extends Turning {
  definition: SendDefinition
  connections: ConnectionInfo[]
  columns: readonly SentColumn[] | null | undefined
  change: (part: Partial<SendDefinition>) => void
}

const KINDS = ['a saved query', 'SQL', 'a table']

const kindOf = (what: SendDefinition['what']) => (!what || 'query' in what ? 0 : 'sql' in what ? 1 : 2)

export const useSavedQueries = () =>
  useQuery({ queryKey: ['queries'], queryFn: () => api<SavedQueryInfo[]>('GET', '/queries') })

/** What is sent: where it is asked for, the query or table, and by what a row is told from all others. */
export function WhatSection({ definition, connections, columns, change, ...turning }: WhatProps) {
  const { from, what, key } = definition
  const [kind, setKind] = useState(kindOf(what))
  const source = connections.find(({ id }) => id === from)
  const queries = useSavedQueries().data ?? []
  const saved = what && 'query' in what ? queries.find(({ id }) => id === what.query) : undefined
  const said = !what
    ? 'not said yet'
    : 'table' in what
      ? printName(what.table)
      : 'sql' in what
        ? 'a query of its own'
        : `“${saved?.name ?? what.query}”`
  const says = source
    ? `${said} of ${source.name}, by ${key.join(', ') || 'no row key yet'}`
    : 'not chosen yet'
  const chooseQuery = (id: string) => {
    const query = queries.find(one => one.id === id)
    if (query) change({ from: query.connection, what: { query: id }, key: query.key })
  }
  return (
    <Section {...turning} name="what" title="What" says={says}>
      <div className="flex items-baseline gap-4">
        <span className="text-[13px] text-ink-2">It is</span>
        <Choice label="Kind of what is sent" options={KINDS} chosen={kind} choose={setKind} />
      </div>
      {kind === 0 ? (
        <div className="mt-3 max-w-md">
          <SelectField
            label="Saved query"
            value={saved?.id ?? ''}
            onChange={event => chooseQuery(event.target.value)}
            options={[
              {
                value: '',
                title: queries.length === 0 ? 'none is saved yet; write SQL, and save it' : 'choose one',
              },
              ...queries.map(({ id, name }) => ({ value: id, title: name })),
            ]}
          />
        </div>
      ) : (
        <div className="mt-3 max-w-md">
          <SelectField
            label="Source"
            value={from}
            onChange={event => change({ from: event.target.value, what: undefined, key: [] })}
            options={[
              { value: '', title: 'choose one' },
              ...connections.map(({ id, name, address }) => ({ value: id, title: `${name}, ${address}` })),
            ]}
          />
        </div>
      )}
      {kind === 2 && from !== '' && <Table definition={definition} change={change} />}
      {kind === 1 && from !== '' && <Sql key={from} definition={definition} change={change} />}
      {kind === 0 && saved && <Sql key={saved.id} definition={definition} change={change} saved={saved} />}
      {columns && columns.length > 0 && <RowKey columns={columns} chosen={key} change={change} />}
    </Section>
  )
}

function Table({ definition, change }: Pick<WhatProps, 'definition' | 'change'>) {
  const catalogue = useCatalogue(definition.from)
  const { what } = definition
  const datasets = catalogue.data?.datasets ?? []
  return (
    <div className="mt-3 max-w-md">
      <ErrorNotice error={catalogue.error} />
      <SelectField
        label="Table"
        value={what && 'table' in what ? datasetId(what.table) : ''}
        onChange={({ target }) => {
          const dataset = datasets.find(one => datasetId(one) === target.value)
          change({ what: { table: datasetOf(target.value) }, key: dataset?.key ?? [] })
        }}
        options={[
          { value: '', title: 'choose one' },
          ...datasets.map(one => ({ value: datasetId(one), title: printName(one) })),
        ]}
      />
    </div>
  )
}

const PREVIEW_ROWS = 100

function Sql({
  definition,
  change,
  saved,
}: Pick<WhatProps, 'definition' | 'change'> & { saved?: SavedQueryInfo }) {
  const { from, what, key } = definition
  const [text, setText] = useState(saved?.sql ?? (what && 'sql' in what ? what.sql : ''))
  const [name, setName] = useState(saved?.name ?? '')
  const [said, setSaid] = useState<QueryParameter[]>(saved?.parameters ?? [])
  const quoting = useQuoting(from)
  const parameters = parametersOf(text, said, quoting)
  const values = (what && 'query' in what && what.values) || {}
  const catalogue = useCatalogue(from)
  const preview = useMutation({
    mutationFn: () => api<Grid>('POST', '/query', { connection: from, sql: text, parameters, values }),
  })
  const keep = useMutation({
    mutationFn: () =>
      api<SavedQueryInfo>(saved ? 'PUT' : 'POST', saved ? `/queries/${saved.id}` : '/queries', {
        name: name.trim(),
        connection: from,
        sql: text,
        key,
        parameters,
      }),
    onSuccess: async ({ id }) => {
      await queryClient.invalidateQueries({ queryKey: ['queries'] })
      await queryClient.invalidateQueries({ queryKey: ['send look'] })
      change({ what: { query: id, values } })
    },
  })
  const tables: Record<string, Record<string, string[]>> = {}
  for (const { namespace, name, fields } of catalogue.data?.datasets ?? [])
    (tables[namespace] ??= {})[name] = fields.map(field => field.name)
  const { mutate } = preview
  const run = useCallback(() => mutate(), [mutate])
  const grid = preview.data
  return (
    <div className="mt-3">
      <Suspense fallback={<p className="text-ink-2">The editor is loaded …</p>}>
        <SqlEditor
          label="SQL of what is sent"
          value={text}
          tables={tables}
          change={typed => {
            setText(typed)
            if (!saved) change({ what: { sql: typed } })
          }}
          run={run}
        />
      </Suspense>
      <div className="mt-2 flex flex-wrap items-center gap-3">
        <Button onClick={run} disabled={preview.isPending || text.trim() === ''}>
          {preview.isPending ? 'Running …' : 'Preview'}
        </Button>
        <InlineField
          label="Name of the query"
          placeholder="name it, to use it elsewhere"
          className="w-64"
          value={name}
          onChange={event => setName(event.target.value)}
        />
        <TextButton
          onClick={() => keep.mutate()}
          disabled={keep.isPending || name.trim() === '' || text.trim() === ''}
        >
          {saved ? `Save as version ${saved.version + 1}` : 'Save it'}
        </TextButton>
        {saved && saved.usedBy.length > 1 && (
          <span className="text-[12px] text-ochre">
            Also sent by {saved.usedBy.map(one => one.name).join(', ')}.
          </span>
        )}
        <span className="text-[12px] text-ink-2" role="status">
          {keep.isSuccess ? 'Saved. ' : ''}Ctrl+Enter previews {PREVIEW_ROWS} rows.
        </span>
      </div>
      <Parameters
        parameters={parameters}
        change={setSaid}
        here={
          saved && {
            title: 'here',
            values,
            change: now =>
              change({ what: { query: saved.id, ...(Object.keys(now).length > 0 ? { values: now } : {}) } }),
          }
        }
      />
      {parameters.length > 0 && !saved && (
        <p className="text-[12px] text-ink-2">Save the query, for its parameters to be kept with it.</p>
      )}
      <ErrorNotice error={preview.error ?? keep.error} />
      {grid && (
        <>
          <p className="mt-2 text-[13px]" role="status">
            <b>{grid.total === null ? `${grid.rows.length} rows or more` : plural(grid.total, 'row')}</b>{' '}
            <span className="text-ink-2">in {Math.round(grid.milliseconds)} ms</span>
          </p>
          <div className="mt-1 h-48">
            <ResultGrid grid={{ ...grid, rows: grid.rows.slice(0, PREVIEW_ROWS) }} label="Preview" />
          </div>
        </>
      )}
    </div>
  )
}

function RowKey({
  columns,
  chosen,
  change,
}: {
  columns: readonly SentColumn[]
  chosen: readonly string[]
  change: WhatProps['change']
}) {
  return (
    <fieldset className="mt-3">
      <legend className="text-[13px] font-semibold">Row key: what tells a row from all others</legend>
      <div className="flex flex-wrap gap-x-4">
        {columns.map(({ name, type }) => (
          <label
            key={name}
            className="flex items-baseline gap-1.5 py-0.5 text-[13px]"
            title={printType(type)}
          >
            <input
              type="checkbox"
              className="relative top-0.5"
              checked={chosen.includes(name)}
              onChange={({ target }) =>
                change({ key: target.checked ? [...chosen, name] : chosen.filter(one => one !== name) })
              }
            />
            <span className="font-mono text-[12px]">{name}</span>
          </label>
        ))}
      </div>
    </fieldset>
  )
}
