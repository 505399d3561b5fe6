import { Random } from '../world/random.ts'
import { anyOf, type ColleagueDeed } from './colleagues.ts'
import { commentsOn } from './comments.ts'
import type { StandInAppDefinition, StandInObject } from './definition.ts'
import type { Records } from './records.ts'

const trimmed = (text: string) => text.trim()
const lowered = (text: string) => text.trim().toLowerCase()

const STAGES = ['to do', 'doing', 'waiting', 'finished']
const TAGS = ['crew', 'growers', 'beds', 'water', 'glass', 'frost']

/** The growers' table app: their own tables, views of them, formulas. */
export const benchbookApp: StandInAppDefinition = {
  name: 'Benchbook',
  what: 'the growers’ own tables',
  token: 'benchbook-alder-token',
  perMinute: 300,
  deletions: 'in the list',
  calls: true,
  tables: true,
  objects: [
    {
      name: 'programmes',
      schema: 'Programmes',
      prefix: 'rowp',
      first: 1,
      batch: 10,
      findBy: ['name'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 80, unique: true, normal: trimmed },
        jobs: {
          type: 'integer',
          title: 'Jobs (formula)',
          computed: ({ id }, all) => all('jobs').filter(({ programme }) => programme === id).length,
        },
      },
    },
    {
      name: 'jobs',
      schema: 'Jobs',
      prefix: 'rowj',
      first: 1,
      batch: 10,
      findBy: ['stage'],
      fields: {
        job: { type: 'string', title: 'Job', required: true, maxLength: 200, normal: trimmed },
        stage: { type: 'string', title: 'Stage', enum: STAGES },
        tags: { type: 'array', title: 'Tags' },
        season: { type: 'string', title: 'Season', maxLength: 40 },
        programme: { type: 'string', title: 'Programme', refers: 'programmes' },
        who: { type: 'string', format: 'email', title: 'Who', normal: lowered },
        due: { type: 'string', format: 'date', title: 'Due' },
        area: { type: 'string', title: 'Area', maxLength: 60 },
        cost: { type: 'number', title: 'Cost' },
        notes: { type: 'string', title: 'Notes', maxLength: 2000 },
        watchers: { type: 'integer', title: 'Watchers' },
        files: { type: 'array', title: 'Files', files: true },
        ticket: { type: 'string', title: 'Ticket in Rakeboard', maxLength: 40 },
        cost_with_tax: {
          type: 'number',
          title: 'Cost with tax (formula)',
          computed: ({ cost }) => (typeof cost === 'number' ? Math.round(cost * 120) / 100 : null),
        },
      },
    },
    commentsOn('jobs', 'job', 'Job'),
    {
      name: 'open_jobs',
      title: 'Open jobs (a view)',
      schema: 'OpenJobs',
      prefix: 'rowj',
      batch: 0,
      findBy: [],
      fields: {
        job: { type: 'string', title: 'Job' },
        stage: { type: 'string', title: 'Stage' },
        due: { type: 'string', format: 'date', title: 'Due' },
      },
      view: { of: 'jobs', shows: ({ stage }) => stage !== 'finished' },
    },
  ],
}

const [PROGRAMMES, JOBS] = benchbookApp.objects as [StandInObject, StandInObject]

const GROWERS = ['h.ivers@example.org', 'j.kemble@example.org', 'l.moor@example.org']
const DOINGS = ['Pot on', 'Thin out', 'Label', 'Water', 'Count', 'Bring in', 'Set out']
const PLANTS = ['the willows', 'the alders', 'tray 14', 'the lavender', 'the dogwoods', 'bed 40', 'the ferns']
const FILES = ['plan-of-bed-40.pdf', 'order-of-pots.pdf', 'tray-14.jpg'].map(
  name => `https://files.example.org/growers/${name}`,
)
const MOST_JOBS = 260

/** The growers: they move jobs on, tag them, write new ones. */
export const benchbookColleagues: readonly ColleagueDeed[] = [
  (records, random) => {
    const job = anyOf(records.of('jobs'), random)
    if (job) records.change(JOBS, job.id, { stage: anyOf(STAGES, random) })
  },
  (records, random) => {
    const job = anyOf(records.of('jobs'), random)
    if (job) records.change(JOBS, job.id, { cost: Math.round(random() * 40_000) / 100 })
  },
  (records, random) => {
    const job = anyOf(records.of('jobs'), random)
    if (job) records.change(JOBS, job.id, { files: [anyOf(FILES, random)] })
  },
  (records, random) => {
    if (records.of('jobs').length < MOST_JOBS) records.create(JOBS, jobOf(records, random))
  },
]

function jobOf(records: Records, random: () => number): Record<string, unknown> {
  return {
    job: `${anyOf(DOINGS, random)} ${anyOf(PLANTS, random)}`,
    stage: anyOf(STAGES, random),
    tags: TAGS.filter((_, i) => random() < (i === 0 ? 0.15 : 0.25)),
    programme: random() < 0.5 ? anyOf(records.of('programmes'), random)?.id : null,
    who: anyOf(GROWERS, random),
    due: `2026-12-${String(1 + Math.floor(random() * 28)).padStart(2, '0')}`,
    area: anyOf(['Alderbank', 'Brackenfell', 'Cotterdale'], random),
    cost: Math.round(random() * 20_000) / 100,
  }
}

export function fillBenchbook(records: Records): void {
  const random = new Random(40)
  for (const name of ['Gates and fences', 'Water', 'Beds', 'Shows']) records.create(PROGRAMMES, { name })
  for (let i = 0; i < 90; i++)
    records.create(
      JOBS,
      jobOf(records, () => random.next()),
    )
}
