/** Ready-made lanes, by what the apps are called. */
import type { TwoWayLane } from '../definition/two-way.ts'
import type { Side } from '../merge/rule.ts'

/** What a side is called that is any database. */
export const A_DATABASE = 'a database'

export interface StarterLanes {
  apps: Record<Side, string>
  /** What is kept in step, in words. */
  title: string
  /** Places and fields by their names or their titles; those that are not there can be made so. */
  lanes: TwoWayLane[]
}

export const STARTERS: readonly StarterLanes[] = [
  {
    apps: { a: 'Rakeboard', b: 'Benchbook' },
    title: 'Tickets of a crew and jobs of a table, with their comments and programmes',
    lanes: [
      {
        a: 'tickets',
        b: 'jobs',
        originate: 'both',
        scope: {
          a: { all: [{ column: 'labels', op: 'contains', value: 'growers' }] },
          b: { all: [{ column: 'tags', op: 'contains', value: 'crew' }] },
        },
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
                pairs: [
                  { a: 'new', b: 'to do' },
                  { a: 'planned', b: 'to do', first: true },
                  { a: 'in progress', b: 'doing' },
                  { a: 'waiting for parts', b: 'waiting' },
                  { a: 'done', b: 'finished', first: true },
                  { a: 'dropped', b: 'finished' },
                ],
                others: 'held',
              },
            },
          },
          { a: 'labels', b: 'tags', direction: 'both' },
          { a: 'season', b: 'season', direction: 'a to b', against: 'put back' },
          { a: 'programme', b: 'programme', direction: 'both' },
          { a: 'assignee', b: 'who', direction: 'both' },
          { a: 'due_at', b: 'due', direction: 'both' },
          { a: 'notes', b: 'notes', direction: 'both', conflict: 'by line' },
          { a: 'watchers', b: 'watchers', direction: 'a to b' },
          { a: 'links', b: 'files', direction: 'b to a' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'the later',
        pair: [{ fields: [{ a: 'summary', b: 'job', alike: ['case', 'spaces'] }] }],
        links: { a: 'benchbook_job', b: 'ticket' },
      },
      {
        a: 'comments',
        b: 'comments',
        originate: 'both',
        fields: [
          { a: 'ticket', b: 'job', direction: 'both' },
          {
            a: 'body',
            b: 'body',
            direction: 'both',
            rule: {
              as: 'attributed',
              a: '{author}, {created_at}: ',
              b: '{author}, {created_at}: ',
            },
          },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'the later',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
      },
      {
        a: 'programmes',
        b: 'programmes',
        originate: 'a',
        fields: [{ a: 'name', b: 'name', direction: 'both' }],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        pair: [{ fields: [{ a: 'name', b: 'name', alike: ['case', 'spaces'] }] }],
      },
    ],
  },
  {
    apps: { a: 'Clubgate', b: 'Rowsheet' },
    title: 'Members of clubs and the office’s list of them, with the clubs',
    lanes: [
      {
        a: 'contacts',
        b: 'members',
        originate: 'both',
        scope: { a: { column: 'organisation', isNull: false } },
        fields: [
          { a: 'name', b: 'Name', direction: 'both' },
          { a: 'email', b: 'E-mail', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'organisation', b: 'Club', direction: 'both' },
          { a: 'role', b: 'Part', direction: 'both' },
        ],
        conflict: 'the later',
        tie: 'b',
        first: 'b',
        pair: [{ fields: [{ a: 'email', b: 'E-mail', alike: ['case', 'spaces'] }] }],
      },
      {
        a: 'organisations',
        b: 'clubs',
        originate: 'a',
        fields: [
          { a: 'name', b: 'Club', direction: 'both' },
          { a: 'club_number', b: 'Number', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'joined_on', b: 'Joined on', direction: 'a to b', against: 'put back' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'fill what is empty',
        pair: [{ fields: [{ a: 'club_number', b: 'Number', alike: ['case', 'spaces'] }] }],
      },
    ],
  },
  {
    apps: { a: 'Clubgate', b: 'Benchbook' },
    title: 'Clubs and their people as tables of the growers',
    lanes: [
      {
        a: 'organisations',
        b: 'Clubs',
        originate: 'a',
        fields: [
          { a: 'name', b: 'Name', direction: 'both' },
          { a: 'club_number', b: 'Club number', direction: 'a to b', against: 'put back' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'tier', b: 'Tier', direction: 'a to b', against: 'put back' },
          { a: 'orders_this_year', b: 'Orders this year', direction: 'a to b', against: 'put back' },
          { a: 'note', b: 'Note', direction: 'both' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        pair: [{ fields: [{ a: 'club_number', b: 'Club number', alike: ['case', 'spaces'] }] }],
        links: { b: 'Club in Clubgate' },
      },
      {
        a: 'contacts',
        b: 'People of clubs',
        originate: 'a',
        scope: { a: { column: 'organisation', isNull: false } },
        fields: [
          { a: 'name', b: 'Name', direction: 'both' },
          { a: 'email', b: 'E-mail', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'role', b: 'Role', direction: 'a to b', against: 'put back' },
          { a: 'organisation', b: 'Club', direction: 'a to b', against: 'put back' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        pair: [{ fields: [{ a: 'email', b: 'E-mail', alike: ['case', 'spaces'] }] }],
        links: { b: 'Contact in Clubgate' },
      },
    ],
  },
  {
    apps: { a: 'Rakeboard', b: 'a database' },
    title: 'Tickets of a crew and their programmes as tables of the database',
    lanes: [
      {
        a: 'tickets',
        b: 'crew_tickets',
        originate: 'a',
        fields: [
          { a: 'summary', b: 'summary', direction: 'both' },
          { a: 'status', b: 'status', direction: 'both' },
          { a: 'labels', b: 'labels', direction: 'both' },
          { a: 'assignee', b: 'assignee', direction: 'both' },
          { a: 'programme', b: 'programme', direction: 'a to b', against: 'put back' },
          { a: 'due_at', b: 'due_at', direction: 'both' },
          { a: 'notes', b: 'notes', direction: 'both' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        links: { b: 'rakeboard_key' },
      },
      {
        a: 'programmes',
        b: 'crew_programmes',
        originate: 'a',
        fields: [{ a: 'name', b: 'name', direction: 'both' }],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        links: { b: 'rakeboard_key' },
      },
    ],
  },
]
