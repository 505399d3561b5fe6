/** A table, or columns of one, for records of another place. */
import type { MakeAsked } from '@tide/connectors/contract/app'
import type { RowSide } from '@tide/connectors/contract/rows'
import type { TargetSide } from '@tide/connectors/contract/target'
import { columnName, freeNames, type MadeLook } from '@tide/core/app/made'
import { placeName } from '@tide/core/app/table-object'
import type { DatasetName } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'

const OWN_KEY: LogicalType = { kind: 'int', bits: 64, signed: true }
const TEXT: LogicalType = { kind: 'utf8' }

/** `there`: the table that gets columns; undefined: a new one is made, with a key that the database gives. */
export function tableToMake(
  { into, fields, link }: MakeAsked,
  there: { table: DatasetName; columns: readonly string[] } | undefined,
  { target, rowSide }: { target: TargetSide; rowSide: RowSide },
): MadeLook {
  const free = freeNames(there?.columns ?? [])
  const named = (text: string) => free(columnName(text))
  const mapped = (type: LogicalType) =>
    target.profile.typeOf({ type, nativeType: '', sameKind: false, keyParts: 0 })
  const column = (name: string, type: LogicalType) => ({
    name,
    type,
    nativeType: mapped(type).native,
    nullable: true,
  })
  const key = there ? undefined : named('id')
  const linked = link === null ? undefined : named(link)
  // What the database cannot hold has no column.
  const held = fields
    .filter(({ type }) => mapped(type).refused === undefined)
    .map(({ name, type }) => ({ field: name, name: named(name), type }))
  const columns = [
    ...(linked === undefined ? [] : [column(linked, TEXT)]),
    ...held.map(({ name, type }) => column(name, type)),
  ]
  const table = 'place' in into ? there!.table : { namespace: into.schema ?? 'public', name: into.table }
  const calls = target.ddl([
    key === undefined
      ? { step: 'alter table', table, drops: [], renames: [], adds: columns }
      : {
          step: 'create table',
          table,
          key: [key],
          columns: [{ name: key, type: OWN_KEY, nativeType: rowSide.ownKey, nullable: false }, ...columns],
        },
  ])
  return {
    place: placeName(table),
    calls,
    joins: held.map(({ field, name, type }) => ({
      field,
      column: name,
      ...(type.kind === 'bool' && rowSide.truthIsNumber ? { asNumber: true as const } : {}),
    })),
    link: linked ?? null,
  }
}
