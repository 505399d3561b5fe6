/** Two apps that would take a record twice, and a pipeline that keeps them in step. */
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { benchbookApp } from '../../packages/stand-ins/src/apps/benchbook.ts'
import type { StandInAppDefinition } from '../../packages/stand-ins/src/apps/definition.ts'
import { rakeboardApp } from '../../packages/stand-ins/src/apps/rakeboard.ts'

const soaked = (app: StandInAppDefinition): StandInAppDefinition => ({ ...app, perMinute: 0 })

export const APPS = { a: soaked(rakeboardApp), b: soaked(benchbookApp) }

/** What each word of one side is on the other; several mean one. */
export const STAGES: [status: string, stage: string, first?: true][] = [
  ['new', 'to do'],
  ['planned', 'to do', true],
  ['in progress', 'doing'],
  ['waiting for parts', 'waiting'],
  ['done', 'finished', true],
  ['dropped', 'finished'],
]

/** Of two databases. */
export function tablesOf(from: string, to: string): TwoWayDefinition {
  return {
    ...twoWayOf(from, to),
    name: 'Members',
    lanes: [
      {
        a: 'public.members',
        b: 'site.contacts',
        originate: 'both',
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
        links: { a: 'contact', b: 'member' },
        fields: [
          { a: 'name', b: 'full_name', direction: 'both' },
          { a: 'fee', b: 'fee', direction: 'both' },
          { a: 'seen', b: 'seen', direction: 'both' },
          { a: 'note', b: 'note', direction: 'both' },
        ],
      },
    ],
  }
}

/** Of an app and a spreadsheet. */
export function sheetsOf(from: string, to: string): TwoWayDefinition {
  return {
    ...twoWayOf(from, to),
    name: 'Members of clubs',
    lanes: [
      {
        a: 'contacts',
        b: 'members',
        originate: 'both',
        conflict: 'the later',
        tie: 'b',
        first: 'b',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
        pair: [{ fields: [{ a: 'email', b: 'E-mail', alike: ['case', 'spaces'] }] }],
        fields: [
          { a: 'name', b: 'Name', direction: 'both' },
          { a: 'email', b: 'E-mail', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'role', b: 'Part', direction: 'both' },
        ],
      },
    ],
  }
}

export function twoWayOf(from: string, to: string): TwoWayDefinition {
  return {
    version: 2,
    shape: 'two-way',
    name: 'Crew tickets',
    from,
    to,
    every: 1,
    sweep: 1,
    guard: { percent: 100, records: 100_000 },
    lanes: [
      {
        a: 'tickets',
        b: 'jobs',
        originate: 'both',
        scope: {
          a: { column: 'labels', op: 'contains', value: 'growers' },
          b: { column: 'tags', op: 'contains', value: 'crew' },
        },
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
        links: { a: 'benchbook_job', b: 'ticket' },
        fields: [
          {
            a: 'summary',
            b: 'job',
            direction: 'both',
            rule: { as: 'affixed', affix: { on: 'b', before: '{id} ', behind: '' } },
          },
          {
            a: 'status',
            b: 'stage',
            direction: 'both',
            rule: {
              as: 'mapped',
              map: {
                pairs: STAGES.map(([a, b, first]) => ({ a, b, ...(first ? { first } : {}) })),
                others: 'held',
              },
            },
          },
          { a: 'labels', b: 'tags', direction: 'both', rule: { as: 'set', others: 'made there' } },
          { a: 'assignee', b: 'who', direction: 'both' },
          { a: 'notes', b: 'notes', direction: 'both', conflict: 'by line' },
          { a: 'season', b: 'season', direction: 'a to b' },
          { a: 'watchers', b: 'watchers', direction: 'a to b' },
        ],
      },
      {
        a: 'comments',
        b: 'comments',
        originate: 'both',
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
        fields: [
          { a: 'ticket', b: 'job', direction: 'both' },
          {
            a: 'body',
            b: 'body',
            direction: 'both',
            rule: { as: 'attributed', a: '{author}: ', b: '{author}: ' },
          },
        ],
      },
    ],
  }
}
