/**
 * What an app is, said in data, on top of its OpenAPI document: where its objects are listed, read and written, how its answers come in
 * pages, what it puts up with. A user writes one for an app of theirs; docs/described-apps.md is for them.
 */
import { Type, type Static } from 'typebox'

const closed = { additionalProperties: false }
const path = (title: string) => Type.String({ title, pattern: '^/[^\\s]*$', maxLength: 500 })
/** https://www.rfc-editor.org/rfc/rfc6901 */
const pointer = (title: string) => Type.String({ title, pattern: '^(/[^/]*)*$', maxLength: 300 })
const method = (preset: string) =>
  Type.Optional(Type.Enum(['GET', 'POST', 'PUT', 'PATCH', 'DELETE'], { title: 'Method', default: preset }))

const signInSchema = Type.Union([
  Type.Object({ by: Type.Literal('nothing') }, closed),
  Type.Object({ by: Type.Literal('bearer token') }, closed),
  Type.Object(
    { by: Type.Literal('header'), header: Type.String({ pattern: '^[A-Za-z0-9-]{1,80}$' }) },
    closed,
  ),
  Type.Object({ by: Type.Literal('basic') }, closed),
  Type.Object(
    {
      by: Type.Literal('client credentials'),
      token: path('Where tokens are had'),
      scope: Type.Optional(Type.String({ maxLength: 1000 })),
    },
    closed,
  ),
  /** OAuth 2.0 with PKCE: a person lets us in on the app's own page. */
  Type.Object(
    {
      by: Type.Literal('authorization code'),
      authorize: path('The page on which a person lets others in'),
      token: path('Where tokens are had'),
      revoke: Type.Optional(path('Where tokens are given back')),
      scope: Type.Optional(Type.String({ maxLength: 1000 })),
    },
    closed,
  ),
])

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

const signingSchema = Type.Union([
  Type.Object({ by: Type.Literal('standard webhooks') }, closed),
  /** Of the body, as hexadecimal digits. */
  Type.Object(
    {
      by: Type.Literal('hmac sha256'),
      header: Type.String({ title: 'Header', pattern: '^[A-Za-z0-9-]{1,80}$' }),
      before: Type.Optional(Type.String({ title: 'Text before it', maxLength: 40 })),
    },
    closed,
  ),
])

/** An object of an app: what is called a table elsewhere. */
const objectSchema = Type.Object(
  {
    title: Type.Optional(Type.String({ title: 'Title', maxLength: 120 })),
    /** Of the OpenAPI document's components. */
    schema: Type.String({ title: 'Schema', maxLength: 200 }),
    /** The field that the app knows a record by. */
    key: Type.String({ title: 'Key', maxLength: 200 }),
    /** The field that people know one by. */
    label: Type.Optional(Type.String({ title: 'Label', maxLength: 200 })),
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
              },
              closed,
            ),
          ),
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
    /** What the OpenAPI document does not say of a field. */
    fields: Type.Optional(
      Type.Record(
        Type.String(),
        Type.Object(
          {
            /** An object whose key its values are. */
            refers: Type.Optional(Type.String()),
            unique: Type.Optional(Type.Boolean()),
          },
          closed,
        ),
      ),
    ),
  },
  closed,
)

/** Sheets of rows that are known by their numbers alone; the first row names the columns, and every value is text. */
const sheetsSchema = Type.Object(
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

export const appDescriptionSchema = Type.Object(
  {
    description: Type.Literal(1),
    app: Type.String({ title: 'App', minLength: 1, maxLength: 80 }),
    summary: Type.Optional(Type.String({ title: 'Summary', maxLength: 200 })),
    signIn: signInSchema,
    limits: Type.Optional(
      Type.Object(
        {
          perMinute: Type.Optional(Type.Integer({ title: 'Requests a minute', minimum: 1 })),
          concurrent: Type.Optional(Type.Integer({ title: 'Requests at once', minimum: 1, maximum: 64 })),
        },
        closed,
      ),
    ),
    /** The header that makes a request count once, however often it is sent. */
    idempotency: Type.Optional(Type.String({ title: 'Idempotency header', pattern: '^[A-Za-z0-9-]{1,80}$' })),
    /** The app calls an address of ours when a record has changed. */
    webhooks: Type.Optional(
      Type.Object(
        {
          /** In its body `$url`, `$secret` and `$object` stand for what they say. */
          subscribe: Type.Object(
            { path: path('Path'), method: method('POST'), body: Type.Unknown() },
            closed,
          ),
          id: pointer('Where the key of the subscription stands'),
          remove: Type.Optional(Type.Object({ path: path('Path'), method: method('DELETE') }, closed)),
          signed: signingSchema,
        },
        closed,
      ),
    ),
    objects: Type.Record(Type.String({ pattern: '^[A-Za-z0-9_-]{1,80}$' }), objectSchema),
    /** Places that people make for themselves. */
    sheets: Type.Optional(sheetsSchema),
  },
  closed,
)

export type AppDescription = Static<typeof appDescriptionSchema>
export type DescribedObject = Static<typeof objectSchema>
export type DescribedSheets = Static<typeof sheetsSchema>
export type WebhookSigning = Static<typeof signingSchema>
export type Paging = Static<typeof pagingSchema>
