/** Where records of an object are listed, read and written. */
import { Type, type Static, type TObject } from 'typebox'
import { closed, method, path, pointer } from './described-parts.ts'

const pagingSchema = Type.Union([
  Type.Object(
    { by: Type.Literal('cursor'), parameter: Type.String(), next: pointer('Where the next cursor stands') },
    closed,
  ),
  Type.Object(
    {
      by: Type.Literal('page'),
      parameter: Type.String(),
      first: Type.Optional(Type.Integer({ minimum: 0 })),
    },
    closed,
  ),
  Type.Object({ by: Type.Literal('offset'), parameter: Type.String() }, closed),
  /** https://www.rfc-editor.org/rfc/rfc8288 */
  Type.Object({ by: Type.Literal('link') }, closed),
])

export type Paging = Static<typeof pagingSchema>

export const recordParts = {
  /** The field that the app knows a record by. */
  key: Type.String({ title: 'Key', maxLength: 200 }),
  list: Type.Optional(
    Type.Object(
      {
        path: path('Path'),
        items: Type.Optional(pointer('Where the records stand')),
        total: Type.Optional(pointer('Where their number stands')),
        paging: Type.Optional(pagingSchema),
        size: Type.Optional(
          Type.Object(
            { parameter: Type.String(), most: Type.Integer({ minimum: 1, maximum: 10_000 }) },
            closed,
          ),
        ),
        /** By field: the parameter that asks for the records with just that value. */
        where: Type.Optional(Type.Record(Type.String(), Type.String())),
        /** How it is asked for the records that have changed since. */
        changed: Type.Optional(
          Type.Object(
            {
              parameter: Type.String({ title: 'Parameter' }),
              /** In which a record says when it was changed. */
              field: Type.String({ title: 'Field' }),
              /** So many seconds are asked for again: the app may write a time that is earlier than that at which a record is seen. */
              overlap: Type.Optional(Type.Integer({ title: 'Overlap', minimum: 1, maximum: 86_400 })),
              /** What else is asked for with it, by parameter. */
              with: Type.Optional(Type.Record(Type.String(), Type.String())),
              /** What was deleted is in the list, too, and says so there. */
              gone: Type.Optional(pointer('Where a record says that it was deleted')),
            },
            closed,
          ),
        ),
      },
      closed,
    ),
  ),
  /** A list of what was deleted, from a place in it on. Its last page is empty. */
  gone: Type.Optional(
    Type.Object(
      {
        path: path('Path'),
        items: Type.Optional(pointer('Where what was deleted stands')),
        id: pointer('Where the key of one stands'),
        parameter: Type.String({ title: 'Parameter', maxLength: 200 }),
        next: pointer('Where the place stands from which it goes on'),
      },
      closed,
    ),
  ),
  /** The field that tells when a record was made. */
  created: Type.Optional(Type.String({ title: 'Made at', maxLength: 200 })),
  /** The field that is another one after every change of a record, and the header in which a change names the one that it is of. */
  version: Type.Optional(
    Type.Object(
      {
        field: Type.String({ title: 'Field' }),
        header: Type.Optional(Type.String({ title: 'Header', pattern: '^[A-Za-z0-9-]{1,80}$' })),
      },
      closed,
    ),
  ),
  read: Type.Optional(
    Type.Object({ path: path('Path'), item: Type.Optional(pointer('Where it stands')) }, closed),
  ),
  create: Type.Optional(
    Type.Object(
      { path: path('Path'), method: method('POST'), item: Type.Optional(pointer('Where it stands')) },
      closed,
    ),
  ),
  change: Type.Optional(
    Type.Object(
      { path: path('Path'), method: method('PATCH'), item: Type.Optional(pointer('Where it stands')) },
      closed,
    ),
  ),
  remove: Type.Optional(Type.Object({ path: path('Path'), method: method('DELETE') }, closed)),
  /** Several at once. What stands in `create`, `change` and `remove` is sent for each: `$id`, `$version`, `$values` and `$values.field` stand for its own. */
  batch: Type.Optional(
    Type.Object(
      {
        path: path('Path'),
        method: method('POST'),
        most: Type.Integer({ title: 'At most', minimum: 1, maximum: 10_000 }),
        /** Where in the body the list of them stands. */
        operations: pointer('Where the operations stand'),
        create: Type.Optional(Type.Unknown()),
        change: Type.Optional(Type.Unknown()),
        remove: Type.Optional(Type.Unknown()),
        /** In the answer: the list of what became of each, in the same order. */
        answers: pointer('Where the answers stand'),
        id: Type.Optional(pointer('Where the key stands')),
        refused: pointer('What is there where one was refused'),
        message: pointer('The app’s own words'),
        field: Type.Optional(pointer('The field that is to blame')),
        /** The record as it is then. */
        item: Type.Optional(pointer('Where the record stands')),
        /** How the app says that somebody has changed the record since. */
        changed: Type.Optional(Type.Object({ at: pointer('Where it is said'), is: Type.String() }, closed)),
        /** How the app says that there is no such record. */
        gone: Type.Optional(Type.Object({ at: pointer('Where it is said'), is: Type.String() }, closed)),
      },
      closed,
    ),
  ),
}

export type DescribedRecords = Static<TObject<typeof recordParts>>
