import { columnName, newTableJoins, type NewTableLook } from '@tide/core/app/new-table'
import type { AppObject } from '@tide/core/app/object'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../../api/client.ts'
import { TextButton } from '../../parts/Button.tsx'
import { PasteBlock } from '../../parts/Copyable.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { TextField } from '../../parts/Field.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

interface MakeTableProps {
  /** The database, and what it is called. */
  connection: string
  called: string
  schema: string
  side: 'a' | 'b'
  /** Of the other side. */
  from: string
  object: AppObject
  /** It is there. */
  made: (part: Partial<TwoWayLane>) => void
}

/** Makes a table for the records of the other side, after a look at the statement. */
export function MakeTable({ connection, called, schema, side, from, object, made }: MakeTableProps) {
  const [name, setName] = useState(() => columnName(object.title))
  const asked = { connection, from, object: object.name, table: { namespace: schema, name } }
  const look = useQuery({
    queryKey: ['two-way', 'new-table', asked],
    queryFn: () => api<NewTableLook>('POST', '/two-way/new-table', { ...asked, make: false }),
    enabled: name.trim() !== '',
    placeholderData: before => before,
  })
  const make = async () => {
    const table = await api<NewTableLook>('POST', '/two-way/new-table', { ...asked, make: true })
    made({
      [side]: table.place,
      fields: newTableJoins(table, object, side),
      links: { [side]: table.link },
    })
  }
  return (
    <Confirm
      trigger={<TextButton>Make a table for {object.title} …</TextButton>}
      title={`Make a table for ${object.title} in ${called}?`}
      verb="Make it"
      ready={look.data !== undefined && name.trim() !== ''}
      act={make}
    >
      <TextField
        label={`Name of the table in ${schema}`}
        value={name}
        onChange={({ target }) => setName(target.value)}
      />
      <ErrorNotice error={look.error} />
      {look.data && <PasteBlock text={look.data.statements.map(one => `${one};`).join('\n')} />}
      <p className="text-[13px]">
        Its fields are joined then; what cannot be written in the other place only comes from there. It stays
        when the pipeline goes.
      </p>
    </Confirm>
  )
}
