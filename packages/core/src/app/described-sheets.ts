import { Type, type Static } from 'typebox'
import { closed, method, path, pointer } from './described-parts.ts'

/** Sheets of rows that are known by their numbers alone; the first row names the columns, and every value is text. */
export const sheetsSchema = Type.Object(
  {
    list: Type.Object(
      {
        path: path('Path'),
        items: Type.Optional(pointer('Where the sheets stand')),
        id: pointer('Where the key of a sheet stands'),
        title: pointer('Where its title stands'),
      },
      closed,
    ),
    /** A page of rows; in the paths `{id}` is the key of the sheet. */
    rows: Type.Object(
      {
        path: path('Path'),
        from: Type.String({ title: 'Parameter: the number of the first row' }),
        size: Type.Object(
          { parameter: Type.String(), most: Type.Integer({ minimum: 1, maximum: 10_000 }) },
          closed,
        ),
        /** What is another one after every change of the sheet. */
        revision: pointer('Where the revision stands'),
        header: pointer('Where the first row stands'),
        items: pointer('Where the rows stand'),
        number: pointer('Where the number of a row stands'),
        cells: pointer('Where its values stand'),
      },
      closed,
    ),
    /** Several changes at once, all or none, of the revision that the header names. */
    write: Type.Object(
      {
        path: path('Path'),
        method: method('POST'),
        header: Type.String({ title: 'Header of the revision', pattern: '^[A-Za-z0-9-]{1,80}$' }),
        most: Type.Integer({ title: 'Rows at most', minimum: 1, maximum: 10_000 }),
        /** Lists in the body. What stands in `cell` is sent for each value: `$row`, `$column` (from 0) and `$value` stand for its own. */
        cells: pointer('Where the values stand'),
        cell: Type.Unknown(),
        append: pointer('Where the new rows stand'),
        remove: pointer('Where the numbers of rows stand that are to go'),
        /** In the answer. */
        revision: pointer('Where the revision stands'),
        items: pointer('Where the rows stand as they are then'),
      },
      closed,
    ),
    /** A new column at the end; in its body `$title` stands for its title. The header of `write` names the revision. */
    column: Type.Object({ path: path('Path'), method: method('POST'), body: Type.Unknown() }, closed),
  },
  closed,
)

export type DescribedSheets = Static<typeof sheetsSchema>
