/**
 * What an app is, said in data, on top of its OpenAPI document: where its objects are listed, read and written, how its answers come in
 * pages, what it puts up with. A user writes one for an app of theirs; docs/described-apps.md is for them.
 */
import { Type, type Static } from 'typebox'
import { closed, method, path, pointer } from './described-parts.ts'
import { discoverySchema } from './discovery.ts'
import { recordParts } from './described-records.ts'
import { sheetsSchema } from './described-sheets.ts'

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
    /** The field that people know one by. */
    label: Type.Optional(Type.String({ title: 'Label', maxLength: 200 })),
    ...recordParts,
    /** What the OpenAPI document does not say of a field. */
    fields: Type.Optional(
      Type.Record(
        Type.String(),
        Type.Object(
          {
            /** An object whose key its values are. */
            refers: Type.Optional(Type.String()),
            unique: Type.Optional(Type.Boolean()),
            /** A list of attachments: where the link to one stands in it. They are read as links, and not written. */
            link: Type.Optional(pointer('Where the link to an element stands')),
          },
          closed,
        ),
      ),
    ),
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
    /** Objects that people make for themselves; there is one of these two. */
    discovery: Type.Optional(discoverySchema),
    sheets: Type.Optional(sheetsSchema),
  },
  closed,
)

export type AppDescription = Static<typeof appDescriptionSchema>
export type DescribedObject = Static<typeof objectSchema>
export type WebhookSigning = Static<typeof signingSchema>
