import { Random } from '../world/random.ts'
import { anyOf, type ColleagueDeed } from './colleagues.ts'
import { commentsOn } from './comments.ts'
import type { StandInAppDefinition, StandInObject } from './definition.ts'
import type { Records } from './records.ts'

const trimmed = (text: string) => text.trim()
const lowered = (text: string) => text.trim().toLowerCase()

const STATUSES = ['new', 'planned', 'in progress', 'waiting for parts', 'done', 'dropped']
const KINDS = ['repair', 'build', 'check']
const PRIORITIES = ['low', 'usual', 'high']
const LABELS = ['growers', 'beds', 'water', 'glass', 'gates', 'frost', 'urgent']
const CREW = ['o.marsh@example.org', 'p.quill@example.org', 'r.sorrel@example.org', 's.teasel@example.org']

/** Work tickets of the maintenance crew. */
export const rakeboardApp: StandInAppDefinition = {
  name: 'Rakeboard',
  what: 'work tickets of the maintenance crew',
  token: 'rakeboard-hazel-token',
  perMinute: 1200,
  deletions: 'in the list',
  calls: true,
  objects: [
    {
      name: 'programmes',
      schema: 'Programme',
      prefix: 'PRG-',
      first: 11,
      batch: 50,
      findBy: ['name'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 80, unique: true, normal: trimmed },
        about: { type: 'string', title: 'About', maxLength: 500 },
        tickets: {
          type: 'integer',
          title: 'Tickets',
          computed: ({ id }, all) => all('tickets').filter(({ programme }) => programme === id).length,
        },
      },
    },
    {
      name: 'seasons',
      schema: 'Season',
      prefix: 'SEA-',
      first: 1,
      batch: 50,
      findBy: ['name'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 40, unique: true, normal: trimmed },
      },
    },
    {
      name: 'tickets',
      schema: 'Ticket',
      prefix: 'RKB-',
      first: 101,
      batch: 50,
      findBy: ['status', 'assignee'],
      fields: {
        summary: { type: 'string', title: 'Summary', required: true, maxLength: 160, normal: trimmed },
        kind: { type: 'string', title: 'Kind', enum: KINDS },
        status: { type: 'string', title: 'Status', enum: STATUSES },
        priority: { type: 'string', title: 'Priority', enum: PRIORITIES },
        assignee: { type: 'string', format: 'email', title: 'Assignee', normal: lowered },
        labels: { type: 'array', title: 'Labels' },
        season: { type: 'string', title: 'Season', refers: 'seasons' },
        programme: { type: 'string', title: 'Programme', refers: 'programmes' },
        start_on: { type: 'string', format: 'date', title: 'Start on' },
        due_at: { type: 'string', format: 'date-time', title: 'Due at' },
        estimate_hours: { type: 'number', title: 'Estimate, in hours' },
        notes: { type: 'string', title: 'Notes', maxLength: 4000 },
        links: { type: 'array', title: 'Links' },
        benchbook_job: { type: 'string', title: 'Job in Benchbook', maxLength: 40 },
        watchers: {
          type: 'integer',
          title: 'Watchers',
          computed: ({ id }) => (Number(id.replace(/\D/g, '')) * 7) % 11,
        },
      },
    },
    commentsOn('tickets', 'ticket', 'Ticket'),
  ],
}

const [PROGRAMMES, SEASONS, TICKETS, COMMENTS] = rakeboardApp.objects as [
  StandInObject,
  StandInObject,
  StandInObject,
  StandInObject,
]

const WORK = ['Mend', 'Paint', 'Clear', 'Replace', 'Check', 'Move', 'Drain', 'Level']
const THINGS = [
  'the north gate',
  'the glass of house 3',
  'the pump at Brackenfell',
  'the path to the beds',
  'the potting bench',
  'the rain barrels',
  'the shade nets',
  'the cold frames',
  'the fence at Cotterdale',
]

const SAYINGS = [
  'The hinge is ordered, and comes on Thursday.',
  'Please keep the hose clear of the door until then.',
  'Done as far as the light allowed; the rest tomorrow.',
  'Who has the key?',
  'It drips again at the second joint.',
]
/** So many comments are enough. */
const MOST_COMMENTS = 400
/** So many tickets are enough. */
const MOST_TICKETS = 320

/** The crew: they move tickets on, write labels, say something, open and drop tickets. */
export const rakeboardColleagues: readonly ColleagueDeed[] = [
  (records, random) => {
    if (records.of('comments').length < MOST_COMMENTS) comment(records, random)
  },
  (records, random) => {
    const ticket = anyOf(records.of('tickets'), random)
    if (ticket) records.change(TICKETS, ticket.id, { status: anyOf(STATUSES, random) })
  },
  (records, random) => {
    const ticket = anyOf(records.of('tickets'), random)
    if (ticket) records.change(TICKETS, ticket.id, { priority: anyOf(PRIORITIES, random) })
  },
  (records, random) => {
    const ticket = anyOf(records.of('tickets'), random)
    const label = anyOf(LABELS, random)
    const labels = (ticket?.labels as string[] | undefined) ?? []
    if (ticket && label)
      records.change(TICKETS, ticket.id, {
        labels: labels.includes(label) ? labels.filter(one => one !== label) : [...labels, label],
      })
  },
  (records, random) => {
    if (records.of('tickets').length < MOST_TICKETS) records.create(TICKETS, ticketOf(records, random))
  },
]

function comment(records: Records, random: () => number): void {
  const ticket = anyOf(records.of('tickets'), random)
  const body = anyOf(SAYINGS, random)
  if (ticket && body !== undefined) records.create(COMMENTS, { ticket: ticket.id, body }, anyOf(CREW, random))
}

function ticketOf(records: Records, random: () => number): Record<string, unknown> {
  const season = anyOf(records.of('seasons'), random)
  const programme = random() < 0.7 ? anyOf(records.of('programmes'), random) : undefined
  const day = String(1 + Math.floor(random() * 28)).padStart(2, '0')
  return {
    summary: `${anyOf(WORK, random)} ${anyOf(THINGS, random)}`,
    kind: anyOf(KINDS, random),
    status: anyOf(STATUSES, random),
    priority: anyOf(PRIORITIES, random),
    assignee: random() < 0.8 ? anyOf(CREW, random) : null,
    labels: LABELS.filter((_, i) => random() < (i === 0 ? 0.6 : 0.2)),
    season: season?.id,
    programme: programme?.id,
    start_on: `2026-11-${day}`,
    due_at: `2026-12-${day}T${random() < 0.3 ? '09:00' : '00:00'}:00Z`,
    estimate_hours: Math.ceil(random() * 16) / 2,
  }
}

export function fillRakeboard(records: Records): void {
  const random = new Random(104)
  for (const name of ['Gates and fences', 'Glass', 'Water', 'Beds'])
    records.create(PROGRAMMES, { name, about: `All that is to be done about ${name.toLowerCase()}.` })
  for (const name of ['Summer 2026', 'Autumn 2026', 'Winter 2026']) records.create(SEASONS, { name })
  for (let i = 0; i < 240; i++)
    records.create(
      TICKETS,
      ticketOf(records, () => random.next()),
    )
  for (let i = 0; i < 60; i++) comment(records, () => random.next())
}
