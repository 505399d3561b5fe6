import type { Definition } from '@tide/core/definition/definition'
import type { ScheduledDeed } from '@tide/core/definition/schedule'

/** What can be done with a pipeline of a shape; the first stands there at first. */
export const DEEDS_OF: Record<Definition['shape'], readonly ScheduledDeed[]> = {
  replicate: ['verify', 'count', 'catch up', 'pause', 'continue', 'recopy', 'start'],
  send: ['send', 'pause', 'continue', 'start'],
  'two-way': ['keep', 'pause', 'continue', 'start'],
}

/** What is done at a set time, and what that entails. */
export const DEEDS: Record<ScheduledDeed, { title: string; entails: string }> = {
  verify: {
    title: 'Verify',
    entails: 'Every row is read on both sides; it waits while the pipeline is more than a minute behind.',
  },
  count: { title: 'Count', entails: 'Rows are counted on both sides, where the numbers are to be the same.' },
  'catch up': {
    title: 'Catch up, then rest',
    entails:
      'It goes on until all that its source has by then has landed, and is paused. The journal keeps what comes meanwhile.',
  },
  pause: {
    title: 'Pause',
    entails: 'It stands still, also in the middle of a copy, which goes on from there.',
  },
  continue: { title: 'Continue', entails: 'It goes on where it was paused.' },
  recopy: {
    title: 'Recopy',
    entails: 'Its tables are emptied and copied again; those who query them see a part meanwhile.',
  },
  send: { title: 'Send', entails: 'What differs from what was sent last goes into the app.' },
  keep: {
    title: 'Make a restore point',
    entails: 'The joined fields of the records on both sides are kept; of ten, the oldest goes.',
  },
  start: {
    title: 'Start again',
    entails:
      'For one that copies once, or was stopped: it is planned and copied anew, unless the plan has something to settle.',
  },
}
