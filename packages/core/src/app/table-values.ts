/** Values of a table as an app would say them, and back: what both are compared and merged by is one form. */
import { listAsJson, listLiteral } from '../records/list.ts'
import type { LogicalType } from '../records/types.ts'
import type { Value } from '../merge/form.ts'

/** As databases print them in UTC; with years of four digits, after Christ. */
const CANONICAL = /^(\d{4}-\d{2}-\d{2}) (\d{2}:\d{2}:\d{2}(?:\.\d+)?)(\+00)?$/
const MOMENT = /^(\d{4}-\d{2}-\d{2})T(\d{2}:\d{2}:\d{2}(?:\.\d+)?)(Z|[-+]\d{2}:\d{2})$/

/** `value`: canonical text. Times without a zone are taken for UTC. */
export function toldAs(value: Value, type: LogicalType): Value {
  if (value === null) return null
  switch (type.kind) {
    case 'bool':
      return value === 't' ? 'true' : 'false'
    case 'timestamp': {
      const [, day, time] = CANONICAL.exec(value) ?? []
      return day === undefined ? value : `${day}T${time}Z`
    }
    case 'list':
      return listAsJson(value, type.delimiter)
    default:
      return value
  }
}

/** The inverse; `value` was held against the field's type before. A time without a zone is the UTC of the moment. */
export function canonicalOf(value: Value, type: LogicalType): Value {
  if (value === null) return null
  switch (type.kind) {
    case 'bool':
      return value === 'true' ? 't' : 'f'
    case 'timestamp':
      return momentAs(value, type.zoned)
    case 'list':
      return listLiteral(value === '[]' ? '{}' : value, type.delimiter)
    default:
      return value
  }
}

function momentAs(value: string, zoned: boolean): string {
  const [, day, time, zone] = MOMENT.exec(value) ?? []
  if (day === undefined) return value
  if (zone === 'Z') return `${day} ${time}${zoned ? '+00' : ''}`
  const [whole, fraction = ''] = time!.split(/(?=\.)/)
  const at = new Date(`${day}T${whole}${zone}`)
  if (Number.isNaN(at.getTime())) return value
  return `${at.toISOString().slice(0, 19).replace('T', ' ')}${fraction}${zoned ? '+00' : ''}`
}
