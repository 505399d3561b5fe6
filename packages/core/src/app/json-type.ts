/** What a value of an app's JSON is, by the names of JSON Schema and OpenAPI; a list is what its elements are. */
import type { LogicalType } from '../records/types.ts'

export function jsonType(name: string, format: string | undefined): LogicalType {
  switch (name) {
    case 'string':
      switch (format) {
        case 'date':
          return { kind: 'date' }
        case 'date-time':
          return { kind: 'timestamp', zoned: true }
        case 'decimal':
          return { kind: 'decimal' }
        default:
          return { kind: 'utf8' }
      }
    case 'integer':
      return { kind: 'int', bits: 64, signed: true }
    case 'number':
      return { kind: 'decimal' }
    case 'boolean':
      return { kind: 'bool' }
    default:
      return { kind: 'json' }
  }
}
