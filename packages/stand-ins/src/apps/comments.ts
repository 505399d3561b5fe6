/** What people say of a record, and who it was. */
import type { StandInObject } from './definition.ts'

/** `field`: in which a comment names the record of `of`. */
export function commentsOn(of: string, field: string, title: string): StandInObject {
  return {
    name: 'comments',
    schema: 'Comment',
    prefix: 'c',
    first: 1,
    batch: 10,
    findBy: [field],
    remarks: { field, body: 'body' },
    fields: {
      [field]: { type: 'string', title, required: true, refers: of },
      body: {
        type: 'string',
        title: 'Comment',
        required: true,
        maxLength: 4000,
        normal: text => text.trim(),
      },
      author: { type: 'string', title: 'Author', maker: true },
    },
  }
}
