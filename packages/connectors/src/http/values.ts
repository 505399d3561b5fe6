/** Values of an app's JSON as canonical text, and back. */
import type { AppField } from '@tide/core/app/object'
import { isLosslessNumber, LosslessNumber, parse, stringify } from 'lossless-json'

/** As the app sent it. */
export function textOf(value: unknown): string | null {
  if (value === null || value === undefined) return null
  if (typeof value === 'string') return value
  if (typeof value === 'boolean') return value ? 'true' : 'false'
  if (isLosslessNumber(value)) return value.value
  return stringify(value) ?? null
}

/** `text` was held against the field's type before. */
export function jsonOf(text: string | null, { type: { kind } }: Pick<AppField, 'type'>): unknown {
  if (text === null) return null
  switch (kind) {
    case 'int':
    case 'decimal':
    case 'float':
      return new LosslessNumber(text)
    case 'bool':
      return text === 'true'
    case 'list':
    case 'json':
      return parse(text)
    default:
      return text
  }
}

/** https://www.rfc-editor.org/rfc/rfc6901 */
export function at(value: unknown, pointer: string): unknown {
  let found = value
  for (const part of pointer.split('/').slice(1)) {
    const name = part.replaceAll('~1', '/').replaceAll('~0', '~')
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, name)) return undefined
    found = (found as Record<string, unknown>)[name]
  }
  return found
}

/** An object in which the value stands at the pointer. */
export function placed(pointer: string, value: unknown): unknown {
  return pointer
    .split('/')
    .slice(1)
    .reduceRight<unknown>((inner, name) => ({ [name]: inner }), value)
}

/** A template with what `$name` stands for in its place. */
export function filled(template: unknown, given: Readonly<Record<string, unknown>>): unknown {
  if (typeof template === 'string' && template.startsWith('$')) {
    const name = template.slice(1)
    return Object.hasOwn(given, name) ? given[name] : template
  }
  if (Array.isArray(template)) return template.map(one => filled(one, given))
  if (typeof template !== 'object' || template === null) return template
  return Object.fromEntries(Object.entries(template).map(([name, one]) => [name, filled(one, given)]))
}

/** Something but no. */
export function isSaid(value: unknown): boolean {
  return value !== undefined && value !== null && value !== false
}
