/** What parts of a description are made of. */
import { Type } from 'typebox'

export const closed = { additionalProperties: false }
export const path = (title: string) => Type.String({ title, pattern: '^/[^\\s]*$', maxLength: 500 })
/** https://www.rfc-editor.org/rfc/rfc6901 */
export const pointer = (title: string) => Type.String({ title, pattern: '^(/[^/]*)*$', maxLength: 300 })
export const method = (preset: string) =>
  Type.Optional(Type.Enum(['GET', 'POST', 'PUT', 'PATCH', 'DELETE'], { title: 'Method', default: preset }))
