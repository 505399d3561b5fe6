import { CLUBS } from '../world/nursery.sql.ts'
import { anyOf, type ColleagueDeed } from './colleagues.ts'
import type { StandInAppDefinition, StandInObject } from './definition.ts'
import type { Records } from './records.ts'

const trimmed = (text: string) => text.trim()
const lowered = (text: string) => text.trim().toLowerCase()

/** Membership of garden clubs. */
export const clubgateApp: StandInAppDefinition = {
  name: 'Clubgate',
  what: 'membership of garden clubs',
  token: 'clubgate-willow-token',
  perMinute: 1200,
  deletions: 'in a feed',
  calls: true,
  accounts: ['Osier Valley Growers', 'Osier Valley Growers, read by the auditors'],
  objects: [
    {
      name: 'organisations',
      schema: 'Organisation',
      prefix: 'org_',
      batch: 100,
      findBy: ['club_number', 'email'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 120, normal: trimmed },
        club_number: { type: 'string', title: 'Club number', maxLength: 20, unique: true, normal: trimmed },
        email: { type: 'string', format: 'email', title: 'E-mail', normal: lowered },
        telephone: { type: 'string', title: 'Telephone', maxLength: 30 },
        tier: { type: 'string', title: 'Tier', enum: ['seed', 'bloom', 'evergreen'] },
        joined_on: { type: 'string', format: 'date', title: 'Joined on' },
        orders_this_year: { type: 'integer', title: 'Orders this year' },
        spent_this_year: { type: 'number', title: 'Spent this year' },
        last_order_on: { type: 'string', format: 'date', title: 'Last order on' },
        news_wanted: { type: 'boolean', title: 'News wanted' },
        note: { type: 'string', title: 'Note', maxLength: 500 },
        contacts: {
          type: 'integer',
          title: 'Contacts',
          computed: ({ id }, all) => all('contacts').filter(({ organisation }) => organisation === id).length,
        },
      },
    },
    {
      name: 'contacts',
      schema: 'Contact',
      prefix: 'con_',
      batch: 100,
      findBy: ['email'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 120, normal: trimmed },
        email: { type: 'string', format: 'email', title: 'E-mail', unique: true, normal: lowered },
        organisation: { type: 'string', title: 'Organisation', refers: 'organisations' },
        telephone: { type: 'string', title: 'Telephone', maxLength: 30 },
        role: { type: 'string', title: 'Role', enum: ['chair', 'treasurer', 'grower', 'member'] },
      },
    },
  ],
}

const [ORGANISATIONS, CONTACTS] = clubgateApp.objects as [StandInObject, StandInObject]

const digits = (random: () => number) => String(Math.floor(random() * 100)).padStart(2, '0')
/** So many contacts beside those that were there are enough. */
const MOST_CONTACTS = 400

/** The clubs' office: telephones change, people take other parts, join and leave. */
export const clubgateColleagues: readonly ColleagueDeed[] = [
  (records, random) => {
    const club = anyOf(records.of('organisations'), random)
    if (club) records.change(ORGANISATIONS, club.id, { telephone: `555-02${digits(random)}` })
  },
  (records, random) => {
    const contact = anyOf(records.of('contacts'), random)
    if (contact) records.change(CONTACTS, contact.id, { role: anyOf(ROLES, random) })
  },
  (records, random) => {
    const name = `${anyOf(PEOPLE, random)!.split(' ')[0]} ${anyOf(FAMILIES, random)}`
    if (records.of('contacts').length < MOST_CONTACTS)
      records.create(CONTACTS, {
        name,
        email: `${name.toLowerCase().replace(' ', '.')}.${digits(random)}${digits(random)}@example.org`,
        organisation: anyOf(records.of('organisations'), random)?.id,
        role: 'member',
      })
    else records.remove(CONTACTS, records.of('contacts').at(-1)!.id)
  },
]

const TIERS = ['seed', 'bloom', 'evergreen']
const PEOPLE = ['Ada Fenwick', 'Bram Oakes', 'Cora Lindqvist', 'Dev Marlow', 'Elin Thorpe', 'Finn Arkwright']
const FAMILIES = ['Ashdown', 'Birch', 'Calloway', 'Dunmore', 'Eastwood', 'Fernley', 'Garrick']
const ORDERING = 280
const ROLES = ['chair', 'treasurer', 'grower', 'member']

/** Those that order, but for the last, which nobody has entered yet; and some that never have. */
export const CLUBS_THERE = [
  ...CLUBS.slice(0, -1).map(club => `${club} Garden Club`),
  'Withy Lane Allotments',
  'Old Mill Growers',
]

export const clubNumber = (club: number) => `GC-${101 + club}`

/** Each club has two of them. */
export function contactOf(club: number, n: number): { name: string; email: string; role: string } {
  const name = PEOPLE[(2 * club + n) % PEOPLE.length]!
  return {
    name,
    email: `${name.split(' ')[0]!.toLowerCase()}.${club}@example.org`,
    role: ROLES[(club + n) % ROLES.length]!,
  }
}

export function fillClubgate(records: Records): void {
  for (const [i, name] of CLUBS_THERE.entries()) {
    const { id } = records.create(ORGANISATIONS, {
      name,
      club_number: clubNumber(i),
      email: `office@${name.toLowerCase().match(/[a-z]+/)![0]}.example.org`,
      telephone: `555-01${String(10 + i)}`,
      tier: TIERS[i % TIERS.length],
      joined_on: `20${String(10 + (i % 14))}-0${1 + (i % 9)}-15`,
      news_wanted: i % 4 !== 3,
    })
    for (let n = 0; n < 2; n++) records.create(CONTACTS, { ...contactOf(i, n), organisation: id })
  }
  // Most of those who order by mail.
  for (let n = 0; n < ORDERING; n++) {
    records.create(CONTACTS, {
      name: `${PEOPLE[n % PEOPLE.length]!.split(' ')[0]} ${FAMILIES[n % FAMILIES.length]}`,
      email: `club${n}@example.org`,
      role: 'member',
    })
  }
}
