/** Objects that people make for themselves in an app: the app tells which there are, and what fields they have. */
import { Type, type Static } from 'typebox'
import { closed, method, path, pointer } from './described-parts.ts'
import { recordParts } from './described-records.ts'
import type { AppField } from './object.ts'

/** What a type of the app's is; the first that holds a field is the one that it is made of. */
const typeSchema = Type.Object(
  {
    is: Type.Enum(['string', 'integer', 'number', 'boolean', 'set'], { title: 'Type' }),
    format: Type.Optional(
      Type.Enum(['date', 'date-time', 'decimal', 'email'], { title: 'What its text holds' }),
    ),
    /** A field of it has choices, and takes no other values. */
    choices: Type.Optional(Type.Literal(true)),
    /** Of a set of attachments: where the link to one stands in it. They are read as links, and not written. */
    link: Type.Optional(pointer('Where the link to an element stands')),
    /** Fields of it hold what is linked, or computed; none are made of it. */
    notMade: Type.Optional(Type.Literal(true)),
  },
  closed,
)

const some = (title: string) => Type.Optional(pointer(title))

export const discoverySchema = Type.Object(
  {
    list: Type.Object(
      {
        path: path('Path'),
        items: some('Where the objects stand'),
        id: pointer('Where the key of an object stands'),
        title: some('Where its title stands'),
        label: some('Where the field stands that people know a record by'),
        readOnly: some('Where it says that its records are not written'),
      },
      closed,
    ),
    /** Of an object: in its own answer, or where the path says; `{object}` is its key. */
    fields: Type.Object(
      {
        path: Type.Optional(path('Path')),
        items: some('Where the fields stand'),
        id: pointer('Where the key of a field stands'),
        title: some('Where its title stands'),
        type: pointer('Where its type stands'),
        required: some('Where it says that it is required'),
        readOnly: some('Where it says that it is not written'),
        unique: some('Where it says that no two records have the same'),
        choices: some('Where its choices stand'),
        maxLength: some('Where its longest text stands'),
        refers: some('Where the object stands whose key it holds'),
      },
      closed,
    ),
    /** By what the app calls them. A field of another is shown as it is, and not written. */
    types: Type.Record(Type.String({ maxLength: 100 }), typeSchema),
    /** In the paths `{object}` is the key of the object. */
    records: Type.Object(recordParts, closed),
    /** How objects and fields are made. */
    make: Type.Optional(
      Type.Object(
        {
          /** In its body `$title` and `$fields` stand for what they say; `$fields` are as `field` has them. */
          object: Type.Object(
            {
              path: path('Path'),
              method: method('POST'),
              body: Type.Unknown(),
              id: pointer('Where the key stands'),
              fields: pointer('Where its fields stand, in the order in which they were asked for'),
            },
            closed,
          ),
          /** In its body `$title`, `$type` and `$choices` stand for what they say. */
          field: Type.Object(
            {
              path: path('Path'),
              method: method('POST'),
              body: Type.Unknown(),
              id: pointer('Where the key stands'),
            },
            closed,
          ),
        },
        closed,
      ),
    ),
  },
  closed,
)

export type DescribedDiscovery = Static<typeof discoverySchema>
type Types = DescribedDiscovery['types']

/** What the app calls the type of which a field for the values of `field` is made; undefined: none holds them. */
export function typeToMake(
  { type, choices, email }: Pick<AppField, 'type' | 'choices' | 'email'>,
  types: Types,
): string | undefined {
  const wanted = wantedOf(type, email)
  const fits = Object.entries(types).filter(
    ([, { is, notMade, link }]) =>
      notMade !== true && link === undefined && wanted.some(one => one.is === is),
  )
  const best = (asked: (one: Types[string]) => boolean) => fits.find(([, one]) => asked(one))?.[0]
  const hasChoices = choices !== null && type.kind !== 'list'
  for (const { is, format } of wanted) {
    const fitting = best(
      one => one.is === is && one.format === format && (one.choices === true) === hasChoices,
    )
    if (fitting !== undefined) return fitting
  }
  return hasChoices ? typeToMake({ type, email, choices: null }, types) : undefined
}

/** The best first. */
function wantedOf(type: AppField['type'], email: boolean): Types[string][] {
  const text: Types[string] = { is: 'string' }
  switch (type.kind) {
    case 'bool':
      return [{ is: 'boolean' }]
    case 'int':
      return [{ is: 'integer' }, { is: 'number' }]
    case 'decimal':
    case 'float':
      return [{ is: 'string', format: 'decimal' }, { is: 'number' }]
    case 'date':
      return [{ is: 'string', format: 'date' }]
    case 'timestamp':
      return [{ is: 'string', format: 'date-time' }, text]
    case 'list':
      return type.of.kind === 'utf8' ? [{ is: 'set' }] : []
    case 'utf8':
      return email ? [{ is: 'string', format: 'email' }, text] : [text]
    case 'json':
      return []
    default:
      return [text]
  }
}
