import { fieldsToMake, madeJoins } from '@tide/core/app/made'
import type { AppField, AppObject } from '@tide/core/app/object'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { TextButton } from '../../parts/Button.tsx'
import { Make } from './Make.tsx'

interface MakeFieldsProps {
  lane: TwoWayLane
  side: 'a' | 'b'
  /** Where they are made, what that is called, and of which the fields are. */
  connection: string
  called: string
  from: string
  far: AppObject
  /** Fields that are in no pair. */
  free: readonly AppField[]
  change: (part: Partial<TwoWayLane>) => void
}

/** Makes fields on one side for those of the other that are in no pair. */
export function MakeFields({ lane, side, connection, called, from, far, free, change }: MakeFieldsProps) {
  const can = new Set(fieldsToMake(far).map(({ name }) => name))
  const fields = free.filter(({ name }) => can.has(name))
  if (fields.length === 0) return null
  const what = fields.length === 1 ? `“${fields[0]!.title}”` : `all ${fields.length} of ${far.title}`
  const wanted = {
    into: { place: lane[side] },
    fields: fields.map(({ name }) => name),
    link: null,
  }
  return (
    <Make
      trigger={
        <TextButton>
          Make {fields.length === 1 ? 'a field' : 'fields'} in {called} for {what} …
        </TextButton>
      }
      title={`Make ${fields.length === 1 ? 'a field' : `${fields.length} fields`} in ${called}?`}
      all={[{ connection, from, object: far, wanted }]}
      made={([one]) => change({ fields: [...lane.fields, ...madeJoins(one!, far, side)] })}
    />
  )
}
