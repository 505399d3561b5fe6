import { columnName, madeJoins } from '@tide/core/app/made'
import type { AppObject } from '@tide/core/app/object'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { useState } from 'react'
import { TextButton } from '../../parts/Button.tsx'
import { TextField } from '../../parts/Field.tsx'
import { Make } from './Make.tsx'

interface MakeTableProps {
  /** Where it is made, and what that is called. */
  connection: string
  called: string
  /** null: there are none. */
  schema: string | null
  side: 'a' | 'b'
  /** Of the other side. */
  from: string
  far: string
  object: AppObject
  /** It is there. */
  made: (part: Partial<TwoWayLane>) => void
}

/** Makes a table for all that the other side has of its records. */
export function MakeTable({ connection, called, schema, side, from, far, object, made }: MakeTableProps) {
  const [name, setName] = useState(() => (schema === null ? object.title : columnName(object.title)))
  const table = name.trim()
  const wanted = { into: { table, schema }, link: `${far} key` }
  return (
    <Make
      trigger={<TextButton>Make a table for {object.title} …</TextButton>}
      title={`Make a table for ${object.title} in ${called}?`}
      all={table === '' ? [] : [{ connection, from, object, wanted }]}
      made={([one]) =>
        made({
          [side]: one!.place,
          fields: madeJoins(one!, object, side),
          ...(one!.link === null ? {} : { links: { [side]: one!.link } }),
        })
      }
    >
      <TextField
        label={schema === null ? 'Name of the table' : `Name of the table in ${schema}`}
        value={name}
        onChange={({ target }) => setName(target.value)}
      />
    </Make>
  )
}
