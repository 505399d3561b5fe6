/** Records of an app's JSON by their fields, and back. */
import type { AppField, WriteOperation } from '@tide/core/app/object'
import type { AppRecord } from '../contract/app.ts'
import { at, jsonOf, textOf } from './values.ts'

/** What the app answers of a record, where it has its key. */
export function recordIn(
  answer: unknown,
  pointer: string | undefined,
  key: string,
  fields: readonly AppField[],
): { record?: AppRecord } {
  const record = pointer === undefined ? undefined : at(answer, pointer)
  return textOf(at(record, `/${key}`)) === null ? {} : { record: recordOf(record, fields) }
}

export function recordOf(told: unknown, fields: readonly AppField[]): AppRecord {
  const record = Object(told) as Record<string, unknown>
  return Object.fromEntries(
    fields.map(({ name, link }) => {
      const value = Object.hasOwn(record, name) ? record[name] : null
      return [name, textOf(link === undefined ? value : linksIn(value, link))]
    }),
  )
}

/** Of attachments what leads to them; one without is none. */
function linksIn(value: unknown, link: string): unknown {
  if (!Array.isArray(value)) return value
  return value.flatMap(one => textOf(at(one, link)) ?? [])
}

export function jsonValues(
  values: WriteOperation['values'],
  fields: readonly AppField[],
): Record<string, unknown> {
  const known = new Map(fields.map(field => [field.name, field]))
  return Object.fromEntries(
    Object.entries(values).map(([name, text]) => [name, jsonOf(text, known.get(name)!)]),
  )
}
