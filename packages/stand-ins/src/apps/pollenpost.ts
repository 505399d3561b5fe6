import { anyOf, type ColleagueDeed } from './colleagues.ts'
import type { StandInAppDefinition, StandInObject } from './definition.ts'
import type { Records } from './records.ts'

const lowered = (text: string) => text.trim().toLowerCase()

/** Mailing audiences. Nobody can read their members, only how many there are. */
export const pollenpostApp: StandInAppDefinition = {
  name: 'Pollenpost',
  what: 'mailing audiences',
  token: 'pollenpost-linden-token',
  perMinute: 600,
  objects: [
    {
      name: 'audiences',
      schema: 'Audience',
      prefix: 'aud_',
      batch: 100,
      findBy: ['name'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 80, unique: true },
        members: {
          type: 'integer',
          title: 'Members',
          computed: ({ id }, all) => all('members').filter(({ audience }) => audience === id).length,
        },
      },
    },
    {
      name: 'members',
      schema: 'Member',
      prefix: 'mem_',
      batch: 500,
      findBy: ['audience'],
      countsOnly: true,
      together: ['audience', 'email'],
      fields: {
        audience: { type: 'string', title: 'Audience', required: true, refers: 'audiences' },
        email: {
          type: 'string',
          format: 'email',
          title: 'E-mail',
          required: true,
          normal: lowered,
          refuses: email => (BOUNCED.has(email) ? `mail to ${email} has bounced before` : undefined),
        },
        name: { type: 'string', title: 'Name', maxLength: 120 },
        last_order_on: { type: 'string', format: 'date', title: 'Last order on' },
      },
    },
  ],
}

const [AUDIENCES, MEMBERS] = pollenpostApp.objects as [StandInObject, StandInObject]
const BOUNCED = new Set(['club104@example.org'])

export function fillPollenpost(records: Records): void {
  for (const name of ['Lapsing clubs', 'Lapsed clubs', 'Spring catalogue'])
    records.create(AUDIENCES, { name })
}

const MOST_READERS = 60
const NAMES = ['Ash', 'Briar', 'Clover', 'Dock', 'Elder', 'Fern', 'Gorse', 'Hazel']

/** They keep the audience that nobody else fills. */
export const pollenpostColleagues: readonly ColleagueDeed[] = [
  (records, random) => {
    const readers = readersIn(records)
    if (readers.length >= MOST_READERS) return
    const name = `${anyOf(NAMES, random)} ${anyOf(NAMES, random)}`
    const email = `${name.toLowerCase().replace(' ', '.')}.${Math.floor(random() * 1000)}@example.org`
    const audience = catalogue(records)?.id
    if (audience !== undefined) records.create(MEMBERS, { audience, email, name })
  },
  // Somebody wants no more of it.
  (records, random) => {
    const reader = anyOf(readersIn(records), random)
    if (reader) records.remove(MEMBERS, reader.id)
  },
]

const catalogue = (records: Records) =>
  records.of('audiences').find(({ name }) => name === 'Spring catalogue')

function readersIn(records: Records) {
  const audience = catalogue(records)?.id
  return records.of('members').filter(one => one.audience === audience)
}
