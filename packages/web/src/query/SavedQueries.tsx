import type { SavedQueryInfo } from '@tide/core/api/queries'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import type { QueryParameter } from '@tide/core/definition/query-parameters'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { queryClient } from '../api/queries.ts'
import { TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { InlineField, InlineSelect } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { useSavedQueries } from '../sending/setup/WhatSection.tsx'

interface SavedQueriesProps {
  connection: string
  sql: string
  parameters: readonly QueryParameter[]
  take: (query: Pick<SavedQueryInfo, 'sql' | 'parameters'>) => void
}

/** Queries of a connection that were given a name: taken up, saved, saved anew, with the pipelines that send them. */
export function SavedQueries({ connection, sql, parameters, take }: SavedQueriesProps) {
  const queries = (useSavedQueries().data ?? []).filter(one => one.connection === connection)
  const [chosen, setChosen] = useState('')
  const [name, setName] = useState('')
  const open = queries.find(({ id }) => id === chosen)
  const refresh = () => queryClient.invalidateQueries({ queryKey: ['queries'] })
  const keep = useMutation({
    mutationFn: () =>
      api<SavedQueryInfo>(open ? 'PUT' : 'POST', open ? `/queries/${open.id}` : '/queries', {
        name: open ? open.name : name.trim(),
        connection,
        sql,
        key: open?.key ?? [],
        parameters,
      }),
    onSuccess: async ({ id }) => {
      await refresh()
      setChosen(id)
      setName('')
    },
  })
  const choose = (id: string) => {
    setChosen(id)
    const query = queries.find(one => one.id === id)
    if (query) take(query)
  }
  const changed =
    open !== undefined && (open.sql !== sql || canonicalJson(open.parameters) !== canonicalJson(parameters))
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[13px]">
      <label className="flex items-baseline gap-2 text-ink-2">
        Saved query
        <InlineSelect
          label="Saved query"
          value={open?.id ?? ''}
          options={[
            { value: '', title: queries.length === 0 ? 'none yet' : 'none' },
            ...queries.map(({ id, name }) => ({ value: id, title: name })),
          ]}
          onChange={({ target }) => choose(target.value)}
        />
      </label>
      {open ? (
        <>
          <span className="text-ink-2">
            version {open.version}
            {open.key.length > 0 && `, key ${open.key.join(', ')}`}
            {open.usedBy.map(({ id, name }) => (
              <span key={id}>
                , sent by{' '}
                <Link className="text-link underline" to={`/pipelines/${id}`}>
                  {name}
                </Link>
              </span>
            ))}
          </span>
          <TextButton disabled={!changed || keep.isPending} onClick={() => keep.mutate()}>
            Save as version {open.version + 1}
          </TextButton>
          {open.usedBy.length === 0 && (
            <Confirm
              trigger={<TextButton>Delete</TextButton>}
              title={`Delete the query ${open.name}?`}
              verb="Delete it"
              danger
              act={async () => {
                await api('DELETE', `/queries/${open.id}`)
                setChosen('')
                await refresh()
              }}
            >
              <p>Its {open.version === 1 ? 'one version goes' : `${open.version} versions go`}.</p>
            </Confirm>
          )}
        </>
      ) : (
        <>
          <InlineField
            label="Name of the query"
            placeholder="name this one, to keep it"
            className="w-56"
            value={name}
            onChange={event => setName(event.target.value)}
          />
          <TextButton
            disabled={name.trim() === '' || sql.trim() === '' || keep.isPending}
            onClick={() => keep.mutate()}
          >
            Save it
          </TextButton>
        </>
      )}
      <ErrorNotice error={keep.error} />
    </div>
  )
}
